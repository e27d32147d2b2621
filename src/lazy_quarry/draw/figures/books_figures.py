"""Figures of the books: what was charged over a period, and how long a budget lasts."""

from datetime import UTC, datetime, tzinfo
from math import ceil

from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.left import PAST_DAYS, left_over_time, left_then
from lazy_quarry.core.ledger.report import OverTime
from lazy_quarry.core.units import DAY_MS, HOUR_MS, format_core_hours, plural
from lazy_quarry.draw.figures.runs_figures import number_scale
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Curve, Figure, Plot, Plots, Scale
from lazy_quarry.errors import QuarryError
from lazy_quarry.wording.book_words import end_words

ROLES = ("mine", "expected", "accounts", "blocked", "others")
"""The colours of the keys that were charged most; the rest is together in the last."""


def over_time_figure(found: OverTime, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Stacked columns, one for each part of the period. Raises :class:`QuarryError` where nothing was charged."""
    if not found.keys:
        raise QuarryError(f"nothing was charged {found.period.when}")
    most = len(ROLES) - 1
    shown = list(zip(found.keys[:most], found.charged[:most], strict=True))
    if rest := found.charged[most:]:
        name = found.keys[most] if len(rest) == 1 else plural(len(rest), "other")
        shown.append((name, tuple(map(sum, zip(*rest, strict=True)))))
    curves, below = list[Curve](), [0] * len(found.parts)
    for role, (_, charged) in zip(ROLES, shown, strict=False):
        below = [one + other for one, other in zip(below, charged, strict=True)]
        points = tuple((float(place), total / HOUR_MS) for place, total in enumerate(below))
        curves.append(Curve(points, role, "bars"))
    every = max(1, -(-len(found.parts) // 10))
    ticks = tuple(
        (float(place), _name(part.first, found)) for place, part in enumerate(found.parts) if place % every == 0
    )
    x = Scale(-0.6, len(found.parts) - 0.4, "", ticks)
    y = number_scale(0.0, max(max(below) / HOUR_MS, 1e-6), hours_words, "core-hours charged")
    return Figure(
        name=f"use-by-{found.split}",
        title=f"Use by {found.split}, {found.period.name}",
        panel=Plots(x, (Plot(y, tuple(reversed(curves))),)),
        source=source_words(site, now_ms, zone),
        note=f"{format_core_hours(sum(below))} core-hours in all, {found.period.span}",
        legend=tuple((role, name) for role, (name, _) in zip(ROLES, shown, strict=False)),
    )


def _name(first: object, found: OverTime) -> str:
    days = found.parts[0].days
    return f"{first:%b %Y}" if days > 7 else f"{first:%-d %b}"


def hours_words(hours: float) -> str:
    """Core-hours at a mark of a scale."""
    return format_core_hours(round(hours * HOUR_MS))


def burn_down_figure(
    line: AccountLine, found: OverTime, end: BudgetEnd | None, site: str, now_ms: int, zone: tzinfo = UTC
) -> Figure:
    """Draw the rest of an account's budget at the end of each day, and as it will be at the present rate.

    ``found`` is what it was charged by days up to now. Raises :class:`QuarryError` for an account without a budget.
    """
    if line.left_core_ms is None or line.budget is None:
        raise QuarryError(f"{line.account} has no budget that could end")
    term = line.budget.term
    points = [(at / DAY_MS, left / HOUR_MS) for at, left in left_over_time(line, found, now_ms)]
    first, today = points[0][0], now_ms / DAY_MS
    curves = [Curve(tuple(points), "mine", "area")]
    farthest = today + PAST_DAYS
    note = (
        f"{format_core_hours(line.left_core_ms)} of {format_core_hours(line.budget_core_ms or 0)} core-hours are left"
    )
    if end is not None and end.likely_days is not None:
        farthest = today + min(730.0, 1.1 * (end.late_days or 1.5 * end.likely_days))
        rest = line.left_core_ms / HOUR_MS
        last = term.end_ms / DAY_MS
        for days, dashes in ((end.early_days, "dotted"), (end.likely_days, "dashed"), (end.late_days, "dotted")):
            if days is not None:
                until = min(today + days, last)
                then = (until, left_then(line.left_core_ms, days, until - today) / HOUR_MS)
                curves.append(Curve(((today, rest), then), "expected", "line", "", dashes))
        farthest = min(farthest, last)
        note = f"{note}; {end_words(end, line, now_ms)}"
    step = next((one for one in (7, 14, 30, 60, 90, 180) if (farthest - first) / one <= 9), 365)
    ticks = tuple((day, _day_name(day)) for day in _every(first, farthest, step))
    y = number_scale(
        0.0,
        max(value for _, value in points),
        hours_words,
        "core-hours left",
    )
    return Figure(
        name=f"burn-down-{line.account}",
        title=f"The budget of {line.account}",
        panel=Plots(Scale(first, farthest, "", ticks, today), (Plot(y, tuple(curves)),)),
        source=source_words(site, now_ms, zone),
        note=note,
        legend=(
            ("mine", "left"),
            ("expected", "if it goes on as in the last 30 days: likely dashed, 8 times in 10 dotted"),
        ),
    )


def _every(first: float, last: float, step: int) -> list[float]:
    found, day = list[float](), float(ceil(first))
    while day <= last:
        found.append(day)
        day += step
    return found


def _day_name(day: float) -> str:
    at = datetime.fromtimestamp(day * 86_400, UTC)
    return f"{at.day} {at:%b}"
