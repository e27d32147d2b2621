"""A report of the books: what was charged in a period, to whom, and where it went.

Of the core-time that was held, *used* is the CPU time of attempts that came to something, *lost* is all that attempts held
which failed, were stopped at a limit or came back, and *idle* is the rest. The three add up to what was held, unless more CPU
time was used than was held.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from lazy_quarry.core.ledger.period import Period, period_between
from lazy_quarry.core.units import DAY_MS

KEYS = ("account", "user", "queue", "tier", "name", "month")
"""What a report can be divided by."""
MOST_BY = 2


@dataclass(frozen=True, slots=True)
class Sums:
    """Sums of some jobs: how many of them, of these not done; core-ms held and charged; CPU time; what was lost of both."""

    jobs: int = 0
    failed: int = 0
    held_core_ms: int = 0
    charged_core_ms: int = 0
    cpu_ms: int = 0
    lost_core_ms: int = 0
    lost_cpu_ms: int = 0

    def __add__(self, other: "Sums") -> "Sums":
        return Sums(*(getattr(self, name) + getattr(other, name) for name in Sums.__slots__))

    @property
    def used_core_ms(self) -> int:
        """CPU time of attempts that came to something."""
        return self.cpu_ms - self.lost_cpu_ms

    @property
    def idle_core_ms(self) -> int:
        """Held by these and not used."""
        return max(0, self.held_core_ms - self.lost_core_ms - self.used_core_ms)


@dataclass(frozen=True, slots=True)
class ReportRow:
    """A row: its keys, its sums, and how many seconds half and 95 in 100 of its jobs waited at most; None where none ended."""

    key: tuple[str, ...]
    sums: Sums
    wait_median_s: float | None = None
    wait_p95_s: float | None = None


@dataclass(frozen=True, slots=True)
class Report:
    """A period's rows, those charged most first (months in their order), all of them together, and the period before."""

    period: Period
    by: tuple[str, ...]
    rows: tuple[ReportRow, ...]
    total: ReportRow
    before: ReportRow | None = None
    where: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class OverTime:
    """Core-ms charged in each part of a period, by the values of one key, those charged most in all first."""

    period: Period
    split: str
    parts: tuple[Period, ...]
    keys: tuple[str, ...]
    charged: tuple[tuple[int, ...], ...]
    """For each key, of each part."""


def parts_of(period: Period) -> tuple[Period, ...]:
    """Days of up to two months, weeks of up to half a year, else months."""
    if period.days <= 62:
        begins = [period.begin_ms + DAY_MS * day for day in range(period.days)]
        return tuple(period_between(at, at + DAY_MS) for at in begins)
    first = period_between(period.begin_ms, period.begin_ms + 1).widened(1 if period.days <= 184 else 2)
    return first.through(period.end_ms)


Waits = Mapping[tuple[str, ...], Sequence[float]]
"""By key, how many seconds each job waited."""


def rows_of(sums: Mapping[tuple[str, ...], Sums], waits: Waits, by: Sequence[str]) -> tuple[ReportRow, ...]:
    """Rows from sums and waits by their keys."""
    rows = [_row(key, sums.get(key, Sums()), waits.get(key, ())) for key in sums.keys() | waits.keys()]
    if "month" in by:
        place = list(by).index("month")
        return tuple(sorted(rows, key=lambda row: (row.key[place], -row.sums.charged_core_ms, row.key)))
    return tuple(sorted(rows, key=lambda row: (-row.sums.charged_core_ms, row.key)))


def together(sums: Iterable[Sums], waits: Waits) -> ReportRow:
    """The row of all of them."""
    total = Sums()
    for one in sums:
        total = total + one
    return _row((), total, [seconds for some in waits.values() for seconds in some])


def _row(key: tuple[str, ...], sums: Sums, waits: Sequence[float]) -> ReportRow:
    if not waits:
        return ReportRow(key, sums)
    rising = sorted(waits)
    return ReportRow(key, sums, _share(rising, 0.5), _share(rising, 0.95))


def _share(rising: Sequence[float], share: float) -> float:
    """The value that a share of them are not above, between neighbours in proportion."""
    at = share * (len(rising) - 1)
    low = int(at)
    high = min(low + 1, len(rising) - 1)
    return rising[low] + (rising[high] - rising[low]) * (at - low)
