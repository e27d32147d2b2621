"""The rest of a budget over time, as it was and as it will be at the present rate of use."""

from collections.abc import Sequence

from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.report import OverTime
from lazy_quarry.core.units import DAY_MS

PAST_DAYS = 60
PAST = f"last {PAST_DAYS} days"
"""The part of the past that is shown before the rest of a budget."""


def left_over_time(line: AccountLine, found: OverTime, now_ms: int) -> list[tuple[int, int]]:
    """(instant, core-ms left) at the beginning of each part of the present term, the oldest first, and now.

    ``found`` is what it and those under it were charged in each part, up to now; what runs counts as charged when it ends.
    """
    if line.budget is None or line.left_core_ms is None:
        return []
    left, points = line.left_core_ms, [(now_ms, line.left_core_ms)]
    charged: Sequence[int] = [sum(part) for part in zip(*found.charged, strict=True)] or [0] * len(found.parts)
    left += line.running_under_core_ms
    for part, amount in reversed(list(zip(found.parts, charged, strict=True))):
        if part.begin_ms < line.budget.term.begin_ms:
            break  # that was another budget
        left += amount
        left -= sum(grant.core_ms for grant in line.grants if part.begin_ms <= grant.at_ms < part.end_ms)
        points.append((part.begin_ms, left))
    return points[::-1]


def left_then(left_core_ms: int, days: float | None, after_days: float) -> float:
    """Rest of a budget after so many days, where it would be used up after ``days``; None for never."""
    return float(left_core_ms) if days is None else max(0.0, left_core_ms * (1 - after_days / days)) if days else 0.0


def range_then(left_core_ms: int, end: BudgetEnd, after_ms: int) -> tuple[float, float, float]:
    """Rest so much later: the least and the most of 8 times in 10, and between them the most likely."""
    after = after_ms / DAY_MS
    early, likely, late = (
        left_then(left_core_ms, days, after) for days in (end.early_days, end.likely_days, end.late_days)
    )
    return early, likely, late
