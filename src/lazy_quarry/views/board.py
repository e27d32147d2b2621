"""The board: everything that the interface shows of the present, read in one call."""

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.site import Node, Queue, Software, StorageArea, Tier, Window
from lazy_quarry.run.runner import HostState
from lazy_quarry.views.job_view import JobView

Owner = Literal["mine", "accounts", "others"]
"""Whose a job is: the person's own, of an account that they may charge, or somebody else's."""


class ClockView(Struct, frozen=True):
    """The site's clock: the real one, or one that may be sped up and paused."""

    kind: Literal["rehearsal", "wall"]
    speed: int = 1
    paused: bool = False


class Strata(Struct, frozen=True):
    """All cores of the cluster by who has them; they add up to ``total``."""

    mine: int
    accounts: int
    others: int
    closed: int
    free: int
    total: int


class Occupant(Struct, frozen=True, kw_only=True):
    """A job's part of one node."""

    job: int
    label: str
    """The job's number as people say it."""
    name: str
    user: str
    account: str
    cores: tuple[int, ...]
    memory_mib: int
    gpus: int
    until_ms: int


class NodeView(Struct, frozen=True, kw_only=True):
    """A node now: what it has, which jobs have it, and why it takes no jobs if it doesn't."""

    name: str
    queues: tuple[str, ...]
    cores: int
    memory_mib: int
    gpus: int
    scratch_mib: int
    traits: tuple[str, ...]
    closed: str
    occupants: tuple[Occupant, ...]
    host: str = ""
    """The host that it is, as SSH knows it; empty for a node of a rehearsal, and for this machine where it is the only one."""
    quiet_since_ms: int | None = None
    """Since when it has not answered; None while it does."""
    closed_since_ms: int | None = None
    """Since when it takes no jobs; None while it does, and where that isn't known."""

    @property
    def shut(self) -> bool:
        """True while no job may start there: it is closed, or doesn't answer."""
        return bool(self.closed) or self.quiet_since_ms is not None

    @property
    def cores_used(self) -> int:
        """Cores in use by jobs."""
        return sum(len(occupant.cores) for occupant in self.occupants)

    @property
    def memory_used_mib(self) -> int:
        """Memory in use by jobs."""
        return sum(occupant.memory_mib for occupant in self.occupants)

    @property
    def gpus_used(self) -> int:
        """GPUs in use by jobs."""
        return sum(occupant.gpus for occupant in self.occupants)


def strata_of(nodes: Iterable[NodeView], person: "PersonView") -> Strata:
    """The cores of these nodes by who has them, as a person sees it."""
    counts = {"mine": 0, "accounts": 0, "others": 0}
    closed = free = total = 0
    for node in nodes:
        for occupant in node.occupants:
            counts[person.owner(occupant.user, occupant.account)] += len(occupant.cores)
        rest = node.cores - node.cores_used
        total += node.cores
        if node.shut:
            closed += rest
        else:
            free += rest
    return Strata(counts["mine"], counts["accounts"], counts["others"], closed, free, total)


class LimitView(Struct, frozen=True):
    """A limit that the person is under, and how much of it is in use: ``3 of 50 running jobs``."""

    kind: str
    name: str
    measure: str
    in_use: int
    most: int


class SiteView(Struct, frozen=True, kw_only=True):
    """The site: queues, tiers, software, storage, and whom to ask."""

    name: str
    host: str
    version: str
    """Version of the program that runs it."""
    since_ms: int
    """Since when it runs."""
    head: str
    contact: str
    queues: tuple[Queue, ...]
    tiers: tuple[Tier, ...]
    default_queue: str
    default_tier: str
    trial: str
    """The tier in which a draft is tried, or empty."""
    software: tuple[Software, ...]
    storage: tuple[StorageArea, ...]
    login_nodes: tuple[Node, ...]
    """Nodes where people log in; no job runs there."""
    examples: str
    """A folder of scripts to begin from, or empty."""
    windows: tuple[Window, ...]
    """Times that are not over yet, in which nodes run no jobs or only some people's."""

    @property
    def modules(self) -> tuple[str, ...]:
        """Names of the modules that may be loaded."""
        return tuple(one.name for one in self.software)


class ShareView(Struct, frozen=True):
    """The share of the cluster that an account should get, and its part of what all have used lately, from 0 to 1."""

    account: str
    due: float
    used: float


class PersonView(Struct, frozen=True):
    """The person: their default account, the accounts they may charge with their shares, and their limits."""

    user: str
    account: str
    accounts: tuple[str, ...]
    limits: tuple[LimitView, ...]
    shares: tuple[ShareView, ...] = ()
    operator: bool = True
    """True for those who run the site, and so may grant core-hours."""
    answers_for: tuple[str, ...] = ()
    """The accounts that they lead, or under one that they lead."""

    def owner(self, user: str, account: str) -> Owner:
        """Whose a job of a user and account is, for this person."""
        if user == self.user:
            return "mine"
        return "accounts" if account in self.accounts else "others"


class Board(Struct, frozen=True, kw_only=True):
    """Everything that the interface shows of the present. ``version`` grows with every change."""

    version: int
    now_ms: int
    clock: ClockView
    site: SiteView
    person: PersonView
    strata: Strata
    nodes: tuple[NodeView, ...]
    jobs: tuple[JobView, ...]
    """Live jobs by number, then those that ended lately, newest first."""
    accounts: tuple[AccountLine, ...]
    notices: tuple[str, ...]
    """Obstacles of jobs, in sentences."""
    others_busy: float = 0.0
    """Cores of this machine that are kept busy by what isn't the site's."""
    hosts: tuple[HostState, ...] = ()
    """The nodes that are hosts of their own, as they were a few seconds ago."""

    def host(self, node: str) -> HostState | None:
        """The host that a node is; None for any other."""
        return next((one for one in self.hosts if one.node == node), None)

    def others_on(self, node: NodeView) -> float:
        """Cores of a node that are kept busy by what isn't the site's, as far as that is known."""
        known = self.host(node.name)
        if known is None:
            return self.others_busy
        ours = sum(job.cores_busy or 0.0 for job in self.jobs if node.name in job.nodes and job.phase is Phase.RUNNING)
        return max(0.0, (known.busy or 0.0) - ours)


class BoardMark(Struct, frozen=True):
    """The point up to which a reader has followed the board of one engine."""

    epoch: str
    stamp: int


class BoardChange(Struct, frozen=True, kw_only=True):
    """The changes of the board since a mark. ``whole``: it is all there is, and what was known before is void."""

    mark: BoardMark
    whole: bool
    settled: bool
    """False while forecasts are being worked out: another look goes on with that."""
    partial: bool
    """True while not even all rows are up to date, as at the first looks: another look goes on with these."""
    version: int
    now_ms: int
    clock: ClockView
    site: SiteView | None
    """None while it is as before."""
    person: PersonView
    nodes: tuple[NodeView, ...]
    jobs: tuple[JobView, ...]
    gone: tuple[int, ...]
    """Jobs that are no longer on the board."""
    accounts: tuple[AccountLine, ...]
    notices: tuple[str, ...]
    others_busy: float = 0.0
    hosts: tuple[HostState, ...] = ()


class SiteNames(Struct, frozen=True):
    """The names of a site that may stand in a request."""

    accounts: tuple[str, ...]
    queues: tuple[str, ...]
    tiers: tuple[str, ...]
    traits: tuple[str, ...]
    nodes: tuple[str, ...]
    modules: tuple[str, ...]
