"""What the interface and the command line are shown: frozen values, the same from every kind of site.

Instants are milliseconds since the epoch, sizes MiB, work core-milliseconds, as everywhere.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from lazy_quarry.core.explain.answers import Explained, Room
from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.header.surroundings import Surroundings
from lazy_quarry.core.job.job import Job, Phase, Use
from lazy_quarry.core.ledger.charges import AccountLine, allocated_core_ms, charge
from lazy_quarry.core.site import Node, Queue, Site, Software, Storage, Tier, Window
from lazy_quarry.core.units import exact_duration, exact_size, format_instant


@dataclass(frozen=True, slots=True)
class ClockView:
    """The site's clock: real, or one that may be sped up and paused."""

    kind: Literal["rehearsal", "wall"]
    speed: int = 1
    paused: bool = False


@dataclass(frozen=True, slots=True)
class Strata:
    """All cores of the cluster by who has them; they add up to ``total``."""

    mine: int
    accounts: int
    others: int
    closed: int
    free: int
    total: int


@dataclass(frozen=True, slots=True)
class Occupant:
    """What one job has of one node."""

    job: int
    owner: Literal["mine", "accounts", "others"]
    name: str
    user: str
    cores: tuple[int, ...]
    memory_mib: int
    gpus: int
    until_ms: int
    label: str = ""
    """The job's number as people say it."""


@dataclass(frozen=True, slots=True)
class NodeView:
    """A node now: what it has, who holds what, and why it takes no jobs if it doesn't."""

    name: str
    queues: tuple[str, ...]
    cores: int
    memory_mib: int
    gpus: int
    scratch_mib: int
    traits: tuple[str, ...]
    closed: str
    occupants: tuple[Occupant, ...]

    @property
    def cores_used(self) -> int:
        """Cores held by jobs."""
        return sum(len(occupant.cores) for occupant in self.occupants)

    @property
    def memory_used_mib(self) -> int:
        """Memory held by jobs."""
        return sum(occupant.memory_mib for occupant in self.occupants)

    @property
    def gpus_used(self) -> int:
        """GPUs held by jobs."""
        return sum(occupant.gpus for occupant in self.occupants)


@dataclass(frozen=True, slots=True)
class JobView:
    """A job for people: what was asked, where it stands, what it used so far."""

    job: int
    name: str
    phase: Phase
    user: str
    account: str
    queue: str
    tier: str
    submitted_ms: int
    started_ms: int | None
    ended_ms: int | None
    forecast_ms: int | None
    forecast_end_ms: int | None
    forecast_nodes: tuple[str, ...]
    why: str
    nodes: tuple[str, ...]
    cores_by_node: dict[str, tuple[int, ...]]
    node_count: int
    cores: int
    ranks: int
    threads: int
    gpus: int
    memory_mib: int
    walltime_s: int
    grace_s: int
    elapsed_s: int
    use: Use
    cores_busy: float | None
    exit: int | None
    signal: str | None
    reason: str
    stopping: str | None
    attempt: int
    charge_core_ms: int
    output: str
    errors: str
    label: str = ""
    """The number as people say it: ``4127``, or ``4127/5`` for a task."""
    parent: int | None = None
    task: int | None = None
    parameters: tuple[tuple[str, str], ...] = ()
    rows: tuple[tuple[int, int, int], ...] = ()
    """Of an array, its task numbers as (first, last, step)."""
    counts: tuple[tuple[str, int], ...] = ()
    warning: str = ""
    """What somebody should see to, or empty."""
    """Of an array, how many of its tasks are in each state."""

    @property
    def memory_peak_mib(self) -> int:
        """Greatest memory of all its processes at one time."""
        return self.use.memory_peak_mib


@dataclass(frozen=True, slots=True)
class LimitView:
    """A limit that the person is under, and how much of it is in use: ``3 of 50 running jobs``."""

    kind: str
    name: str
    measure: str
    held: int
    most: int


@dataclass(frozen=True, slots=True)
class Board:
    """Everything that the frame and the places show of the present, read in one go."""

    version: int
    now_ms: int
    site: str
    user: str
    account: str
    clock: ClockView
    strata: Strata
    jobs: tuple[JobView, ...]
    nodes: tuple[NodeView, ...]
    queues: tuple[Queue, ...]
    tiers: tuple[Tier, ...]
    windows: tuple[Window, ...]
    accounts: tuple[AccountLine, ...]
    my_accounts: tuple[str, ...]
    software: tuple[Software, ...]
    notices: tuple[str, ...]
    default_queue: str = ""
    default_tier: str = ""
    storage: tuple[Storage, ...] = ()
    closed_to_jobs: tuple[Node, ...] = ()
    """Nodes where people log in; no job runs there."""
    head: str = ""
    contact: str = ""
    examples: str = ""
    trial: str = ""
    limits: tuple[LimitView, ...] = ()

    @property
    def modules(self) -> tuple[str, ...]:
        """Names of the modules that may be loaded."""
        return tuple(one.name for one in self.software)


@dataclass(frozen=True, slots=True)
class RoomView:
    """The most of one kind that could start now: its size, and the header keys that ask for just that."""

    queue: str
    walltime_s: int
    kind: str
    cores: int
    nodes: int
    gpus: int
    header: tuple[tuple[str, str | int | bool], ...]


@dataclass(frozen=True, slots=True)
class PlacedNode:
    """A node of a draft's placement: its size, the cores others hold, and the ranks that would land there."""

    node: str
    cores: int
    taken: tuple[int, ...]
    own: tuple[int, ...]
    ranks: int


@dataclass(frozen=True, slots=True)
class Rung:
    """A request on the start ladder, with the start it would get, or the reason why not.

    It differs from the one asked for in its walltime or, with ``nodes``, in its number of nodes.
    """

    walltime_s: int
    start_ms: int | None
    asked: bool
    refused: str = ""
    nodes: int = 0
    ranks: int = 0


@dataclass(frozen=True, slots=True)
class FinishRung:
    """When all tasks of an array would be through with so many at once; None: as many as fit."""

    at_once: int | None
    asked: bool
    first_ms: int | None
    last_ms: int | None
    reckoned: bool = False


@dataclass(frozen=True, slots=True)
class TraitRung:
    """A trait, and what would match with it beside those chosen: nodes, their cores, and those free now."""

    name: str
    chosen: bool
    nodes: int
    cores: int
    free: int


@dataclass(frozen=True, slots=True)
class DraftReport:
    """What the site says of a draft: problems, and what it would get if it were submitted now."""

    diagnostics: tuple[Diagnostic, ...]
    now_ms: int
    name: str = ""
    account: str = ""
    queue: str = ""
    nodes: int = 0
    ranks: int = 0
    threads: int = 0
    cores: int = 0
    memory_mib: int = 0
    walltime_s: int = 0
    whole_nodes: bool = False
    placement: tuple[PlacedNode, ...] = ()
    ladder: tuple[Rung, ...] = ()
    cost_core_ms: int = 0
    left_core_ms: int | None = None
    placed_nodes: int = 0
    """Nodes of the placement; ``placement`` has the first 64 of them."""
    fewer: tuple[Rung, ...] = ()
    tasks: int = 0
    through: tuple[FinishRung, ...] = ()
    traits: tuple[TraitRung, ...] = ()
    matching: tuple[int, int] = (0, 0)
    """Nodes that match the request's traits in its queues, and their cores."""
    gpus: int = 0
    start_ms: int | None = None
    trial: str = ""
    """The tier in which it can be tried, or empty."""

    @property
    def refused(self) -> bool:
        """True when something must change before it can be submitted."""
        return any(one.severity == "error" for one in self.diagnostics)


@dataclass(frozen=True, slots=True)
class Submission:
    """A script on its way in: its text and where it comes from."""

    script: str
    path: str = ""
    directory: str = ""
    overrides: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    environment: tuple[tuple[str, str], ...] = ()
    findings: tuple[Diagnostic, ...] = ()
    surroundings: Surroundings = Surroundings()


@dataclass(frozen=True, slots=True)
class Receipt:
    """What became of a submission: its number and forecast, or the diagnostics that refused it."""

    job: int | None
    forecast_ms: int | None
    now_ms: int
    diagnostics: tuple[Diagnostic, ...]
    tasks: int | None = None


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one command to one job: done, or the reason why not. ``known``: there is such a job."""

    job: int
    done: bool
    message: str
    known: bool = True


@dataclass(frozen=True, slots=True)
class Record:
    """One line of a job's history."""

    at_ms: int
    what: str


@dataclass(frozen=True, slots=True)
class JobDetail:
    """A job with its record, its script, and a verdict in words when it has ended."""

    view: JobView
    record: tuple[Record, ...]
    script: str
    script_path: str
    directory: str
    overrides: tuple[str, ...]
    instead: str
    verdict: str
    tasks: tuple[JobView, ...] = ()
    """Of an array, those of its tasks that have started or ended."""
    explained: Explained | None = None
    """Of one that has not started: what it waits for, who is ahead, what would help."""


@dataclass(frozen=True, slots=True)
class OutputChunk:
    """A piece of what a job printed. ``next_byte`` is where the next piece begins, ``size`` all there is."""

    path: str
    text: str
    next_byte: int
    size: int
    problem: str = ""


def fill_in(template: str, words: Mapping[str, str]) -> str:
    """Text with ``{placeholder}`` filled in where the word for it is known."""
    for placeholder, word in words.items():
        template = template.replace(f"{{{placeholder}}}", word)
    return template


def output_path(job: Job, template: str) -> str:
    """A job's output path with its placeholders filled in, absolute where its directory is known."""
    first = job.allocations[0].node if job.allocations else "{node}"
    fillings = {
        "name": job.request.name,
        "job": str(job.parent or job.number),
        "task": "" if job.request.task is None else str(job.request.task),
        **dict(job.request.parameters),
        "user": job.user,
        "node": first,
        "date": format_instant(job.submitted_ms)[:10],
    }
    filled = fill_in(template, {name: word.replace("/", "-") for name, word in fillings.items()})
    directory = start_directory(job)
    return filled if filled.startswith("/") or not directory else f"{directory.rstrip('/')}/{filled}"


def start_directory(job: Job) -> str:
    """Where the job starts: its ``directory``, taken from where it was submitted."""
    asked, base = job.request.directory, job.origin.directory
    if not asked:
        return base
    return asked if asked.startswith("/") else f"{base.rstrip('/')}/{asked}"


def job_view(
    job: Job,
    site: Site,
    now_ms: int,
    *,
    cores: int,
    node_count: int,
    memory_mib: int,
    forecast: tuple[int, int, tuple[str, ...]] | None = None,
    why: str = "",
    live: tuple[Use, float] | None = None,
    counts: tuple[tuple[str, int], ...] = (),
    warning: str = "",
) -> JobView:
    """A job as it is shown. ``cores``, ``node_count`` and ``memory_mib`` are what it asks for before it has any."""
    held = job.allocated_core_ms
    charged = job.charge_core_ms
    array = job.request.array is not None
    elapsed = 0
    if job.started_ms is not None:
        elapsed = max(0, (job.ended_ms if job.ended_ms is not None else now_ms) - job.started_ms)
    if job.phase is Phase.RUNNING and not array:
        held = allocated_core_ms(job, now_ms)
        charged += charge(site, job.request.tier, held)
    output = output_path(job, job.request.output)
    return JobView(
        job=job.number,
        name=job.request.name,
        phase=job.phase,
        user=job.user,
        account=job.request.account,
        queue=job.queue or ", ".join(job.request.queues),
        tier=job.request.tier,
        submitted_ms=job.submitted_ms,
        started_ms=job.started_ms,
        ended_ms=job.ended_ms,
        forecast_ms=forecast[0] if forecast else None,
        forecast_end_ms=forecast[1] if forecast else None,
        forecast_nodes=forecast[2] if forecast else (),
        why=why,
        nodes=tuple(allocation.node for allocation in job.allocations),
        cores_by_node={allocation.node: allocation.cores for allocation in job.allocations},
        node_count=len(job.allocations) or node_count,
        cores=job.cores_allocated or cores,
        ranks=sum(allocation.ranks for allocation in job.allocations) or job.request.ranks,
        threads=job.request.threads,
        gpus=sum(len(allocation.gpus) for allocation in job.allocations) or job.request.gpus * node_count,
        memory_mib=sum(allocation.memory_mib for allocation in job.allocations) or memory_mib,
        walltime_s=job.request.walltime_s,
        grace_s=job.request.grace_s,
        elapsed_s=elapsed // 1000,
        use=live[0] if live else job.use,
        cores_busy=live[1] if live else None,
        exit=job.exit,
        signal=job.signal,
        reason=job.reason,
        stopping=job.stopping,
        attempt=job.attempt,
        charge_core_ms=charged,
        output=output,
        errors=output if job.request.errors == "joined" else output_path(job, job.request.errors),
        label=job.label,
        parent=job.parent,
        task=job.request.task,
        parameters=job.request.parameters,
        rows=job.request.array.rows if job.request.array else (),
        counts=counts,
        warning=warning,
    )


def room_view(room: Room) -> RoomView:
    """A room as it is shown, with the header that asks for it."""
    request = room.request
    header: list[tuple[str, str | int | bool]] = []
    if request is not None:
        header = [("queue", room.queue), ("walltime", exact_duration(room.walltime_s))]
        if request.anywhere:
            header.append(("nodes", "any"))
        elif request.nodes:
            header.append(("nodes", request.nodes))
        header += [("ranks", request.ranks)] if request.ranks > 1 else []
        header += [("threads", request.threads)] if request.threads > 1 else []
        header.append(("memory", f"{exact_size(request.memory.mib)}/core"))
        header += [("gpus", request.gpus)] if request.gpus else []
        header += [("whole-nodes", True)] if request.whole_nodes else []
    return RoomView(room.queue, room.walltime_s, room.kind, room.cores, room.nodes, room.gpus, tuple(header))
