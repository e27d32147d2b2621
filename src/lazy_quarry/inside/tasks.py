"""The tasks of a spread: parameters in the words of sweeps, crossed, the last one fastest. A task is made when it is needed."""

from __future__ import annotations

import csv
import glob
import re
import sys
from collections.abc import Iterable, Sequence
from decimal import Decimal
from functools import reduce
from itertools import islice

from lazy_quarry.inside.helper import Refused

MOST_TASKS = 10_000_000
_NUMBER = r"\d{1,15}(?:\.\d{1,15})?"
_RANGE = re.compile(rf"(-?{_NUMBER})\s*\.\.\s*(-?{_NUMBER})(?:\s+by\s+({_NUMBER}))?", re.ASCII)
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*", re.ASCII)
Group = list[tuple[str, Sequence[str]]]
"""Parameters that go in step: (name, values), all equally many."""


class Tasks:
    """All tasks: groups of parameters that go in step, crossed with one another. Places count from 0."""

    def __init__(self, groups: list[Group]) -> None:
        self.groups = groups
        self.count = reduce(lambda count, group: count * len(group[0][1]), groups, 1)
        names = [name for group in groups for name, _ in group]
        if twice := next((name for name in names if names.count(name) > 1), None):
            raise Refused(f"{twice} is given twice")
        if self.count > MOST_TASKS:
            raise Refused(f"those are {self.count:,} tasks; {MOST_TASKS:,} is the most")
        self.names = names
        self._placeholder = re.compile("|".join(re.escape(f"{{{name}}}") for name in ("task", *names)))

    def values(self, place: int) -> dict[str, str]:
        """The parameters of a task, by name."""
        found: dict[str, str] = {}
        for group in reversed(self.groups):
            place, at = divmod(place, len(group[0][1]))
            for name, values in reversed(group):
                found[name] = values[at]
        return dict(reversed(found.items()))

    def filled(self, words: Iterable[str], place: int, values: dict[str, str]) -> list[str]:
        """A command with the parameters of a task, and its number, in the place of their names."""
        known = {"{task}": str(place + 1), **{f"{{{name}}}": value for name, value in values.items()}}
        return [self._placeholder.sub(lambda found: known[found[0]], word) for word in words]


def tasks_of(withs: Sequence[str], table: str | None, lines: str | None, together: Sequence[str]) -> Tasks:
    """The tasks that the options tell: a table, lines of a file, and parameters, in this order.

    Raises :class:`Refused` with what is wrong.
    """
    groups: list[Group] = []
    if table is not None:
        groups.append(_table(table))
    if lines is not None:
        groups.append([("line", _lines(lines))])
    groups += [[_parameter(word)] for word in withs]
    for names in together:
        groups = _tied(groups, [name.strip() for name in names.split(",") if name.strip()])
    if not groups:
        raise Refused("there is nothing to spread: give --with NAME=V,V, --table F.csv or --lines F")
    return Tasks(groups)


def _parameter(word: str) -> tuple[str, Sequence[str]]:
    name, equals, text = word.partition("=")
    if not equals or not _NAME.fullmatch(name) or name == "task" or name.startswith("LQ_"):
        raise Refused(f'--with "{word}" is not NAME=V,V, with a name that a shell variable could have')
    kind, _, rest = text.partition(" ")
    if kind == "range" and rest.strip():
        return name, _range(rest.strip())
    if kind == "files" and rest.strip():
        found = sorted(glob.glob(rest.strip()))
        if not found:
            raise Refused(f'{name}: no file matches "{rest.strip()}"')
        return name, found
    values = next(csv.reader([text]), [])
    if not values:
        raise Refused(f"{name} has no values")
    return name, values


def _range(text: str) -> Sequence[str]:
    match = _RANGE.fullmatch(text)
    if match is None:
        raise Refused(f'"{text}" is not a range; write it like "0.1..0.9 by 0.2"')
    first, last, step = Decimal(match[1]), Decimal(match[2]), Decimal(match[3] or "1")
    if step == 0 or last < first:
        raise Refused(f'"{text}" ' + ("has a step of zero" if step == 0 else "runs backwards"))
    count = int((last - first) / step) + 1
    if count > MOST_TASKS:
        raise Refused(f'"{text}" are more than {MOST_TASKS:,} values')
    return [str(first + number * step) for number in range(count)]


def _open(path: str, newline: str | None = None):  # type: ignore[no-untyped-def]
    try:
        return sys.stdin if path == "-" else open(path, encoding="utf-8", errors="surrogateescape", newline=newline)
    except OSError as fault:
        raise Refused(f"{path} cannot be read: {fault.strerror}") from None


def _lines(path: str) -> Sequence[str]:
    with _open(path) as file:
        try:
            found = [line for line in (each.strip() for each in islice(file, MOST_TASKS + 1)) if line]
        except OSError as fault:
            raise Refused(f"{path} cannot be read: {fault.strerror}") from None
    if not found:
        raise Refused(f"{path} has no lines")
    return found


def _table(path: str) -> Group:
    with _open(path, "") as file:
        try:
            rows = list(csv.reader(file))
        except (OSError, csv.Error) as fault:
            raise Refused(f"{path} cannot be read: {getattr(fault, 'strerror', None) or fault}") from None
    heads = [head.strip() for head in rows[0]] if rows else []
    if bad := next((head for head in heads if not _NAME.fullmatch(head) or head == "task"), None if heads else path):
        raise Refused(f'{path}: "{bad}" is no name that a parameter could have; the first line names the columns')
    body = [row for row in rows[1:] if any(cell.strip() for cell in row)]
    if not body:
        raise Refused(f"{path} has no rows below its heads")
    for number, row in enumerate(body, 1):
        if len(row) != len(heads):
            raise Refused(f"{path}: row {number} has {len(row)} cells, and there are {len(heads)} columns")
    return [(head, [row[at].strip() for row in body]) for at, head in enumerate(heads)]


def _tied(groups: list[Group], names: list[str]) -> list[Group]:
    """The groups with those that have these names as one, where the first of them stands."""
    known = [name for group in groups for name, _ in group]
    if missing := next((name for name in names if name not in known), None):
        raise Refused(f"--together {','.join(names)}: there is no parameter {missing}")
    chosen = [group for group in groups if any(name in names for name, _ in group)]
    lengths = {name: len(values) for group in chosen for name, values in group}
    if len(set(lengths.values())) > 1:
        told = ", ".join(f"{name} has {length}" for name, length in lengths.items())
        raise Refused(f"--together {','.join(names)}: they must have equally many values; {told}")
    tied = [one for group in chosen for one in group]
    return [tied if group is chosen[0] else group for group in groups if group is chosen[0] or group not in chosen]
