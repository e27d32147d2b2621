"""Figures of the books: what was charged over a period."""

from datetime import UTC, tzinfo

from lazy_quarry.core.ledger.report import OverTime
from lazy_quarry.core.units import HOUR_MS, format_core_hours
from lazy_quarry.draw.of_runs import number_scale
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Curve, Figure, Plot, Plots, Scale
from lazy_quarry.errors import QuarryError

ROLES = ("mine", "expected", "accounts", "blocked", "others")
"""The colours of the keys that were charged most; the rest is together in the last."""


def over_time_figure(found: OverTime, site: str, now_ms: int, zone: tzinfo = UTC) -> Figure:
    """Stacked columns, one for each part of the period. Raises :class:`QuarryError` where nothing was charged."""
    if not found.keys:
        raise QuarryError(f"nothing was charged in {found.period.name}")
    most = len(ROLES) - 1
    shown = list(zip(found.keys[:most], found.charged[:most], strict=True))
    if rest := found.charged[most:]:
        name = found.keys[most] if len(rest) == 1 else f"{len(rest)} others"
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
    y = number_scale(
        0.0,
        max(max(below) / HOUR_MS, 1e-6),
        lambda hours: format_core_hours(round(hours * HOUR_MS)),
        "core-hours charged",
    )
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
