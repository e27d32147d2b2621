"""A report of the books: what was charged in a period, to whom, and where it went.

Of the core-time that was held, *used* is the CPU time of attempts that came to something, *lost* is all that attempts held
which failed, were stopped at a limit or came back, and *idle* is the rest. The three add up to what was held, unless more CPU
time was used than was held.
"""

from collections.abc import Mapping

from msgspec import Struct, field

from lazy_quarry.core.ledger.period import Period, period_between
from lazy_quarry.core.units import DAY_MS

KEYS = ("account", "user", "queue", "tier", "name", "month")
"""The keys by which a report can be divided."""
MOST_BY = 2


class Sums(Struct, frozen=True):
    """Sums of some jobs: how many of them, of these not done; core-ms held and charged; CPU time; what was lost of both."""

    jobs: int = 0
    failed: int = 0
    held_core_ms: int = 0
    charged_core_ms: int = 0
    cpu_ms: int = 0
    lost_core_ms: int = 0
    lost_cpu_ms: int = 0
    asked_core_ms: int = 0
    """Core-ms requested: their cores for all of their walltime."""

    def __add__(self, other: "Sums") -> "Sums":
        return Sums(*(getattr(self, name) + getattr(other, name) for name in Sums.__struct_fields__))

    @property
    def used_core_ms(self) -> int:
        """CPU time of attempts that came to something."""
        return self.cpu_ms - self.lost_cpu_ms

    @property
    def idle_core_ms(self) -> int:
        """Held by these and not used."""
        return max(0, self.held_core_ms - self.lost_core_ms - self.used_core_ms)


class ReportRow(Struct, frozen=True):
    """A row: its keys, its sums, and how many seconds half and 95 in 100 of its jobs waited at most; None where none ended.

    ``cores`` is what half of the jobs were allocated at most, arrays for one task.
    """

    key: tuple[str, ...]
    sums: Sums
    wait_median_s: float | None = None
    wait_p95_s: float | None = None
    cores: float | None = None


class Report(Struct, frozen=True):
    """A period's rows, those charged most first (months in their order), all of them together, and the period before."""

    period: Period
    by: tuple[str, ...]
    rows: tuple[ReportRow, ...]
    total: ReportRow
    before: ReportRow | None = None
    where: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


class OverTime(Struct, frozen=True):
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


class SizeRow(Struct, frozen=True):
    """Waits of jobs with so many cores at the least and at the most; arrays count for one task."""

    least: int
    most: int | None
    jobs: int
    wait_median_s: float
    wait_p95_s: float


class BySize(Struct, frozen=True):
    """Waits of a period's jobs by their size, the smallest first."""

    period: Period
    rows: tuple[SizeRow, ...]


class Rhythm(Struct, frozen=True):
    """Core-hours held in a period by weekday (Monday first) and hour, as the site's zone has them; and hours of each there were."""

    period: Period
    held: tuple[tuple[float, ...], ...]
    hours: tuple[tuple[float, ...], ...]


class ShareLine(Struct, frozen=True):
    """An account's share of the cluster, its part of all recent use, and how far its jobs stand ahead for it.

    ``days`` are the last days on which it held something: the day's first instant, core-ms held, and core-ms that it still
    counts for, since use loses half of its weight in each half-life.
    """

    account: str
    target: float
    used: float
    ahead_h: float
    most_ahead_h: float
    days: tuple[tuple[int, int, int], ...]


class WasteRow(Struct, frozen=True):
    """Core-ms that jobs of a name and user requested, used, held idle and lost; and that advice would have saved."""

    name: str
    user: str
    sums: Sums
    advised_core_ms: int
    """Core-ms not used that advice would have saved, about; 0 where there is no better advice."""


class Waste(Struct, frozen=True):
    """Requests of a period that were not used, those with most to win first."""

    period: Period
    total: Sums
    rows: tuple[WasteRow, ...]
    where: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
