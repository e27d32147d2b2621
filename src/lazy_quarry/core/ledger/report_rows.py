"""The rows of reports: sums with what their jobs waited and how large they were; and when in a week what was held."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, tzinfo
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.ledger.period import Period
from lazy_quarry.core.ledger.report import BySize, ReportRow, Rhythm, SizeRow, Sums
from lazy_quarry.core.units import HOUR_MS

Key = tuple[str, ...]
SIZES = (1, 2, 5, 17, 65, 257)
"""The least cores of each class of sizes."""


class Jobs:
    """What the jobs of a period waited, in seconds, and how many cores they held; each by its key.

    ``rows`` are keys, then a wait in ms, then cores.
    """

    def __init__(self, rows: Sequence[tuple[Any, ...]] = (), keys: int = 0) -> None:
        index: dict[tuple[Any, ...], int] = {}
        columns = list(zip(*rows, strict=True)) if rows else [()] * (keys + 2)
        self.waited = np.array(columns[-2], dtype=float) / 1000
        self.cores = np.array(columns[-1], dtype=float)
        if keys and rows:
            codes = np.array([index.setdefault(key, len(index)) for key in zip(*columns[:keys], strict=True)])
            order = np.argsort(codes, kind="stable")
            ends = np.cumsum(np.bincount(codes, minlength=len(index)))
            self.places = dict(zip(index, np.split(order, ends[:-1]), strict=True))
        else:
            self.places = {(): np.arange(len(self.waited))} if rows else {}

    def row(self, key: Key, sums: Sums, place: NDArray[np.int64] | None) -> ReportRow:
        """The row of a key, whose jobs are at these places."""
        if place is None or not len(place):
            return ReportRow(key, sums)
        half, most = np.percentile(self.waited[place], (50, 95))
        return ReportRow(key, sums, float(half), float(most), float(np.median(self.cores[place])))


def rows_of(sums: Mapping[Key, Sums], jobs: Jobs, by: Sequence[str]) -> tuple[ReportRow, ...]:
    """Rows from sums and jobs by their keys, those charged most first, months in their order."""
    keys = {*sums, *jobs.places}
    rows = [jobs.row(key, sums.get(key, Sums()), jobs.places.get(key)) for key in keys]
    if "month" in by:
        place = list(by).index("month")
        return tuple(sorted(rows, key=lambda row: (row.key[place], -row.sums.charged_core_ms, row.key)))
    return tuple(sorted(rows, key=lambda row: (-row.sums.charged_core_ms, row.key)))


def together(sums: Iterable[Sums], jobs: Jobs) -> ReportRow:
    """The row of all of them."""
    total = Sums()
    for one in sums:
        total = total + one
    return jobs.row((), total, np.arange(len(jobs.waited)))


def by_size(period: Period, jobs: Jobs) -> BySize:
    """How long jobs waited, by the cores that they held."""
    rows = []
    for least, above in zip(SIZES, (*SIZES[1:], None), strict=True):
        inside = (jobs.cores >= least - 0.5) & (jobs.cores < (above or np.inf) - 0.5)
        if inside.any():
            half, most = np.percentile(jobs.waited[inside], (50, 95))
            rows.append(SizeRow(least, above - 1 if above else None, int(inside.sum()), float(half), float(most)))
    return BySize(period, tuple(rows))


def rhythm_of(period: Period, spans: Sequence[tuple[int, int, int]], until_ms: int, zone: tzinfo) -> Rhythm:
    """What was held by weekday and hour. ``spans`` are beginnings, ends and core-ms of attempts, each held evenly."""
    end_ms = max(period.begin_ms, min(period.end_ms, until_ms))
    edges = np.arange(period.begin_ms, end_ms + HOUR_MS, HOUR_MS, dtype=float)
    edges[-1] = end_ms
    table = np.array(spans, dtype=float).reshape(-1, 3)
    begins, ends = table[:, 0], np.maximum(table[:, 1], table[:, 0] + 1)
    rates = table[:, 2] / (ends - begins)
    held = np.diff(_until(edges, begins, rates) - _until(edges, ends, rates)) / HOUR_MS
    amounts, hours = np.zeros((7, 24)), np.zeros((7, 24))
    for at, amount, length in zip(edges[:-1], held, np.diff(edges), strict=True):
        local = datetime.fromtimestamp(at / 1000, zone)
        amounts[local.weekday(), local.hour] += amount
        hours[local.weekday(), local.hour] += length / HOUR_MS
    return Rhythm(period, _table(amounts), _table(hours))


def _until(edges: NDArray[np.float64], begins: NDArray[np.float64], rates: NDArray[np.float64]) -> NDArray[np.float64]:
    """The integral up to each edge of rates that each go on from their beginnings."""
    order = np.argsort(begins)
    rising, rate = begins[order], rates[order]
    count = np.searchsorted(rising, edges)
    whole = np.concatenate(([0.0], np.cumsum(rate)))
    moments = np.concatenate(([0.0], np.cumsum(rate * (rising - edges[0]))))
    found: NDArray[np.float64] = whole[count] * (edges - edges[0]) - moments[count]
    return found


def _table(values: NDArray[np.float64]) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(max(0.0, round(float(one), 9)) for one in row) for row in values)
