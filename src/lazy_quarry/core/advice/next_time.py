"""The next request, from all comparable runs: bounds that a further run stays below, but for one in fifty; and where that holds.

Values are first brought to the size of the run to come (:class:`Growth`) and to the present (:mod:`.run_course`); the bound
of what remains is that of :mod:`.prediction_bound`.
"""

from collections.abc import Sequence
from enum import StrEnum
from math import ceil, log, sqrt

from msgspec import Struct

from lazy_quarry.core.advice.found_value import number_in
from lazy_quarry.core.advice.prediction_bound import (
    ENOUGH,
    FEW,
    LITTLE,
    MANY,
    amount,
    bound_with_stopped,
    bound_within,
)
from lazy_quarry.core.advice.run_course import Course, Courses, courses_of
from lazy_quarry.core.advice.straight_line import StraightLine, line_through

MISS = 0.02
"""Share of further runs that may pass the bound."""
FAILED_MARGIN = 1.3
"""A bound is so many times above what was seen to fail."""
AFTER_STOPS = (2.0, 4.0, 8.0)
"""After one, two, three stops in a row, each with more than before, so many times the last."""
MOST_ABOVE_FEW, MOST_ABOVE = 2.0, 4.0
"""Where half were stopped the bound is at most so many times the greatest: with fewer than five others, and with more. Where fewer
were, less."""
MOST_STOPPED = 0.3
"""No promise where more of them were stopped, below :data:`MANY`."""
LEAST_GROWTH, ALIKE = 0.25, 0.7
"""A power below which nothing is said to grow, and the correlation from which on it is."""
MOST_TASKS, ALIKE_TASKS = 1 / 20, 0.3
"""For more tasks than this part of the runs nothing is promised where the logarithms deviate by more than that: the longest
of many tasks is longer than any of a few runs."""
BEYOND = 1.01
"""A size is beyond those seen when it is more than so many times the greatest."""
FAR_ABOVE, SELDOM = 2.0, 0.1
"""Runs are told apart that took so many times as long as all others, where at most this part of them did."""

Parameters = tuple[tuple[str, str], ...]


class Doubt(StrEnum):
    """The reason why nothing is promised of a bound."""

    FEW = "few"
    SPREAD = "spread"
    STOPPED = "stopped"
    BEYOND = "beyond"
    TASKS = "tasks"
    ONLY_STOPPED = "only stopped"


class RunToLearnFrom(Struct, frozen=True):
    """A run of the past: seconds it took, memory in MiB for each core, cores held and kept busy; what was asked for of each.

    ``late`` and ``full`` are runs that were stopped at their walltime, or for their memory: they needed more than they have here.
    ``began_ms`` is the instant when it began, ``submission`` what tasks of one array have in common; 0 for a run by itself.
    """

    took_s: float
    memory_mib: float
    cores: int
    busy: float
    walltime_s: int
    requested_mib: float
    late: bool = False
    full: bool = False
    parameters: Parameters = ()
    began_ms: int = 0
    submission: int = 0


class Measured(Struct, frozen=True):
    """A measure of one run: its value, or what it had when that was not ``enough``."""

    value: float
    enough: bool = True
    parameters: Parameters = ()
    began_ms: int = 0
    submission: int = 0


class Growth(Struct, frozen=True):
    """A measure grows with a parameter: about as its ``power``-th power. ``at`` is the value that the bound is for.

    ``beyond``: that is more than was seen; of the power law and a straight line with an offset the greater is taken there.
    """

    parameter: str
    power: float
    at: float
    beyond: bool = False


class Change(Struct, frozen=True):
    """A change over time: ``factor`` times as much since ``since_ms``, with ``runs`` since; or, with ``each``, from run to run."""

    factor: float
    since_ms: int
    runs: int
    each: bool = False


class ForMost(Struct, frozen=True):
    """The bound without the few runs that are far above all others: ``count`` of ``runs`` were below ``most``."""

    value: float
    count: int
    runs: int
    most: float


class LeastAmount(Struct, frozen=True):
    """A bound for a further run: from how many runs, their least and greatest, and what it follows."""

    value: float
    runs: int
    least: float
    most: float
    growth: Growth | None = None
    change: Change | None = None
    above_failed: bool = False
    """It is this high for what was seen to fail."""
    doubt: Doubt | None = None
    """None: at most :data:`MISS` of further runs pass it."""
    for_most: ForMost | None = None
    stopped_in_row: int = 0
    """Number of the newest runs that were all stopped."""
    above: int = 0
    """Number of runs that were above it: of very many, so few that the promise holds without them."""

    @property
    def only_failed(self) -> bool:
        """True when no run had enough; the least and greatest are what they had."""
        return self.doubt is Doubt.ONLY_STOPPED


def bound_of(runs: Sequence[Measured], ahead: Sequence[Parameters] = ()) -> LeastAmount | None:
    """The bound for further runs; None without any run. ``runs``: the newest first; ``ahead``: parameters of those to come."""
    known = [one for one in runs if one.enough]
    if not runs:
        return None
    failed = [one.value for one in runs if not one.enough]
    in_row = next((at for at, one in enumerate(runs) if one.enough), len(runs))
    raised = _raised(runs)
    if not known:
        value = max(max(failed) * FAILED_MARGIN, raised)
        doubt = Doubt.ONLY_STOPPED
        return LeastAmount(
            value, len(runs), min(failed), max(failed), above_failed=True, doubt=doubt, stopped_in_row=in_row
        )
    values = [max(one.value, 1e-9) for one in known]
    fit = _growth([one.parameters for one in known], values, ahead)
    groups = _together(runs)
    in_order = [one for group in groups for one in group]
    logs = [log(max(one.value, 1e-9)) - (fit.at(one.parameters) if fit else 0.0) for one in in_order]
    courses = courses_of(logs, [len(group) for group in groups])
    apart, stopped = fit.apart if fit else 0.0, [not one.enough for one in in_order]
    found, course = _bound(courses, logs, stopped, max(1, len(ahead)), apart), courses.told
    found = amount(found + (fit.ahead if fit else 0.0))
    reached = max(max(failed, default=0.0) * FAILED_MARGIN, raised)
    alone = not fit and not failed and course.since == 0 and not course.slope
    return LeastAmount(
        max(found, reached),
        len(runs),
        min(values),
        max(values),
        growth=fit.growth if fit else None,
        change=_change(course, [one.began_ms for one in in_order]),
        above_failed=reached > found,
        doubt=_doubt(runs, course, fit, ahead),
        for_most=_for_most(course) if alone and len(ahead) < 2 else None,
        stopped_in_row=in_row,
        above=sum(value > max(found, reached) for value in values),
    )


def _together(runs: Sequence[Measured]) -> list[list[Measured]]:
    """Runs by what was submitted together, the oldest first."""
    groups = dict[tuple[int, int], list[Measured]]()
    for at, one in enumerate(reversed(runs)):
        groups.setdefault((one.submission, 0 if one.submission else at), []).append(one)
    return list(groups.values())


def _bound(courses: Courses, logs: Sequence[float], stopped: Sequence[bool], ahead: int, apart: float) -> float:
    """The logarithm of the bound: the greatest of all explanations that are possible."""
    told, possible = courses.told, [bound_within(one, MISS, ahead, apart) for one in courses.possible]
    if not any(stopped):
        return max([bound_within(told, MISS, ahead, apart), *possible])
    most = MOST_ABOVE if len(stopped) - sum(stopped) >= FEW // 2 else MOST_ABOVE_FEW
    most = 1 + (most - 1) * min(1.0, 2 * sum(stopped) / len(stopped))
    found = max([bound_with_stopped(told.values, stopped, MISS / ahead), *possible])
    return min(found, max(logs) + log(most))


def _raised(runs: Sequence[Measured]) -> float:
    """What the newest stops ask for: each in a row that came with more than the one before raises it further.

    A single stop among runs that had enough with as much says little, and raises nothing here.
    """
    levels = list[float]()
    for one in runs:
        if one.enough or len(levels) == len(AFTER_STOPS):
            break
        if not levels or one.value < levels[-1] / 1.1:
            levels.append(one.value)
    if not levels or (len(levels) == 1 and any(one.enough and one.value >= 0.8 * levels[0] for one in runs)):
        return 0.0
    return levels[0] * AFTER_STOPS[len(levels) - 1]


def _doubt(runs: Sequence[Measured], course: Course, fit: "_Fit | None", ahead: Sequence[Parameters]) -> Doubt | None:
    """Why nothing is promised; None where it is."""
    count, stopped = len(runs), sum(not one.enough for one in runs)
    if _beyond(runs, ahead) or (fit and fit.growth.beyond):
        return Doubt.BEYOND
    if count - stopped < FEW:
        return Doubt.STOPPED if stopped > count * MOST_STOPPED else Doubt.FEW
    if stopped > count * MOST_STOPPED and count < MANY:
        return Doubt.STOPPED
    if count < ENOUGH and course.deviation > LITTLE * sqrt(count / FEW):
        return Doubt.SPREAD
    return Doubt.TASKS if len(ahead) > max(1, count * MOST_TASKS) and course.deviation > ALIKE_TASKS else None


def _beyond(runs: Sequence[Measured], ahead: Sequence[Parameters]) -> bool:
    """True when a parameter of the runs to come is greater than any that was seen, where there are several."""
    for name in {name for own in ahead for name, _ in own}:
        seen = [number for one in runs if (number := number_in(dict(one.parameters).get(name))) is not None]
        to_come = [number for own in ahead if (number := number_in(dict(own).get(name))) is not None]
        if seen and to_come and max(to_come) > BEYOND * max(seen) > 0:
            return True
    return False


def _change(course: Course, began_ms: Sequence[int]) -> Change | None:
    if course.since:
        return Change(amount(course.shift), began_ms[course.since], len(began_ms) - course.since)
    if course.slope:
        return Change(amount(course.slope), began_ms[0], len(began_ms), each=True)
    return None


def _for_most(course: Course) -> ForMost | None:
    """The bound for all but a few runs that are far above the others; None where there are none."""
    ordered = sorted(course.values)
    count = len(ordered)
    for above in range(1, int(SELDOM * count) + 1):
        most = ordered[count - above - 1]
        if ordered[count - above] - most > log(FAR_ABOVE):
            rest = Course(tuple(ordered[: count - above]), count - above, count - above - 1)
            return ForMost(amount(bound_within(rest, MISS)), count - above, count, amount(most))
    return None


class _Fit(Struct, frozen=True):
    """A growth and its line through the logarithms; ``ahead``: what is added to the rest for the size to come."""

    growth: Growth
    line: StraightLine
    ahead: float

    def at(self, own: Parameters) -> float:
        """The part of a run's logarithm that its size explains."""
        number = number_in(dict(own).get(self.growth.parameter)) or 0.0
        return self.line.slope * (log(number) - self.line.middle) if number > 0 else 0.0

    @property
    def apart(self) -> float:
        """The further variance of the level at the size to come."""
        return (log(self.growth.at) - self.line.middle) ** 2 / self.line.across


def _growth(owns: Sequence[Parameters], values: Sequence[float], ahead: Sequence[Parameters]) -> _Fit | None:
    """The parameter that the values grow with most clearly, by a straight line through the logarithms; None for none."""
    if len(values) < 5:
        return None
    best: tuple[float, _Fit] | None = None
    for name in dict.fromkeys(name for own in owns for name, _ in own):
        numbers = [number_in(dict(own).get(name)) or 0.0 for own in owns]
        if min(numbers) <= 0 or len(set(numbers)) < 3:
            continue
        line = line_through([(log(number), log(value)) for number, value in zip(numbers, values, strict=True)])
        if line is None or (best is not None and line.alike <= best[0]):
            continue
        to_come = [number_in(dict(own).get(name)) or 0.0 for own in ahead]
        at = max([*to_come, *(numbers if not any(to_come) else ())])
        beyond = at > BEYOND * max(numbers)
        # Beyond what was seen a weak growth matters too: with a set-up time the power is small until the sizes are large.
        clear = line.slope > 3 * line.error if beyond else line.slope >= LEAST_GROWTH and line.alike >= ALIKE
        if clear:
            along = line.slope * (log(at) - line.middle)
            if beyond:
                along = max(along, _straight(numbers, values, at) - line.mean)
            best = line.alike, _Fit(Growth(name, line.slope, at, beyond), line, along)
    return best[1] if best else None


def _straight(numbers: Sequence[float], values: Sequence[float], at: float) -> float:
    """The logarithm at a size by a straight line with an offset, fitted by relative errors."""
    ones, sizes = (
        [1 / value for value in values],
        [number / value for number, value in zip(numbers, values, strict=True)],
    )
    a, b, c = (sum(x * y for x, y in zip(*pair, strict=True)) for pair in ((ones, ones), (ones, sizes), (sizes, sizes)))
    u, v = sum(ones), sum(sizes)
    determinant = a * c - b * b
    if determinant <= 1e-12 * a * c:
        return float("-inf")
    return log(max(1e-9, (c * u - b * v + (a * v - b * u) * at) / determinant))


def round_time(seconds: float) -> int:
    """Up to a whole minute, five from half an hour on, a quarter of an hour from two hours on, an hour from ten."""
    step = 60 if seconds <= 1800 else 300 if seconds <= 7200 else 900 if seconds <= 36_000 else 3600
    return max(60, ceil(seconds / step) * step)


def round_memory(mib: float) -> int:
    """Up to 16 MiB below 256 MiB, 64 MiB below 2 GiB, 256 MiB below 16 GiB, else to 1 GiB."""
    step = 16 if mib < 256 else 64 if mib < 2048 else 256 if mib < 16_384 else 1024
    return max(16, ceil(mib / step) * step)


class NextTime(Struct, frozen=True):
    """The request to make: the walltime in seconds, the memory in MiB for each core, cores; None where it stays as it is."""

    runs: int
    walltime: LeastAmount | None
    memory: LeastAmount | None
    walltime_s: int | None
    memory_mib: int | None
    busy: float
    """The most cores' worth of CPU that any of them kept busy."""
    saved_core_hours: float
    """Core-hours that these runs requested and did not use, and that would not have been requested."""

    @property
    def doubts(self) -> tuple[tuple[str, Doubt], ...]:
        """What nothing is promised of, walltime or memory, with the reason."""
        both = (("walltime", self.walltime), ("memory", self.memory))
        return tuple((key, bound.doubt) for key, bound in both if bound is not None and bound.doubt is not None)


def _whose(run: RunToLearnFrom) -> tuple[Parameters, int, int]:
    return run.parameters, run.began_ms, run.submission


def walltime_bound(runs: Sequence[RunToLearnFrom], ahead: Sequence[Parameters] = ()) -> LeastAmount | None:
    """The bound for the seconds of further runs, from comparable ones, the newest first; None without any."""
    return bound_of(
        [
            Measured(run.walltime_s if run.late else run.took_s, not run.late, *_whose(run))
            for run in runs
            if not run.full
        ],
        ahead,
    )


def next_time(runs: Sequence[RunToLearnFrom], ahead: Sequence[Parameters] = ()) -> NextTime | None:
    """Advice from comparable runs, the newest first; None without any."""
    if not runs:
        return None
    walltime = walltime_bound(runs, ahead)
    memory = bound_of(
        [
            Measured(run.requested_mib if run.full else run.memory_mib, not run.full, *_whose(run))
            for run in runs
            if run.full or (run.memory_mib > 0 and not run.late)
        ],
        ahead,
    )
    seconds = round_time(walltime.value) if walltime else None
    mib = round_memory(memory.value) if memory else None
    saved = sum(max(0, run.walltime_s - seconds) * run.cores for run in runs) / 3600 if seconds else 0.0
    return NextTime(len(runs), walltime, memory, seconds, mib, max(run.busy for run in runs), saved)
