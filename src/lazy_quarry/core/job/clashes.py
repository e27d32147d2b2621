"""File names of tasks, and whether two tasks would write one file: decided by the parts of the name, not task by task."""

import re
from collections.abc import Mapping, Sequence
from itertools import pairwise

from lazy_quarry.core.job.sweep import Array, Parameter
from lazy_quarry.core.paths import filled_path

MOST_WRITTEN_OUT = 10_000
"""Number of tasks that are compared one by one where the parts of a name alone don't decide."""
_PARTS = re.compile(r"\{([^{}]+)\}")
_USE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_NAMED = {"LQ_TASK": "task", "LQ_NAME": "name"}


def template_of(word: str, array: Array) -> str:
    """A shell's word as a path with placeholders; empty where only running it tells, or where it is no file of a task's."""
    bare = word[1:-1] if word[:1] in ("'", '"') and word[-1:] == word[:1] and len(word) > 1 else word
    path = (
        bare
        if word.startswith("'")
        else _USE.sub(lambda use: f"{{{_NAMED.get(use[1] or use[2], use[1] or use[2])}}}", bare)
    )
    unknown = set(_PARTS.findall(path)) - {*array.names, "task", "name"}
    if unknown or any(sign in path for sign in "$`*?'\"\\~") or path.startswith(("/dev/", "&")):
        return ""
    return path


def filled(line: str, words: Mapping[str, str]) -> str:
    """A line of a shell script with variables filled in, except between single quotes."""
    pieces, quoted, at = [], False, 0
    double = False
    while at < len(line):
        sign = line[at]
        if sign == "\\" and not quoted:
            pieces.append(line[at : at + 2])
            at += 2
            continue
        if sign == '"' and not quoted:
            double = not double
        elif sign == "'" and not double:
            quoted = not quoted
        elif sign == "$" and not quoted and (use := _USE.match(line, at)) and (use[1] or use[2]) in words:
            pieces.append(words[use[1] or use[2]])
            at = use.end()
            continue
        pieces.append(sign)
        at += 1
    return "".join(pieces)


def first_clash(array: Array, template: str) -> tuple[int, int] | None:
    """The places (from 0) of two tasks whose files have one name, or None when all differ."""
    if array.count < 2 or "{task}" in template:
        return None
    named = set(_PARTS.findall(template))
    before = array.count
    for group in array.groups:
        size = len(group[0].values)
        before //= size
        pair = _alike([one for one in group if one.name in named], size)
        if pair is not None:  # all other groups at their first values
            return pair[0] * before, pair[1] * before
    if not array.groups:
        return 0, 1
    return None if _apart(template, array) else _written_out(array, template)


def _alike(group: Sequence[Parameter], size: int) -> tuple[int, int] | None:
    """The first two places of a group at which the parameters that a name holds are the same."""
    seen: dict[tuple[str, ...], int] = {}
    for at in range(size):
        values = tuple(one.values[at].replace("/", "-") for one in group)
        if values in seen:
            return seen[values], at
        seen[values] = at
    return None


def _apart(template: str, array: Array) -> bool:
    """True when the text between the placeholders tells where each value ends: then different values make different names."""
    pieces = _PARTS.split(template)
    values = {one.name: one.values for group in array.groups for one in group}
    varying = [at for at in range(1, len(pieces), 2) if pieces[at] in values]
    for at, following in pairwise(varying):
        between = "".join(pieces[at + 1 : following])
        mark = between[:1]
        if not mark or any(mark in value for value in values[pieces[at]]):
            return False
    return True


def _written_out(array: Array, template: str) -> tuple[int, int] | None:
    seen: dict[str, int] = {}
    for at in range(min(array.count, MOST_WRITTEN_OUT)):
        name = filled_path(template, array.values(at))
        if name in seen:
            return seen[name], at
        seen[name] = at
    return None
