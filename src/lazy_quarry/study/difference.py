"""The difference between the mean waits of two policies, with what chance may make of it: a block bootstrap over days.

Whole days are drawn anew, a few in a row as blocks, since jobs of one day wait for the same reasons and days in a row have the same
backlog (H. R. Künsch, *The Jackknife and the Bootstrap for General Stationary Observations*, Annals of Statistics 17, 1989).
"""

from __future__ import annotations

from msgspec import Struct

from lazy_quarry.study.studied import Studied

LEAST_DAYS = 5
"""Number of days with jobs below which nothing is told of chance."""
DRAWS, SEED, NINETEEN_IN_TWENTY = 2000, 37, (2.5, 97.5)


class Difference(Struct, frozen=True):
    """Seconds by which jobs wait longer on average than under ``other``, and between which two that lies 19 times in 20."""

    other: str
    mean_s: float
    low_s: float | None = None
    high_s: float | None = None

    @property
    def clear(self) -> bool:
        """True when chance doesn't make it."""
        return self.low_s is not None and self.high_s is not None and not self.low_s <= 0 <= self.high_s


def difference(one: Studied, other: Studied) -> Difference | None:
    """The difference of two policies on one past; None where nothing ran under one of them."""
    import numpy as np

    if not one.days or not other.days:
        return None
    first = min(one.days[0][0], other.days[0][0])
    count = max(one.days[-1][0], other.days[-1][0]) - first + 1
    sums = np.zeros((4, count))
    for row, studied in enumerate((one, other)):
        for day, waited_s, jobs in studied.days:
            sums[2 * row, day - first], sums[2 * row + 1, day - first] = waited_s, jobs
    mean = one.wait_mean_s - other.wait_mean_s
    if int((sums[1] > 0).sum()) < LEAST_DAYS:
        return Difference(other.policy, mean)
    chance, block = np.random.default_rng(SEED), max(1, round(count ** (1 / 3)))
    starts = chance.integers(0, count, size=(DRAWS, -(-count // block)))
    days = ((starts[:, :, None] + np.arange(block)) % count).reshape(DRAWS, -1)[:, :count]
    waited, jobs, waited_then, jobs_then = sums[:, days].sum(axis=2)
    found = waited / np.maximum(1, jobs) - waited_then / np.maximum(1, jobs_then)
    low, high = np.percentile(found, NINETEEN_IN_TWENTY)
    return Difference(other.policy, mean, float(low), float(high))
