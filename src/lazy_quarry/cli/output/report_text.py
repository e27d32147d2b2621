"""Reports as text, JSON and CSV."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from lazy_quarry.core.formats.csv_rows import csv_text
from lazy_quarry.core.units import core_hours
from lazy_quarry.wording.book_words import advised_words

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.period import Period
    from lazy_quarry.core.ledger.report import BySize, Report, ReportRow, ShareLine, Sums, Waste

FIGURES = (
    "charged_core_hours",
    "used_core_hours",
    "idle_core_hours",
    "lost_core_hours",
    "jobs",
    "failed",
    "wait_median_s",
    "wait_p95_s",
    "cores_median",
)


def _seconds(value: float | None) -> float | None:
    return None if value is None else round(value, 3)


def row_json(row: ReportRow) -> dict[str, Any]:
    """A row; times in seconds, core-hours of hours."""
    sums = row.sums
    return {
        "key": row.key[0] if len(row.key) == 1 else list(row.key) or None,
        "charged_core_hours": core_hours(sums.charged_core_ms),
        "used_core_hours": core_hours(sums.used_core_ms),
        "idle_core_hours": core_hours(sums.idle_core_ms),
        "lost_core_hours": core_hours(sums.lost_core_ms),
        "held_core_hours": core_hours(sums.held_core_ms),
        "jobs": sums.jobs,
        "failed": sums.failed,
        "wait_median_s": _seconds(row.wait_median_s),
        "wait_p95_s": _seconds(row.wait_p95_s),
        "cores_median": None if row.cores is None else round(row.cores, 3),
    }


def period_json(span: Period) -> dict[str, Any]:
    """A period: its name, and its first instant and the first one after it."""
    from lazy_quarry.core.units import format_instant

    return {"name": span.name, "begins": format_instant(span.begin_ms), "ends": format_instant(span.end_ms)}


def report_json(found: Report) -> dict[str, Any]:
    """A report: its period, rows, all together, and the period before."""
    return {
        "period": period_json(found.period),
        "by": list(found.by),
        "rows": [row_json(row) for row in found.rows],
        "total": row_json(found.total),
        "before": row_json(found.before) if found.before else None,
    }


def report_csv(found: Report) -> str:
    """The rows as CSV, a column for each key."""
    told = [(row.key, row_json(row)) for row in found.rows]
    return csv_text([[*found.by, *FIGURES], *([*key, *(row[name] for name in FIGURES)] for key, row in told)])


def report_lines(found: Report) -> Iterator[str]:
    """A report as a table."""
    from lazy_quarry.core.units import plural
    from lazy_quarry.wording.book_words import change_words

    span = found.period
    chosen = ", ".join(f"{name} {' or '.join(values)}" for name, values in found.where.items())
    yield f"{span.name}{f' ({span.span})' if span.name != span.span else ''}{f', {chosen}' if chosen else ''}: core-hours"
    keys = [" / ".join(row.key) for row in found.rows]
    heading = " / ".join(found.by)
    width = max([len(heading), len("together"), *map(len, keys)])
    names = ("charged", "used", "idle", "lost", "jobs", "failed", "waited", "95 %", "cores")
    cells = [names, *(_cells(row) for row in (*found.rows, found.total))]
    least = (9, 9, 9, 9, 6, 5, 7, 7, 5)
    widths = [max(wide, *map(len, column)) for wide, column in zip(least, zip(*cells, strict=True), strict=True)]
    for name, row in zip([heading, *keys, "together"], cells, strict=True):
        yield f"{name:<{width}}" + "".join(f"  {value:>{wide}}" for value, wide in zip(row, widths, strict=True))
    more = change_words(found) if found.total.sums.charged_core_ms else ""
    if more and found.before is not None:
        yield f"{more} than {span.moved(-1).when}, when {plural(found.before.sums.jobs, 'job')} ended"


def _cells(row: ReportRow) -> list[str]:
    from lazy_quarry.core.units import format_core_hours, format_duration

    sums = row.sums
    waits = ["-" if one is None else format_duration(one, 1) for one in (row.wait_median_s, row.wait_p95_s)]
    hours = (sums.charged_core_ms, sums.used_core_ms, sums.idle_core_ms, sums.lost_core_ms)
    cores = "-" if row.cores is None else f"{row.cores:,.3g}"
    return [*(format_core_hours(one) for one in hours), f"{sums.jobs:,}", f"{sums.failed:,}", *waits, cores]


def waste_lines(found: Waste, user: str) -> Iterator[str]:
    """Lines about requests that were not used, and where most is to be won."""
    from lazy_quarry.core.units import format_core_hours, plural

    sums = found.total
    yield (
        f"{found.period.name}: {plural(sums.jobs, 'job')} requested {format_core_hours(sums.asked_core_ms)} core-hours, "
        f"held {format_core_hours(sums.held_core_ms)} and used {format_core_hours(sums.used_core_ms)}"
    )
    held = max(1, sums.held_core_ms)
    for word, amount in (("used", sums.used_core_ms), ("idle", sums.idle_core_ms), ("lost", sums.lost_core_ms)):
        yield f"  {word:<6}{format_core_hours(amount):>12}  {amount / held:>5.0%} of what was held"
    if not found.rows:
        return
    yield "most is to be won with"
    width = max(len(row.name) for row in found.rows)
    who = max(len(row.user) for row in found.rows)
    parts = ("asked", "used", "idle", "lost")
    hours = [[format_core_hours(getattr(row.sums, f"{part}_core_ms")) for part in parts] for row in found.rows]
    wide = max(9, *(len(one) for row in hours for one in row))
    for row, amounts in zip(found.rows, hours, strict=True):
        told = "  ".join(
            f"{part} {amount:>{wide}}" for part, amount in zip(("requested", *parts[1:]), amounts, strict=True)
        )
        yield f"  {row.name:<{width}}  {row.user:<{who}}  {told}   {advised_words(row, user)}".rstrip()


def waste_json(found: Waste) -> dict[str, Any]:
    """Requests that were not used, as JSON."""

    def hours(sums: Sums) -> dict[str, Any]:
        told = {
            "asked_core_hours": sums.asked_core_ms,
            "held_core_hours": sums.held_core_ms,
            "used_core_hours": sums.used_core_ms,
            "idle_core_hours": sums.idle_core_ms,
            "lost_core_hours": sums.lost_core_ms,
        }
        return {
            **{key: core_hours(value) for key, value in told.items()},
            "jobs": sums.jobs,
            "failed": sums.failed,
        }

    rows = [
        {
            "name": row.name,
            "user": row.user,
            **hours(row.sums),
            "advised_less_core_hours": core_hours(row.advised_core_ms),
        }
        for row in found.rows
    ]
    return {"period": period_json(found.period), "total": hours(found.total), "rows": rows}


def sizes_lines(found: BySize) -> Iterator[str]:
    """Lines about the waits of jobs, by their size."""
    from lazy_quarry.core.units import format_duration
    from lazy_quarry.wording.book_words import size_words

    yield f"{found.period.name}: how long jobs waited, by the cores that they held"
    yield f"{'cores':<12}{'jobs':>9}{'half at most':>15}{'95 % at most':>15}"
    for row in found.rows:
        half, most = format_duration(row.wait_median_s, 1), format_duration(row.wait_p95_s, 1)
        yield f"{size_words(row):<12}{row.jobs:>9,}{half:>15}{most:>15}"


def sizes_json(found: BySize) -> dict[str, Any]:
    """Waits by size, in seconds."""
    rows = [
        {
            "cores_least": row.least,
            "cores_most": row.most,
            "jobs": row.jobs,
            "wait_median_s": row.wait_median_s,
            "wait_p95_s": row.wait_p95_s,
        }
        for row in found.rows
    ]
    return {"period": period_json(found.period), "rows": rows}


def shares_lines(found: Sequence[ShareLine]) -> Iterator[str]:
    """Lines about accounts' shares, their use, and how far their jobs stand ahead; and the weeks that it comes from."""
    from lazy_quarry.core.units import DAY_MS, format_core_hours, format_duration

    width = max([7, *(len(line.account) for line in found)])
    yield f"{'account':<{width}}{'target':>9}{'had':>7}{'stands ahead':>15}   core-hours used (and that still count), by weeks back"
    newest = max([day for line in found for day, _, _ in line.days], default=0)
    for line in found:
        weeks = [[0, 0] for _ in range(4)]
        for day, amount, counts in line.days:
            if (back := (newest - day) // (7 * DAY_MS)) < len(weeks):
                weeks[back][0] += amount
                weeks[back][1] += counts
        told = "  ".join(f"{format_core_hours(one):>7} ({format_core_hours(counts)})" for one, counts in weeks)
        ahead = format_duration(round(line.ahead_h * 3600))
        yield f"{line.account:<{width}}{line.target:>9.0%}{line.used:>7.0%}{ahead:>15}   {told}"


def shares_json(found: Sequence[ShareLine]) -> list[dict[str, Any]]:
    """Shares as parts of one, and the days that they come from."""
    from lazy_quarry.core.units import format_instant

    return [
        {
            "account": line.account,
            "target": round(line.target, 6),
            "used": round(line.used, 6),
            "ahead_hours": round(line.ahead_h, 4),
            "most_ahead_hours": line.most_ahead_h,
            "days": [
                {
                    "day": format_instant(day)[:10],
                    "held_core_hours": core_hours(amount),
                    "counts_core_hours": core_hours(counts),
                }
                for day, amount, counts in line.days
            ],
        }
        for line in found
    ]
