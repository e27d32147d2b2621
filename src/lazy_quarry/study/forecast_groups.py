"""Forecasts that were tried on a past: as rows of a table, and how they did by group."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct

from lazy_quarry.core.units import format_duration
from lazy_quarry.study.studied import ForecastMade

OUTSIDE = 0.2
"""Share of starts that a range is to miss."""
COLUMNS = ("job", "submit", "early", "middle", "late", "plan", "start")
FEWEST = 8
"""A group with fewer forecasts is left out: its share would say nothing."""


class ForecastGroup(Struct, frozen=True):
    """The record of a group of forecasts. Medians in seconds, but for the score, which is a mean.

    ``score_s`` is the interval score (T. Gneiting, A. Raftery, "Strictly proper scoring rules, prediction, and estimation",
    Journal of the American Statistical Association, 2007): the width, and ten times what a start lies outside; less is better.
    """

    name: str
    forecasts: int
    held: float
    """Share of starts inside their ranges."""
    width_s: float
    score_s: float
    off_s: float
    """Between the middle and the start."""
    plan_off_s: float
    """Between the plan's own start and the start."""


def csv_rows(made: Iterable[ForecastMade]) -> Iterator[list[Any]]:
    """A heading and a row a job, empty where nothing was said."""
    yield list(COLUMNS)
    for one in made:
        values = (one.submit_s, one.early_s, one.middle_s, one.late_s, one.plan_s, one.start_s)
        yield [one.job, *("" if value is None else round(value, 3) for value in values)]


def by_group(made: Sequence[ForecastMade]) -> list[ForecastGroup]:
    """All together; by the plan's wait at submission, in quarters; by size, by walltime, and by tier where there are several."""
    counted = [one for one in made if one.counts]
    if not counted:
        return []
    waits = [(one.plan_s or 0.0) - one.submit_s for one in counted]
    bounds = [float(one) for one in np.quantile(waits, (0.25, 0.5, 0.75))]
    groups: dict[str, list[ForecastMade]] = {"all": counted}
    for place in range(4):
        name = (
            f"plan's wait from {_short(bounds[place - 1])}" if place == 3 else f"plan's wait to {_short(bounds[place])}"
        )
        groups[name] = [
            one for one, wait in zip(counted, waits, strict=True) if sum(wait > bound for bound in bounds) == place
        ]
    for name, most, least in (("1 core", 1, 0), ("2 to 32 cores", 32, 1), ("more cores", 2**62, 32)):
        groups[name] = [one for one in counted if least < one.cores <= most]
    for name, longest, above in (("walltime to 1h", 3600, 0), ("to 12h", 43_200, 3600), ("longer", 2**62, 43_200)):
        groups[name] = [one for one in counted if above < one.walltime_s <= longest]
    tiers = sorted({one.tier for one in counted})
    if len(tiers) > 1:
        groups |= {f"tier {tier}": [one for one in counted if one.tier == tier] for tier in tiers}
    return [_group(name, each) for name, each in groups.items() if len(each) >= FEWEST or name == "all"]


def _group(name: str, made: Sequence[ForecastMade]) -> ForecastGroup:
    early, middle, late, plan, start = np.array(
        [(one.early_s, one.middle_s, one.late_s, one.plan_s, one.start_s) for one in made], dtype=float
    ).T
    score = (late - early) + 2 / OUTSIDE * (np.maximum(0, early - start) + np.maximum(0, start - late))
    return ForecastGroup(
        name,
        len(made),
        float(((early - 0.5 <= start) & (start <= late + 0.5)).mean()),
        float(np.median(late - early)),
        float(score.mean()),
        float(np.median(np.abs(middle - start))),
        float(np.median(np.abs(plan - start))),
    )


def _short(seconds: float) -> str:
    return format_duration(60 * max(1, round(seconds / 60)))
