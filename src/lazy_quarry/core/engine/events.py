"""What can be told to the engine, and what it records. State is a fold over the events.

Commands carry the instant at which they are given; nothing in the core reads a clock.
"""

from dataclasses import dataclass, field
from typing import Any, ClassVar, get_args

from lazy_quarry.core.engine.codec import canonical, from_plain, to_plain
from lazy_quarry.core.job.job import Allocation, Origin, Phase, Use
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Window


@dataclass(frozen=True, slots=True)
class Submit:
    """Take a job in."""

    at_ms: int
    user: str
    request: Request
    origin: Origin
    freed_tasks: tuple[int, ...] = ()
    """Of an array that waits task by task for another: those of its tasks that need wait no more, from 0."""
    doomed_tasks: tuple[int, ...] = ()
    """And those that can't start any more."""


@dataclass(frozen=True, slots=True)
class HoldJob:
    """Keep a waiting job from starting."""

    at_ms: int
    job: int
    by: str


@dataclass(frozen=True, slots=True)
class ReleaseJob:
    """Let a held job start again."""

    at_ms: int
    job: int
    by: str


@dataclass(frozen=True, slots=True)
class CancelJob:
    """End a job that waits, or stop one that runs."""

    at_ms: int
    job: int
    by: str


@dataclass(frozen=True, slots=True)
class CloseNode:
    """Give a node no more jobs; those on it go on."""

    at_ms: int
    node: str
    reason: str


@dataclass(frozen=True, slots=True)
class OpenNode:
    """Let a closed node take jobs again."""

    at_ms: int
    node: str


@dataclass(frozen=True, slots=True)
class LoseNode:
    """A node has gone: what ran on it is lost, and it takes no jobs until it is opened."""

    at_ms: int
    node: str
    reason: str


@dataclass(frozen=True, slots=True)
class ChangeJob:
    """Ask for something else on behalf of a job that has not started; it keeps its number and its waiting."""

    at_ms: int
    job: int
    by: str
    request: Request
    overrides: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class OrderJobs:
    """A user's own order among their waiting jobs: these first, as they stand here."""

    at_ms: int
    by: str
    jobs: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Reserve:
    """Keep nodes free of jobs for a time, or for some people's jobs alone; one of the same name is replaced."""

    at_ms: int
    window: Window
    by: str


@dataclass(frozen=True, slots=True)
class Unreserve:
    """Take a reservation back."""

    at_ms: int
    name: str
    by: str


@dataclass(frozen=True, slots=True)
class Schedule:
    """Start whatever the plan places at this instant."""

    at_ms: int


@dataclass(frozen=True, slots=True)
class Finish:
    """A runner's word that an attempt is over and its last process gone.

    ``cause`` is why it was stopped, if it was: ``overtime``, ``overmemory``, ``cancelled``, ``lost``.
    ``held_ms`` is how long it held its cores by a clock that is never set; None: by the instants.
    """

    at_ms: int
    job: int
    attempt: int
    exit: int | None = None
    signal: str | None = None
    cause: str | None = None
    reason: str = ""
    use: Use = Use()
    held_ms: int | None = None


@dataclass(frozen=True, slots=True)
class CancelTask:
    """End one task of an array, whether it has started or not; ``index`` counts from 0."""

    at_ms: int
    job: int
    index: int
    by: str


Command = (
    CancelTask
    | Submit
    | HoldJob
    | ReleaseJob
    | CancelJob
    | ChangeJob
    | OrderJobs
    | CloseNode
    | OpenNode
    | LoseNode
    | Reserve
    | Unreserve
    | Schedule
    | Finish
)


@dataclass(frozen=True, slots=True)
class Submitted:
    """A job was taken in under a number."""

    kind: ClassVar[str] = "submitted"
    at_ms: int
    job: int
    user: str
    request: Request
    origin: Origin
    freed_tasks: tuple[int, ...] = ()
    doomed_tasks: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Held:
    """A waiting job was held."""

    kind: ClassVar[str] = "held"
    at_ms: int
    job: int
    by: str


@dataclass(frozen=True, slots=True)
class Released:
    """A held job was let go."""

    kind: ClassVar[str] = "released"
    at_ms: int
    job: int
    by: str


@dataclass(frozen=True, slots=True)
class Started:
    """An attempt was given its place; it holds these allocations from this instant."""

    kind: ClassVar[str] = "started"
    at_ms: int
    job: int
    attempt: int
    queue: str
    allocations: tuple[Allocation, ...]


@dataclass(frozen=True, slots=True)
class Stopping:
    """A running job was told to end."""

    kind: ClassVar[str] = "stopping"
    at_ms: int
    job: int
    cause: str
    by: str


@dataclass(frozen=True, slots=True)
class Ended:
    """An attempt is over, or a job that never ran is. ``again``: the job waits for another attempt."""

    kind: ClassVar[str] = "ended"
    at_ms: int
    job: int
    attempt: int
    phase: Phase
    again: bool = False
    exit: int | None = None
    signal: str | None = None
    reason: str = ""
    use: Use = Use()
    allocated_core_ms: int = 0
    charge_core_ms: int = 0


@dataclass(frozen=True, slots=True)
class TaskMade:
    """A task of an array became a job of its own, about to start or to be dealt with."""

    kind: ClassVar[str] = "task-made"
    at_ms: int
    job: int
    parent: int
    index: int


@dataclass(frozen=True, slots=True)
class TasksDropped:
    """All tasks of an array that had not started were cancelled."""

    kind: ClassVar[str] = "tasks-dropped"
    at_ms: int
    job: int
    count: int
    by: str


@dataclass(frozen=True, slots=True)
class Changed:
    """A job that has not started asks for something else."""

    kind: ClassVar[str] = "changed"
    at_ms: int
    job: int
    by: str
    request: Request
    overrides: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Ordered:
    """A user has put their waiting jobs into an order."""

    kind: ClassVar[str] = "ordered"
    at_ms: int
    by: str
    jobs: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Reserved:
    """Nodes are kept free for a time."""

    kind: ClassVar[str] = "reserved"
    at_ms: int
    window: Window
    by: str


@dataclass(frozen=True, slots=True)
class Unreserved:
    """A reservation was taken back, or is over."""

    kind: ClassVar[str] = "unreserved"
    at_ms: int
    name: str
    by: str


@dataclass(frozen=True, slots=True)
class NodeClosed:
    """A node takes no more jobs."""

    kind: ClassVar[str] = "node-closed"
    at_ms: int
    node: str
    reason: str


@dataclass(frozen=True, slots=True)
class NodeOpened:
    """A node takes jobs again."""

    kind: ClassVar[str] = "node-opened"
    at_ms: int
    node: str


@dataclass(frozen=True, slots=True)
class ClockHeld:
    """The clock was set back by so much; journal time stands still until it has caught up."""

    kind: ClassVar[str] = "clock-held"
    at_ms: int
    behind_ms: int


@dataclass(frozen=True, slots=True)
class BroughtForward:
    """What an account was charged before this journal began."""

    kind: ClassVar[str] = "brought-forward"
    at_ms: int
    account: str
    charge_core_ms: int
    allocated_core_ms: int
    jobs: int
    failed: int
    recent: tuple[tuple[str, int, int], ...] = ()
    """Of what was held, when and by whom: (user, the day's first instant, core-ms)."""


Event = (
    TaskMade
    | TasksDropped
    | BroughtForward
    | Submitted
    | Held
    | Released
    | Started
    | Stopping
    | Ended
    | Changed
    | Ordered
    | Reserved
    | Unreserved
    | NodeClosed
    | NodeOpened
    | ClockHeld
)
KINDS: dict[str, Any] = {event.kind: event for event in get_args(Event)}


def encode(event: Event) -> tuple[str, str]:
    """The event's kind and its body as one line of canonical JSON."""
    return event.kind, canonical(to_plain(event))


def decode(kind: str, plain: Any) -> Event:
    """The opposite of :func:`encode`, given the parsed body."""
    event: Event = from_plain(KINDS[kind], plain)
    return event


@dataclass(frozen=True, slots=True)
class Happening:
    """An event with its number in the journal."""

    number: int
    event: Event = field()
