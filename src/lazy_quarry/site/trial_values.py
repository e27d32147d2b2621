"""Trials: which sizes are tried, and jobs' views as trials, for advice."""

import re
from collections.abc import Iterable, Sequence

from lazy_quarry.core.advice.found_value import number_in
from lazy_quarry.core.advice.from_trials import Asked, Tried, advise
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.errors import BadValue
from lazy_quarry.views.job_view import JobView

MOST_SIZES = 5


def tried(view: JobView, parameter: str = "") -> Tried:
    """A job's view as a trial; with a parameter, its size by that."""
    took_s = view.attempt_ms / 1000
    size = number_in(dict(view.parameters).get(parameter)) if parameter else None
    return Tried(view.phase, took_s, view.cores, view.use.cpu_ms / 1000, view.memory_mib, view.memory_peak_mib, size)


def advised_of(views: Sequence[JobView], asked: Asked) -> list[tuple[str, str | int]]:
    """The header keys that trials advise to change, with what they should say."""
    found = advise([tried(view, asked.parameter) for view in views], asked)
    return [(one.key, one.value) for one in found if one.value is not None]


def sizes_in(words: Sequence[str]) -> tuple[str, list[dict[str, str]]]:
    """From ``name=value`` words the parameters of each trial, and the name of that which is tried in several sizes, or "".

    Several sizes are ``cells=2,4,8``. Raises :class:`BadValue` for anything else.
    """
    several, fixed = dict[str, list[str]](), dict[str, str]()
    for word in words:
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise BadValue(f'"{word}" is neither a task\'s number nor name=value')
        parts = [part for part in value.split(",") if part]
        if len(parts) > 1 and all(number_in(part) is not None for part in parts):
            several[name] = parts
        else:
            fixed[name] = value
    if len(several) > 1:
        raise BadValue(f"one parameter is tried in several sizes, not {' and '.join(several)}")
    for name, parts in several.items():
        if len(parts) > MOST_SIZES:
            raise BadValue(f"at most {MOST_SIZES} sizes of {name} are tried")
        return name, [{**fixed, name: part} for part in parts]
    return "", [fixed] if fixed else []


def has_sizes(script: str) -> bool:
    """True when a script has a size with a value of its own, as ``${cells:-200}``, which may be tried with others."""
    return re.search(r"\$\{\w+:[-=]\d", script) is not None


def unused_in(script: str, names: Iterable[str]) -> str:
    """The first of these variables that a script doesn't read, or empty."""
    for name in names:
        if not re.search(rf"\$\{{?{re.escape(name)}(?!\w)|[\"']{re.escape(name)}[\"']", script):
            return name
    return ""


def asked_of(
    walltime_s: int, parameter: str, script: str, array: Array | None = None, whole: float | None = None
) -> Asked:
    """The request of the whole: its size is ``whole``, or the largest of a sweep's values, or what ``${name:-200}`` says."""
    told = re.findall(rf"\$\{{{re.escape(parameter)}:[-=]([^}}]*)\}}", script) if parameter else []
    if array is not None:
        told = [value for group in array.groups for one in group if one.name == parameter for value in one.values]
    numbers = [number for value in told if (number := number_in(value)) is not None]
    return Asked(walltime_s, parameter, whole if whole is not None else max(numbers, default=None))
