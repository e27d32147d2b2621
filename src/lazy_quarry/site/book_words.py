"""Sentences about the books, the same in the application and on the command line."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from lazy_quarry.core.units import DAY_MS, format_core_hours

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.burn import BudgetEnd
    from lazy_quarry.core.ledger.report import Report


def end_day(days: float | None, now_ms: int) -> str:
    """The day so many days from now: ``25 Apr``, with its year when that is another."""
    if days is None:
        return "in years"
    day, today = (datetime.fromtimestamp((now_ms + days_ * DAY_MS) / 1000, UTC) for days_ in (days, 0.0))
    return f"{day.day} {day:%b}" if day.year == today.year else f"{day.day} {day:%b %Y}"


def change_words(found: Report) -> str:
    """How much more or less was charged than in the period before: ``8% less``; empty where nothing was charged then."""
    before = found.before.sums.charged_core_ms if found.before is not None else 0
    now = found.total.sums.charged_core_ms
    if not before:
        return ""
    return f"{abs(now / before - 1):.0%} {'more' if now >= before else 'less'}"


def end_words(end: BudgetEnd, now_ms: int) -> str:
    """``used as in the last 30 days (3,413 core-hours a day), it ends about 25 Apr; 8 times in 10 between 15 Apr and 9 May``."""
    rate = f"used as in the last 30 days ({format_core_hours(round(end.daily_core_ms))} core-hours a day)"
    if end.likely_days is None:
        return f"{rate}, it lasts for years"
    early = end_day(end.early_days, now_ms)
    range_ = f"8 times in 10 between {early} and {end_day(end.late_days, now_ms)}"
    if end.late_days is None:
        range_ = f"9 times in 10 not before {early}"
    return f"{rate}, it ends about {end_day(end.likely_days, now_ms)}; {range_}"
