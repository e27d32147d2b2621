"""The end of a budget at its present rate of use, with the range in which that lies 8 times in 10."""

from collections.abc import Sequence
from math import sqrt
from statistics import fmean, variance

from msgspec import Struct

WITHIN = 1.2816
"""Standard deviations between which a normal variable lies 8 times in 10."""
WEEK, FEWEST_WEEKS = 7, 3
FARTHEST_DAYS = 3650.0


class BudgetEnd(Struct, frozen=True):
    """In how many days a budget ends: early, most likely, late; None for not within ten years. And the rate of a day."""

    early_days: float | None
    likely_days: float | None
    late_days: float | None
    daily_core_ms: float


def budget_end(left_core_ms: int, daily: Sequence[int]) -> BudgetEnd | None:
    """The end of a budget of which so much is left, from what was charged on each of the last days, the oldest first.

    Days that follow one another are alike, so how much they vary is taken from whole weeks, where there are three. None where
    nothing was charged.
    """
    rate = fmean(daily) if daily else 0.0
    if rate <= 0:
        return None
    weeks = [sum(daily[at : at + WEEK]) for at in range(len(daily) % WEEK, len(daily), WEEK)]
    if len(weeks) >= FEWEST_WEEKS:
        spread, free = sqrt(variance(weeks) / WEEK), len(weeks) - 1
    else:
        spread, free = (sqrt(variance(daily)), len(daily) - 1) if len(daily) > 1 else (rate, 1)
    # Student's quantile, for so few: R. A. Fisher, E. A. Cornish, Technometrics 2 (1960), the first term.
    within = WITHIN * (1 + (WITHIN * WITHIN + 1) / (4 * free))
    left = float(max(0, left_core_ms))
    early, likely, late = (_reached(left, rate, part * spread, len(daily)) for part in (within, 0.0, -within))
    return BudgetEnd(early, likely, late, rate)


def _reached(left: float, rate: float, spread: float, days: int) -> float | None:
    """When so much is charged: the rate is as uncertain as so many days leave it, and each day to come differs too."""

    def charged(after: float) -> float:
        return rate * after + spread * sqrt(after + after * after / days)

    low, high = 0.0, FARTHEST_DAYS
    if charged(high) < left:
        return None
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if charged(middle) < left else (low, middle)
    return high
