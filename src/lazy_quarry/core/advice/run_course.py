"""How the logarithms of runs change over time: on one level, on another since some run, or further with each run.

A change of level is looked for at every run, by Student's t of the two means, with Bonferroni's correction for their number; a
trend by the t of a straight line's slope (D. C. Montgomery and others, *Introduction to Linear Regression Analysis*, 2012).
"""

from collections.abc import Sequence
from itertools import accumulate, islice
from math import sqrt
from statistics import fmean, stdev

from msgspec import Struct

from lazy_quarry.core.advice.straight_line import line_through

LEAST_RUNS = 6
"""Number of runs below which no change is looked for."""
CERTAIN, POSSIBLE = 0.01, 0.15
"""A change that chance makes less often than this is told; one that it makes less often than that is guarded against."""
LEAST_CHANGE = 0.1
"""The logarithm of the smallest change that is told: about a tenth."""
MOST_OF = 2 / 3
"""Part of the runs since a change that lie nearer to the new level: one run that is far off makes no level."""
NO_SPREAD = 0.01
"""Standard deviation of the logarithms below which it is no measure of what a change is."""
CLOSE = 1.3
"""Two explanations are both kept where one leaves at most so many times the squares of the other."""
NEWEST, FAR = (1, 2, 3), 2.4
"""Numbers of newest runs that may be the first on a new level, where their mean is so many standard errors above."""


class Course(Struct, frozen=True):
    """An explanation of runs in time: their values as they would be now, oldest first, and how well these are known.

    ``shift`` is the change of the logarithm at run ``since``, ``slope`` that from each run to the next; 0 where there is none.
    ``worth``: the present level is known as well as from so many runs; ``free``: degrees of freedom of their deviation.
    """

    values: tuple[float, ...]
    worth: float
    free: int
    since: int = 0
    shift: float = 0.0
    slope: float = 0.0

    @property
    def level(self) -> float:
        """The present level."""
        return fmean(self.values[self.since :])

    @property
    def deviation(self) -> float:
        """Standard deviation about it."""
        mean = fmean(self.values)
        return sqrt(sum((one - mean) ** 2 for one in self.values) / max(1, self.free))


class Courses(Struct, frozen=True):
    """The explanation that is told, and others that can't be excluded and would ask for more."""

    told: Course
    possible: tuple[Course, ...] = ()


class _Found(Struct, frozen=True):
    """A change by the means of submissions: at which of them, by how much, or how much from each to the next; how sure that is."""

    since: int
    shift: float
    slope: float
    rest: float
    by_chance: float


def courses_of(logs: Sequence[float], together: Sequence[int] = ()) -> Courses:
    """Explain runs by their logarithms, oldest first, at least one.

    ``together`` are the numbers of runs that were submitted together, in this order: tasks of an array differ by what they were
    given, not by when they ran. Empty: each was submitted alone.
    """
    sizes = together or [1] * len(logs)
    level = Course(tuple(logs), len(logs), len(logs) - 1)
    if len(sizes) < LEAST_RUNS:
        return Courses(level)
    ends = list(accumulate(sizes))
    means = [fmean(logs[end - size : end]) for size, end in zip(sizes, ends, strict=True)]
    shift, trend = _shifted(means), _trend(means)
    shifted, climbing = (_course(logs, sizes, one) for one in (shift, trend))
    shift_is = shift.by_chance < CERTAIN and abs(shift.shift) > LEAST_CHANGE
    trend_is = trend.by_chance < CERTAIN and abs(trend.slope) * len(sizes) > LEAST_CHANGE
    possible = list[Course]()
    if shift_is and trend_is:
        told, other = (shifted, climbing) if shift.rest <= trend.rest else (climbing, shifted)
        if max(shift.rest, trend.rest) < CLOSE * min(shift.rest, trend.rest):
            possible.append(other)
    elif shift_is or trend_is:
        told = shifted if shift_is else climbing
    else:
        told = level
        if trend.slope > 0 and trend.by_chance < POSSIBLE:
            possible.append(climbing)
    if told is not shifted and shift.shift > 0 and shift.by_chance < 2 * POSSIBLE and shifted not in possible:
        possible.append(shifted)
    return Courses(told, (*possible, *_begun(told, sizes)))


def _course(logs: Sequence[float], sizes: Sequence[int], found: _Found) -> Course:
    """The runs as they would be now."""
    values, runs, since = list[float](), iter(logs), sum(sizes[: found.since])
    for at, size in enumerate(sizes):
        add = found.slope * (len(sizes) - at) + (found.shift if at < found.since else 0.0)
        values += [one + add for one in islice(runs, size)]
    worth = len(logs) - since if found.since else len(logs) / 4
    return Course(tuple(values), worth, len(logs) - 2, since, found.shift, found.slope)


def _shifted(means: Sequence[float]) -> _Found:
    """The best two levels."""
    count, total = len(means), sum(means)
    around = sum((one - total / count) ** 2 for one in means)
    before, best = 0.0, (float("inf"), 0, 0.0)
    for since in range(1, count - 1):
        before += means[since - 1]
        if since < (3 if count >= 8 else 2):
            continue
        change = (total - before) / (count - since) - before / since
        best = min(best, (around - since * (count - since) / count * change**2, since, change))
    rest, since, change = max(0.0, best[0]), best[1], best[2]
    error = max(NO_SPREAD, sqrt(rest / (count - 2))) * sqrt(1 / since + 1 / (count - since))
    between = total / count + change * (since / count - 0.5)
    beyond = sum((one > between) == (change > 0) for one in means[since:])
    by_chance = _by_chance(change / error, count - 2) * (count - 4) if beyond >= MOST_OF * (count - since) else 1.0
    return _Found(since, change, 0.0, rest, by_chance)


def _trend(means: Sequence[float]) -> _Found:
    """The best line, brought to the next run."""
    count = len(means)
    line = line_through([(float(at), one) for at, one in enumerate(means)])
    assert line is not None
    error = max(NO_SPREAD, sqrt(line.rest / (count - 2))) / sqrt(line.across)
    return _Found(0, 0.0, line.slope, line.rest, _by_chance(line.slope / error, count - 2))


def _begun(told: Course, sizes: Sequence[int]) -> tuple[Course, ...]:
    """Higher levels that the newest runs may have begun: too few to tell that from chance."""
    found = []
    for newest in NEWEST:
        since = len(told.values) - sum(sizes[-newest:])
        before, after = told.values[:since], told.values[since:]
        if len(before) < 2:
            break
        change = fmean(after) - fmean(before)
        if change > FAR * stdev(before) * sqrt(1 / len(after) + 1 / len(before)):
            values = (*(one + change for one in before), *after)
            found.append(Course(values, len(after), len(before) - 1, since, change))
    return tuple(found)


def _by_chance(t: float, free: int) -> float:
    from scipy.special import stdtr

    return 2 * float(stdtr(free, -abs(t)))
