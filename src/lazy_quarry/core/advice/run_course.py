"""How the logarithms of runs change over time: on one level, on another since some run, or further with each run.

A change of level is looked for at every run, by Student's t of the two means, with Bonferroni's correction for their number; a
trend by the t of a straight line's slope (D. C. Montgomery and others, *Introduction to Linear Regression Analysis*, 2012).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import sqrt
from statistics import fmean

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


@dataclass(frozen=True, slots=True)
class Course:
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
    rest: float = 0.0
    """Sum of squares about it."""

    @property
    def level(self) -> float:
        """The present level."""
        return fmean(self.values[self.since :])

    @property
    def deviation(self) -> float:
        """Standard deviation about it."""
        mean = fmean(self.values)
        return sqrt(sum((one - mean) ** 2 for one in self.values) / max(1, self.free))


@dataclass(frozen=True, slots=True)
class Courses:
    """The explanation that is told, and others that can't be excluded and would ask for more."""

    told: Course
    possible: tuple[Course, ...] = ()


def courses_of(logs: Sequence[float]) -> Courses:
    """Explain runs by their logarithms, oldest first, at least one."""
    level = Course(tuple(logs), len(logs), len(logs) - 1)
    if len(logs) < LEAST_RUNS:
        return Courses(level)
    shifted, by_shift = _shifted(logs)
    trend, by_trend = _trend(logs)
    shift_is = by_shift < CERTAIN and abs(shifted.shift) > LEAST_CHANGE
    trend_is = by_trend < CERTAIN and abs(trend.slope) * len(logs) > LEAST_CHANGE
    possible = list[Course]()
    if shift_is and trend_is:
        told, other = sorted((shifted, trend), key=lambda one: one.rest)
        if other.rest < CLOSE * told.rest:
            possible.append(other)
    elif shift_is or trend_is:
        told = shifted if shift_is else trend
    else:
        told = level
        if trend.slope > 0 and by_trend < POSSIBLE:
            possible.append(trend)
    if told is not shifted and shifted.shift > 0 and by_shift < 2 * POSSIBLE and shifted not in possible:
        possible.append(shifted)
    return Courses(told, (*possible, *_begun(told)))


def _shifted(logs: Sequence[float]) -> tuple[Course, float]:
    """The best two levels, and how often chance makes such ones."""
    count, total = len(logs), sum(logs)
    around = sum((one - total / count) ** 2 for one in logs)
    before, best = 0.0, (float("inf"), 0, 0.0)
    for since in range(1, count - 1):
        before += logs[since - 1]
        if since < (3 if count >= 8 else 2):
            continue
        change = (total - before) / (count - since) - before / since
        best = min(best, (around - since * (count - since) / count * change**2, since, change))
    rest, since, change = max(0.0, best[0]), best[1], best[2]
    error = max(NO_SPREAD, sqrt(rest / (count - 2))) * sqrt(1 / since + 1 / (count - since))
    between = total / count + change * (since / count - 0.5)
    beyond = sum((one > between) == (change > 0) for one in logs[since:])
    by_chance = _by_chance(change / error, count - 2) * (count - 4) if beyond >= MOST_OF * (count - since) else 1.0
    values = (*(one + change for one in logs[:since]), *logs[since:])
    course = Course(values, count - since, count - 2, since, change, rest=rest)
    return course, by_chance


def _trend(logs: Sequence[float]) -> tuple[Course, float]:
    """The best line, brought to the next run, and how often chance makes such a one."""
    count = len(logs)
    line = line_through([(float(at), one) for at, one in enumerate(logs)])
    assert line is not None
    error = max(NO_SPREAD, sqrt(line.rest / (count - 2))) / sqrt(line.across)
    values = tuple(one + line.slope * (count - at) for at, one in enumerate(logs))
    course = Course(values, count / 4, count - 2, slope=line.slope, rest=line.rest)
    return course, _by_chance(line.slope / error, count - 2)


def _begun(told: Course) -> tuple[Course, ...]:
    """Higher levels that the newest runs may have begun: too few to tell that from chance."""
    found = []
    for newest in NEWEST:
        before, since = told.values[:-newest], len(told.values) - newest
        mean = fmean(before)
        deviation = sqrt(sum((one - mean) ** 2 for one in before) / (len(before) - 1))
        change = fmean(told.values[since:]) - mean
        if change > FAR * deviation * sqrt(1 / newest + 1 / len(before)):
            values = (*(one + change for one in before), *told.values[since:])
            found.append(Course(values, newest, len(before) - 1, since, change))
    return tuple(found)


def _by_chance(t: float, free: int) -> float:
    from scipy.special import stdtr

    return 2 * float(stdtr(free, -abs(t)))
