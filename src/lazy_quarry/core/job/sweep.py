"""Arrays and sweeps: which tasks there are, and with which parameters. A task is computed only when it is needed.

A sweep's parameters are crossed, the last one fastest; those tied ``together`` go in step. What files say
comes in as text, so the same sweep always has the same tasks.
"""

import csv
import io
import re
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from math import gcd, lcm, prod
from typing import Any

from msgspec import Struct

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.errors import BadValue

MOST_TASKS = 10_000_000
MOST_VALUES = 1_000_000
MOST_BESIDE = 200
MOST_VALUE = 120_000
"""Letters of a value: it becomes a variable, and execve(2) takes 128 KiB for one with its name."""
"""Number of ranges of tasks that may go through one another, as ``0..90 by 10`` and ``5..95 by 10`` do."""
_RANGE = re.compile(r"(\d{1,9})(?:\s*\.\.\s*(\d{1,9}))?(?:\s+by\s+(\d{1,9}))?")
_NUMBER = r"\d{1,15}(?:\.\d{1,15})?"
_DECIMALS = re.compile(rf"(-?{_NUMBER})\s*\.\.\s*(-?{_NUMBER})(?:\s+by\s+({_NUMBER}))?")


class Parameter(Struct, frozen=True):
    """A name and the values it takes, as text."""

    name: str
    values: tuple[str, ...]


class Array(Struct, frozen=True):
    """A job of many tasks. ``rows`` are (first, last, step) of task numbers; ``groups`` are crossed parameters.

    Each group holds parameters that go in step; a plain one is a group of its own.
    """

    rows: tuple[tuple[int, int, int], ...]
    at_once: int | None = None
    groups: tuple[tuple[Parameter, ...], ...] = ()
    each_node: str = ""
    nodes: tuple[str, ...] = ()
    """With ``each_node``, the node of each task."""

    @property
    def count(self) -> int:
        """Number of tasks."""
        return sum((last - first) // step + 1 for first, last, step in self.rows)

    @property
    def names(self) -> tuple[str, ...]:
        """The parameters' names, in the order they were given."""
        return tuple(parameter.name for group in self.groups for parameter in group)

    def number(self, index: int) -> int:
        """The number of the task at a place, from 0."""
        for first, last, step in self.rows:
            here = (last - first) // step + 1
            if index < here:
                return first + index * step
            index -= here
        raise IndexError(index)

    def index(self, number: int) -> int | None:
        """The place of the task with this number, or None when there is none."""
        before = 0
        for first, last, step in self.rows:
            if first <= number <= last and (number - first) % step == 0:
                return before + (number - first) // step
            before += (last - first) // step + 1
        return None

    def only(self, indexes: Iterable[int]) -> "Array":
        """The array of some of its tasks, by their places from 0: they keep their numbers, parameters and nodes."""
        places = sorted(set(indexes))
        rows: list[tuple[int, int, int]] = []
        for number in map(self.number, places):
            if rows and rows[-1][1] + 1 == number:
                rows[-1] = rows[-1][0], number, 1
            else:
                rows.append((number, number, 1))
        values = [self.values(place) for place in places]
        tied = tuple(Parameter(name, tuple(one[name] for one in values)) for name in self.names)
        nodes = tuple(self.nodes[place] for place in places) if self.nodes else ()
        return Array(tuple(rows), self.at_once, (tied,) if tied else (), self.each_node, nodes)

    def values(self, index: int) -> dict[str, str]:
        """The parameters of the task at a place, from 0, by name."""
        found: dict[str, str] = {}
        for group in reversed(self.groups):
            index, at = divmod(index, len(group[0].values))
            found = {parameter.name: parameter.values[at] for parameter in group} | found
        return found


def parse_tasks(text: str) -> tuple[tuple[int, int, int], ...]:
    """``"1..40"``, ``"0..90 by 10"``, ``"1, 4, 9..12"`` as (first, last, step), ends included."""
    rows: list[tuple[int, int, int]] = []
    for piece in text.split(","):
        match = _RANGE.fullmatch(piece.strip())
        told = shortened(piece.strip())
        if not match or (match[3] and not match[2]) or (match[3] and int(match[3]) == 0):
            raise BadValue(f'"{told}" is not a range of tasks; write "1..40", "0..90 by 10" or "1, 4, 9..12"')
        first, last, step = int(match[1]), int(match[2] or match[1]), int(match[3] or 1)
        if last < first:
            raise BadValue(f'"{told}" runs backwards; write "{last}..{first}"')
        rows.append((first, last - (last - first) % step, step))
    if sum((last - first) // step + 1 for first, last, step in rows) > MOST_TASKS:
        raise BadValue(f"that is more than {MOST_TASKS:,} tasks")
    _none_twice(rows)
    return tuple(rows)


def _none_twice(rows: list[tuple[int, int, int]]) -> None:
    """Raises :class:`BadValue` when two rows have a task in common. The rows are compared as such, without their tasks."""
    reaching: list[tuple[int, int, int]] = []
    for row in sorted(rows):
        reaching = [other for other in reaching if other[1] >= row[0]]
        for other in reaching:
            if (both := _first_in_both(other, row)) is not None:
                raise BadValue(f"task {both} is named twice")
        if len(reaching) >= MOST_BESIDE:
            raise BadValue(f"more than {MOST_BESIDE} ranges of tasks go through one another; write fewer")
        reaching.append(row)


def _first_in_both(one: tuple[int, int, int], other: tuple[int, int, int]) -> int | None:
    """The least number that is in two rows (first, last, step), or None."""
    (first, last, step), (begin, end, stride) = one, other
    common = gcd(step, stride)
    if (begin - first) % common:
        return None
    # begin + k·stride ≡ first modulo step, solved for the least k
    times = (first - begin) // common * pow(stride // common, -1, step // common) % (step // common)
    meeting = begin + times * stride
    meeting += max(0, -(-(first - meeting) // lcm(step, stride))) * lcm(step, stride)
    return meeting if meeting <= min(last, end) else None


def parse_values(text: str) -> tuple[str, ...]:
    """The decimals of ``"0.1..0.9 by 0.2"``, ends included, with as many places as were written."""
    match = _DECIMALS.fullmatch(text.strip())
    if not match:
        raise BadValue(f'"{shortened(text)}" is not a range; write it like "0.1..0.9 by 0.2"')
    try:
        first, last, step = Decimal(match[1]), Decimal(match[2]), Decimal(match[3] or "1")
    except InvalidOperation:
        raise BadValue(f'"{text}" is not a range of numbers') from None
    if step == 0:
        raise BadValue(f'"{text}" has a step of zero')
    if last < first:
        raise BadValue(f'"{text}" runs backwards')
    count = int((last - first) / step) + 1
    if count > MOST_VALUES:
        raise BadValue(f'"{text}" are more than {MOST_VALUES:,} values')
    return tuple(str(first + number * step) for number in range(count))


def files_of(table: Mapping[str, Any]) -> list[tuple[str, str]]:
    """The files that the parameters of an ``[array.sweep]`` need: ("file", path) and ("pattern", text)."""
    wanted: list[tuple[str, str]] = []
    for value in table.values():
        if isinstance(value, Mapping):
            wanted += [("file", str(value[key])) for key in ("lines", "of") if key in value]
            wanted += [("pattern", str(value["files"]))] if "files" in value else []
    return wanted


def _column(name: str, text: str, path: str) -> tuple[str, ...]:
    rows = list(csv.reader(io.StringIO(text)))
    heads = [head.strip() for head in rows[0]] if rows else []
    if name not in heads:
        raise BadValue(f'{path} has no column "{name}"; it has {", ".join(heads) or "nothing"}')
    at = heads.index(name)
    return tuple(row[at].strip() for row in rows[1:] if len(row) > at)


def _values(value: Any, texts: Mapping[str, str], matches: Mapping[str, Sequence[str]]) -> tuple[str, ...]:
    if isinstance(value, list):
        return tuple(str(item) for item in value)
    if "range" in value:
        return parse_values(value["range"])
    if "files" in value:
        pattern = value["files"]
        if not matches.get(pattern):
            raise BadValue(f'no file matches "{shortened(pattern)}"')
        return tuple(matches[pattern])
    path = value.get("lines") or value["of"]
    if path not in texts:
        raise BadValue(f"{path} cannot be read where the job would start")
    if "column" in value:
        return _column(value["column"], texts[path], path)
    return tuple(line for line in (each.strip() for each in texts[path].splitlines()) if line)


def make_array(
    table: Mapping[str, Any], texts: Mapping[str, str], matches: Mapping[str, Sequence[str]], nodes: Sequence[str] = ()
) -> Array:
    """An array as an ``[array]`` table says it. Raises :class:`BadValue` naming the parameter that is wrong.

    ``texts`` are the files named, by path; ``matches`` the files that patterns meet; ``nodes`` those that
    an ``each-node`` expression meets.
    """
    sweep = dict(table.get("sweep", {}))
    together = sweep.pop("together", [])
    parameters: dict[str, Parameter] = {}
    for name, value in sweep.items():
        try:
            values = _values(value, texts, matches)
        except BadValue as fault:
            raise BadValue(f"{name}: {fault}", ("sweep", name)) from None
        if not values:
            raise BadValue(f"{name} has no values", ("sweep", name))
        if (size := len(max(values, key=len))) > MOST_VALUE:
            raise BadValue(
                f"{name} has a value of {size:,} letters, and a program can be given {MOST_VALUE:,} in one; sweep over "
                f"names of files instead",
                ("sweep", name),
            )
        parameters[name] = Parameter(name, values)
    groups = _groups(parameters, together)
    rows: tuple[tuple[int, int, int], ...]
    if groups:
        if "tasks" in table or "each-node" in table:
            raise BadValue("a sweep numbers its own tasks; leave tasks and each-node out, or the sweep")
        count = prod(len(group[0].values) for group in groups)
        if count > MOST_TASKS:
            raise BadValue(f"the sweep comes to {shortened(f'{count:,}', 30)} tasks; {MOST_TASKS:,} is the most")
        rows = ((1, count, 1),)
    elif "each-node" in table:
        if "tasks" in table:
            raise BadValue("tasks and each-node don't go together; each-node makes one task for every node")
        if not nodes:
            raise BadValue(f'no node meets each-node = "{table["each-node"]}"')
        rows = ((1, len(nodes), 1),)
    elif "tasks" in table:
        rows = parse_tasks(table["tasks"])
    else:
        raise BadValue('an array says which tasks it has: tasks = "1..40", a [array.sweep], or each-node')
    each = table.get("each-node", "")
    return Array(rows, table.get("at-once"), groups, each, tuple(nodes) if each else ())


def _groups(parameters: dict[str, Parameter], together: Sequence[Sequence[str]]) -> tuple[tuple[Parameter, ...], ...]:
    tied: dict[str, int] = {}
    for number, names in enumerate(together):
        for name in names:
            if name not in parameters:
                raise BadValue(f"together names {name}, which is no parameter here")
            if name in tied:
                raise BadValue(f"together names {name} twice")
            tied[name] = number
        sizes = {name: len(parameters[name].values) for name in names}
        if len(set(sizes.values())) > 1:
            told = ", ".join(f"{name} {size}" for name, size in sizes.items())
            raise BadValue(f"parameters that go together need equally many values; they have {told}")
    groups: list[tuple[Parameter, ...]] = []
    placed: set[str] = set()
    for name in parameters:
        if name in placed:
            continue
        names = together[tied[name]] if name in tied else [name]
        groups.append(tuple(parameters[one] for one in parameters if one in names))
        placed |= set(names)
    return tuple(groups)
