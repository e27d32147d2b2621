"""The plan's input and output, as values."""

from typing import NamedTuple

from msgspec import Struct

from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Window

FAR = 2**61
"""The instant that stands for never."""
CORES, MEMORY, GPUS, SCRATCH = range(4)
Amount = tuple[int, int, int, int]
"""Cores, memory in MiB, GPUs, scratch in MiB."""
Claim = tuple[int, int, int]
"""Amounts that count for limits: jobs, cores, GPUs."""


class Owner(NamedTuple):
    """Whose limits and budget a job is under."""

    user: str
    account: str
    tier: str


class PlanRequest(Struct, frozen=True):
    """A waiting job as the planner sees it."""

    job: int
    request: Request
    count: int = 1
    """Number of waiting tasks of an array; ``request`` is that of one task."""
    at_once: int | None = None
    """Number of further tasks of an array that may run now."""
    busy_until: tuple[int, ...] = ()
    """With ``at_once``: when each task of it that runs must have ended, which lets another one start."""
    owner: Owner | None = None
    """Whose limits and budget it is under; None for no limits."""
    access: frozenset[Window] = frozenset()
    """Reservations that it may use."""
    each: tuple[tuple[int, Request], ...] = ()
    """Where the tasks of an array differ, or wait each for another: (place in the array, request) of those that may start."""
    takes_ms: int | None = None
    """Time in ms that it is supposed to take; None for all of its walltime and grace."""


class PlannedAllocation(NamedTuple):
    """Amounts that a job has or will have on one node, until its walltime and grace have passed."""

    node: str
    until_ms: int
    amount: Amount
    ranks: int = 0


class Slot(NamedTuple):
    """A place found for a request: its start and, for each part, the indices of the nodes."""

    start_ms: int
    chosen: tuple[tuple[int, ...], ...]


class Placement(Struct, frozen=True):
    """Where and when a job is expected to run; a ``start_ms`` that isn't after the plan's now means: start it."""

    job: int
    queue: str
    start_ms: int
    end_ms: int
    allocations: tuple[PlannedAllocation, ...]
    counts: int = 0
    """For how many thousandths of a core it is charged at most; see :mod:`lazy_quarry.core.job.rates`."""
    index: int | None = None
    """Index of the task in its array, from 0, where that matters."""

    @property
    def claim(self) -> Claim:
        """Its amounts in limits: a job, its cores, its GPUs."""
        return 1, sum(one.amount[CORES] for one in self.allocations), sum(one.amount[GPUS] for one in self.allocations)
