"""The rows of reports: sums with what their jobs waited and how large they were; and when in a week what was held."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, tzinfo
from operator import attrgetter
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.ledger.period import Period
from lazy_quarry.core.ledger.report import BySize, ReportRow, Rhythm, SizeRow, Sums
from lazy_quarry.core.units import HOUR_MS

Key = tuple[str, ...]
_FIELDS = attrgetter(*Sums.__struct_fields__)
_KEY, _CHARGED = attrgetter("key"), attrgetter("sums.charged_core_ms")
_NOTHING = Sums()
SIZES = (1, 2, 5, 17, 65, 257)
"""The least cores of each class of sizes."""


class Jobs:
    """Waits in seconds and cores of a period's jobs; each by its key.

    ``rows`` are keys, then waits in ms and allocated cores of the jobs of that key, each a text of numbers with commas.
    """

    def __init__(self, rows: Sequence[tuple[Any, ...]] = ()) -> None:
        waited = [np.fromstring(row[-2], dtype=float, sep=",") for row in rows if row[-2]]
        cores = [np.fromstring(row[-1], dtype=float, sep=",") for row in rows if row[-2]]
        ends = np.cumsum([0, *map(len, waited)])
        self.waited = np.concatenate(waited) / 1000 if waited else np.zeros(0)
        self.cores = np.concatenate(cores) if cores else np.zeros(0)
        keys = [tuple(row[:-2]) for row in rows if row[-2]]
        self.places: dict[tuple[Any, ...], slice] = {
            key: slice(int(begin), int(end)) for key, begin, end in zip(keys, ends[:-1], ends[1:], strict=True)
        }

    def row(self, key: Key, sums: Sums, place: slice | None) -> ReportRow:
        """The row of a key, whose jobs are at these places."""
        if place is None or not len(self.waited[place]):
            return ReportRow(key, sums)
        half, most = np.percentile(self.waited[place], (50, 95))
        return ReportRow(key, sums, float(half), float(most), float(np.median(self.cores[place])))


def rows_of(sums: Mapping[Key, Sums], jobs: Jobs, by: Sequence[str]) -> tuple[ReportRow, ...]:
    """Rows from sums and jobs by their keys, those charged most first, months in their order."""
    if jobs.places:
        rows = [jobs.row(key, sums.get(key, _NOTHING), jobs.places.get(key)) for key in {*sums, *jobs.places}]
    else:
        rows = [ReportRow(key, value) for key, value in sums.items()]
    rows.sort(key=_KEY)
    rows.sort(key=_CHARGED, reverse=True)
    if "month" in by:
        place = list(by).index("month")
        rows.sort(key=lambda row: row.key[place])
    return tuple(rows)


def together(sums: Iterable[Sums], jobs: Jobs) -> ReportRow:
    """The row of all of them."""
    columns = zip(*map(_FIELDS, sums), strict=True)
    return jobs.row((), Sums(*map(sum, columns)), slice(0, len(jobs.waited)))


def by_size(period: Period, jobs: Jobs) -> BySize:
    """Waits of jobs by the cores that they held."""
    rows = []
    for least, above in zip(SIZES, (*SIZES[1:], None), strict=True):
        inside = (jobs.cores >= least) & (jobs.cores < (above or np.inf))
        if inside.any():
            half, most = np.percentile(jobs.waited[inside], (50, 95))
            rows.append(SizeRow(least, above - 1 if above else None, int(inside.sum()), float(half), float(most)))
    return BySize(period, tuple(rows))


def rhythm_of(period: Period, spans: Sequence[tuple[int, int, int]], until_ms: int, zone: tzinfo) -> Rhythm:
    """Core-ms held by weekday and hour. ``spans`` are beginnings, ends and core-ms of attempts, each held evenly."""
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
