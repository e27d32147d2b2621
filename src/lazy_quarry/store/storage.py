"""A journal's view of whatever keeps it: rows that are written together or not at all, and read again."""

from collections.abc import Iterable, Iterator, Mapping
from contextlib import AbstractContextManager
from typing import Any, NamedTuple, Protocol

from msgspec import Struct, field


class EndedRow(NamedTuple):
    """A job that has ended, as it is kept: what is searched for and added up, and all of it in ``body``."""

    job: int
    user: str
    account: str
    queue: str
    tier: str
    name: str
    phase: str
    submitted_ms: int
    started_ms: int | None
    ended_ms: int
    allocated_core_ms: int
    charge_core_ms: int
    cpu_ms: int
    first_start_ms: int | None
    waited_ms: int
    cores: int
    again_of: int
    body: str
    script: int
    environment: int
    own_check: bytes


class Cell(NamedTuple):
    """One part of the sums: what attempts held, were charged and used on a UTC day, by all that jobs differ in.

    ``lost`` is what attempts that failed had of it; what was ``asked`` for is their cores for all of their walltime.
    """

    day_ms: int
    account: str
    user: str
    queue: str
    tier: str
    name: str
    jobs: int
    failed: int
    allocated_core_ms: int
    charge_core_ms: int
    cpu_ms: int
    lost_core_ms: int
    lost_cpu_ms: int
    asked_core_ms: int

    @property
    def key(self) -> tuple[int | str, ...]:
        """The day and what it is of, in the order of :data:`CELL_KEY`."""
        return self[: len(CELL_KEY)]

    @property
    def values(self) -> tuple[int, ...]:
        """The amounts, in the order of :data:`CELL_VALUES`."""
        return self[len(CELL_KEY) :]  # type: ignore[return-value]


CELL_KEY, CELL_VALUES = Cell._fields[:6], Cell._fields[6:]
PART, DAY = "part", "day_ms"
"""As one of the keys of sums: which of the parts that the period is divided into, from 0."""


class EndedFilter(Struct, frozen=True):
    """A choice of ended jobs; None means any. Newest first, ``limit`` at most."""

    user: str | None = None
    accounts: tuple[str, ...] | None = None
    since_ms: int | None = None
    until_ms: int | None = None
    limit: int = 500
    name: str | None = None
    phase: str | None = None
    script: int | None = None
    """The key of the text that ran."""
    array: int | None = None
    """Tasks of this array; without it, everything but tasks."""
    again_of: int | None = None
    """Jobs that run this one, or some of its tasks, again."""


class Wanted(Struct, frozen=True):
    """A choice of sums: of days from ``begin_ms`` on and before ``end_ms``, by these keys, of these alone.

    ``parts`` are the first instants of the parts of the period, rising, for :data:`PART`.
    """

    begin_ms: int
    end_ms: int
    by: tuple[str, ...] = ()
    where: Mapping[str, tuple[str, ...]] | None = None
    parts: tuple[int, ...] = ()


class EventRow(NamedTuple):
    """An event as it is kept."""

    number: int
    at_ms: int
    kind: str
    job: int | None
    body: str
    script: int
    environment: int
    own_check: bytes
    chain: bytes


class LiveRow(NamedTuple):
    """A job that has not ended, as it is kept."""

    job: int
    body: str
    script: int
    environment: int
    own_check: bytes


class Batch(Struct):
    """The rows of one transaction."""

    events: list[EventRow] = field(default_factory=list)
    texts: dict[int, str] = field(default_factory=dict)
    ended: list[EndedRow] = field(default_factory=list)
    cells: list[Cell] = field(default_factory=list)
    live: list[LiveRow] = field(default_factory=list)
    gone: list[int] = field(default_factory=list)
    parts: dict[str, str] = field(default_factory=dict)


class Storage(Protocol):
    """One journal's tables. Every method raises :class:`StateFolderError` with what a person can do."""

    def write(self, batch: Batch) -> None:
        """Write all of it durably, or nothing."""

    def changed_outside(self) -> str:
        """Why the files are not those that were opened (deleted, replaced, cut short); empty when they are."""

    def meta(self) -> dict[str, str]:
        """Version, identity and the like."""

    def thin(self, ended_before_ms: int, until: int, most: int) -> int:
        """Thin events of jobs that ended before an instant, as far as a number; returns how many, ``most`` at most."""

    def begin_epoch(self, values: Mapping[str, str | None]) -> None:
        """Change some of it, the epoch too: from now on nothing is taken of who began an earlier one."""

    def set_meta(self, values: Mapping[str, str | None]) -> None:
        """Change some of it; None removes."""

    def last_event(self) -> EventRow | None:
        """The newest event."""

    def events(self, after: int) -> Iterator[EventRow]:
        """Events in order, from the one after a number."""

    def events_of(self, job: int) -> list[EventRow]:
        """All events of a job, in order."""

    def events_of_kinds(self, kinds: Iterable[str]) -> list[EventRow]:
        """All events of these kinds, in order; there is no index of them."""

    def texts(self, keys: Iterable[int]) -> dict[int, str]:
        """Some of the texts, by key."""

    def live(self) -> list[LiveRow]:
        """All jobs that have not ended."""

    def parts(self) -> dict[str, str]:
        """The rest of the state."""

    def ended(self, wanted: EndedFilter) -> list[EndedRow]:
        """Rows of ended jobs, newest first."""

    def ended_job(self, number: int) -> EndedRow | None:
        """The row of one ended job."""

    def ended_jobs(self, numbers: Iterable[int]) -> list[EndedRow]:
        """The rows of some ended jobs, in any order."""

    def ended_after(self, at_ms: int, job: int, limit: int) -> list[EndedRow]:
        """Rows of ended jobs and tasks in the order of their ends and numbers, from the one after these."""

    def sums(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Sums of a period: keys, then all values."""

    def waits(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Waits of a period: keys, then all in ms, then all cores in thousandths, as texts with commas."""

    def spans(self, wanted: Wanted) -> list[tuple[int, int, int]]:
        """Runs of a period: beginning, end, core-ms."""

    def first_day(self) -> int | None:
        """The first instant of the first day of which there are sums."""

    def last_day(self) -> int | None:
        """The first instant of the last day of which there are sums."""

    def cells(self, since_ms: int) -> list[Cell]:
        """All sums of the days since, in the order of the days."""

    def all_ended(self) -> Iterator[EndedRow]:
        """All jobs that have ended, in any order."""

    def all_cells(self) -> Iterator[Cell]:
        """All sums, in any order."""

    def all_texts(self) -> Iterator[tuple[int, str]]:
        """All texts with their keys, in any order."""

    def proven(self) -> None:
        """All of it was compared, or is known to be whole: what was kept in case it isn't may go."""

    def size(self) -> int:
        """Bytes of its files."""

    def one_view(self) -> AbstractContextManager[None]:
        """Have all be read as it was at one instant, though the engine may go on writing."""

    def structure_problem(self) -> str:
        """The fault that the storage itself finds in its files; empty for none."""

    def close(self) -> None:
        """Close the files."""
