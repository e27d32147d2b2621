"""Figures of what went on in a period: waits by size, use over the week, shares, and what was requested and not used."""

from collections.abc import Sequence
from datetime import UTC, tzinfo

from lazy_quarry.core.ledger.report import BySize, Rhythm, ShareLine, Waste, WasteRow
from lazy_quarry.core.units import DAY_MS, HOUR_MS, day_words, format_core_hours, plural
from lazy_quarry.draw.figures.books_figures import ROLES, hours_words
from lazy_quarry.draw.figures.runs_figures import duration_scale, number_scale
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Cell, Curve, Field, Figure, Plot, Plots, Scale
from lazy_quarry.errors import QuarryError
from lazy_quarry.wording.book_words import share_words, size_words

WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
SHOWN_DAYS = 42


def waits_figure(found: BySize, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Draw the waits that half and 19 in 20 of the jobs had at most, by size. Raises :class:`QuarryError` where none ended."""
    if not found.rows:
        raise QuarryError(f"no job that ended {found.period.when} has run")
    ticks = tuple((float(place), f"{size_words(row)}") for place, row in enumerate(found.rows))
    most = max(row.wait_p95_s for row in found.rows)
    y = duration_scale(max(60.0, 1.08 * most), "waited", 5)
    late = tuple((float(place), row.wait_p95_s) for place, row in enumerate(found.rows))
    half = tuple((float(place), row.wait_median_s) for place, row in enumerate(found.rows))
    jobs = sum(row.jobs for row in found.rows)
    return Figure(
        name="waits-by-size",
        title=f"Waits by size, {found.period.name}",
        panel=Plots(
            Scale(-0.6, len(found.rows) - 0.4, "cores held", ticks),
            (Plot(y, (Curve(late, "expected", "bars"), Curve(half, "mine", "bars"))),),
        ),
        source=source_words(site, now_ms, zone),
        note=f"{plural(jobs, 'job')} that ended {found.period.when}; an array waited until its first task started",
        legend=(("mine", "half of the jobs waited no longer"), ("expected", "19 in 20")),
    )


def rhythm_figure(found: Rhythm, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Cores in use by weekday and hour, darker where more were. Raises :class:`QuarryError` where nothing ran."""
    cores = [
        [amount / hours if hours else 0.0 for amount, hours in zip(held, had, strict=True)]
        for held, had in zip(found.held, found.hours, strict=True)
    ]
    most = max(max(row) for row in cores)
    if most <= 0:
        raise QuarryError(f"nothing ran {found.period.when}")
    cells = tuple(
        Cell(day, hour, "mine", f"{value:,.0f}" if value >= 10 or value < 0.05 else f"{value:.1f}", value / most)
        for day, row in enumerate(cores)
        for hour, value in enumerate(row)
    )
    return Figure(
        name="use-by-hour",
        title=f"Cores in use by weekday and hour, {found.period.name}",
        panel=Field(WEEKDAYS, tuple(f"{hour:02d}" for hour in range(24)), cells, "", "hour of the day"),
        source=source_words(site, now_ms, zone),
        note=f"on average, {found.period.span}; the most is {most:,.0f} cores",
    )


def shares_figure(found: Sequence[ShareLine], site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Draw how much of each day's use still counts, by account. Raises :class:`QuarryError` where nobody used anything."""
    lines = sorted(found, key=lambda line: -line.used)
    today = now_ms // DAY_MS * DAY_MS
    first = max(today - SHOWN_DAYS * DAY_MS, min([day for line in lines for day, _, _ in line.days], default=today))
    days = list(range(first, today + DAY_MS, DAY_MS))
    shown = [(line.account, line) for line in lines[: len(ROLES) - 1]]
    parts = [(name, {day: counts for day, _, counts in line.days}) for name, line in shown]
    if rest := lines[len(ROLES) - 1 :]:
        others: dict[int, int] = {}
        for line in rest:
            for day, _, counts in line.days:
                others[day] = others.get(day, 0) + counts
        parts.append((rest[0].account if len(rest) == 1 else plural(len(rest), "other"), others))
    curves, below = list[Curve](), [0] * len(days)
    for role, (_, still) in zip(ROLES, parts, strict=False):
        below = [base + still.get(day, 0) for base, day in zip(below, days, strict=True)]
        points = tuple((float(place), total / HOUR_MS) for place, total in enumerate(below))
        curves.append(Curve(points, role, "bars"))
    if not any(below):
        raise QuarryError("nobody has used anything of late")
    every = max(1, -(-len(days) // 9))
    ticks = tuple((float(place), day_words(day, form="%b")) for place, day in enumerate(days) if place % every == 0)
    y = number_scale(0.0, max(below) / HOUR_MS, hours_words, "core-hours that still count")
    told = {line.account: share_words(line) for line in lines}
    return Figure(
        name="shares",
        title="Recent use, and what of it still counts",
        panel=Plots(Scale(-0.6, len(days) - 0.4, "", ticks), (Plot(y, tuple(reversed(curves))),)),
        source=source_words(site, now_ms, zone),
        note="use loses half of its weight in each half-life; whoever had less than their target stands further ahead",
        legend=tuple(
            (role, f"{name}: {told[name]}" if name in told else name)
            for role, (name, _) in zip(ROLES, parts, strict=False)
        ),
    )


def waste_figure(found: Waste, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Draw the requests of those who may win most, and what became of them. Raises :class:`QuarryError` where there is nothing."""
    if not found.rows:
        raise QuarryError(f"all that was requested {found.period.when} was used")
    layers: list[tuple[str, str, list[int]]] = [
        ("done", "used", [row.sums.used_core_ms for row in found.rows]),
        ("failed", "lost", [row.sums.lost_core_ms for row in found.rows]),
        ("past", "held idle", [row.sums.idle_core_ms for row in found.rows]),
        ("others", "requested, and ended before", [_beyond(row) - row.advised_core_ms for row in found.rows]),
        ("expected", "of that, not requested by the advice", [row.advised_core_ms for row in found.rows]),
    ]
    curves, below = list[Curve](), [0] * len(found.rows)
    for role, _, amounts in layers:
        below = [base + max(0, amount) for base, amount in zip(below, amounts, strict=True)]
        points = tuple((float(place), total / HOUR_MS) for place, total in enumerate(below))
        curves.append(Curve(points, role, "bars"))
    ticks = tuple((float(place), row.name) for place, row in enumerate(found.rows))
    y = number_scale(0.0, max(below) / HOUR_MS, hours_words, "core-hours")
    total = found.total
    return Figure(
        name="asked-and-used",
        title=f"Asked for and used, {found.period.name}",
        panel=Plots(Scale(-0.6, len(found.rows) - 0.4, "", ticks), (Plot(y, tuple(reversed(curves))),)),
        source=source_words(site, now_ms, zone),
        note=f"of {format_core_hours(total.asked_core_ms)} core-hours that all jobs requested "
        f"{format_core_hours(total.used_core_ms)} were used; shown are the names with most to win",
        legend=tuple((role, words) for role, words, _ in layers),
    )


def _beyond(row: WasteRow) -> int:
    return max(row.advised_core_ms, row.sums.asked_core_ms - row.sums.held_core_ms)
