"""A bound that a further run stays below, but for some share, from the logarithms of those before.

A *prediction bound*: with n earlier runs whose logarithms have mean m and deviation s it is m + t·s·√(1 + 1/n), where t is
Student's quantile with n - 1 degrees of freedom (Hahn & Meeker, *Statistical Intervals*, 1991, section 4.2). From sixty runs on
it is the greatest of them, or the second or third: a further run passes the j-th greatest of n in j of n + 1 cases. Runs that
were stopped are *censored*: they count with the chance of having needed more than they had, over all means and deviations, each
by how likely it makes the runs.
"""

from collections.abc import Sequence
from math import exp, log, sqrt
from statistics import fmean

from lazy_quarry.core.advice.run_course import Course

FEW, ENOUGH, MANY = 10, 30, 60
"""Number of runs from which on the promise holds where they differ little; where they don't; and where the greatest say enough."""
LITTLE, LEAST_DEVIATION = 0.1, 0.13
"""Ten runs differ little up to this deviation of their logarithms, and more of them by the root of their number; with fewer than
:data:`ENOUGH` they are taken to differ by the second at least, since few that differ little may do so by chance."""
LEAST_MARGIN = 1.1
"""The bound is so many times the greatest run, while there are few."""
AIMED = 0.75
"""Part of the share that is aimed at, where it can be chosen."""
LOPSIDED, LOPSIDED_RUNS = 0.8, 16
"""Skewness of the logarithms from which on the greatest runs say more than the deviation; its margin is this over the runs."""
NEAR = 5
"""Number of runs below the greatest that tell how far apart the greatest lie."""


def bound_within(course: Course, share: float, ahead: int = 1, apart: float = 0.0) -> float:
    """The logarithm that one of ``ahead`` further runs passes in at most ``share`` of all cases.

    ``apart`` is the further variance of the level, in those of a single run: where the runs to come are unlike these in size.
    """
    from scipy.special import stdtrit

    values, count = course.values, len(course.values)
    most, per_run = max(values), share / ahead
    place = int(share * (count + 1))
    if ahead == 1 and count >= MANY and place:
        greatest = sorted(values, reverse=True)
        near = fmean(greatest[place - 1 : place - 1 + NEAR]) - greatest[place - 1 + NEAR]
        return greatest[place - 1] + 0.01 + near * max(0.0, log(place / (count + 1) / (AIMED * share)))
    cap = most + log(1 + 3 / (count + 1))
    if count < 2:
        return cap
    deviation = course.deviation
    if FEW <= count < ENOUGH:
        deviation = max(LEAST_DEVIATION, deviation)
    quantile = -float(stdtrit(max(1, course.free), per_run))
    found = course.level + quantile * deviation * sqrt(1 + 1 / course.worth + apart)
    if count < FEW:
        return max(most + log(LEAST_MARGIN), min(found, cap))
    # Where runs come in two kinds a bound by logarithms is far too high; the more there are, the less a further one passes them.
    found = max(most + log(LEAST_MARGIN), min(found, most + log(1 + 13 * sqrt(ahead) / count)))
    return max(found, most + log(1 + LOPSIDED_RUNS * ahead**0.67 / count)) if _skewness(values) > LOPSIDED else found


def bound_with_stopped(values: Sequence[float], stopped: Sequence[bool], share: float) -> float:
    """The same where some runs were stopped: their values are what they had when that was not enough."""
    import numpy as np
    from scipy.special import log_ndtr, ndtr

    whole = np.array([value for value, late in zip(values, stopped, strict=True) if not late])
    cut = np.array([value for value, late in zip(values, stopped, strict=True) if late])
    low, high = min(values), max(values)
    usual = max(0.03, float(whole.std())) if len(whole) > 1 else 0.3
    deviations = np.geomspace(max(0.02, usual / 4), max(1.5, 4 * usual), 30)
    means = np.linspace(low - usual, high + 6 * usual + 1.0, 60)[:, None]
    weight = (-0.5 * ((whole[:, None, None] - means) / deviations) ** 2).sum(axis=0) - len(whole) * np.log(deviations)
    weight = weight + log_ndtr(-(cut[:, None, None] - means) / deviations).sum(axis=0)
    weight = np.exp(weight - weight.max())
    weight /= weight.sum()
    above = high + 30 * usual + 20
    for _ in range(50):
        middle = (low + above) / 2
        if float((weight * ndtr(-(middle - means) / deviations)).sum()) > 0.75 * share:
            low = middle
        else:
            above = middle
    return max(above, high + log(LEAST_MARGIN))


def _skewness(values: Sequence[float]) -> float:
    """Third moment over the deviation's cube; 0 for equal values."""
    mean = fmean(values)
    square = fmean((one - mean) ** 2 for one in values)
    return fmean((one - mean) ** 3 for one in values) / square**1.5 if square > 1e-12 else 0.0


def amount(logarithm: float) -> float:
    """The value of a logarithm, short of what no number holds."""
    return exp(min(60.0, logarithm))
