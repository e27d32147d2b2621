"""The events that the engine records. The state of a site is a fold over them."""

from typing import Any, ClassVar, get_args

from msgspec import Struct

from lazy_quarry.core.job.by import NOBODY, By
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.host import Host
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Allocation, Origin, Phase, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Window


class Submitted(Struct, frozen=True):
    """A job was submitted and got its number."""

    kind: ClassVar[str] = "submitted"
    at_ms: int
    job: int
    by: By
    """Whose job it is."""
    request: Request
    origin: Origin
    freed_tasks: tuple[int, ...] = ()
    doomed_tasks: tuple[int, ...] = ()
    mark: str = ""
    """The mark of this submission, which no other has, also in other journals that have the same numbers."""


class Held(Struct, frozen=True):
    """A waiting job was held."""

    kind: ClassVar[str] = "held"
    at_ms: int
    job: int
    by: By


class Released(Struct, frozen=True):
    """A job on hold was released."""

    kind: ClassVar[str] = "released"
    at_ms: int
    job: int
    by: By


class Started(Struct, frozen=True):
    """An attempt starts now, with these allocations."""

    kind: ClassVar[str] = "started"
    at_ms: int
    job: int
    attempt: int
    queue: str
    allocations: tuple[Allocation, ...]


class Stopping(Struct, frozen=True):
    """A running job was told to end."""

    kind: ClassVar[str] = "stopping"
    at_ms: int
    job: int
    cause: str
    by: By = NOBODY
    due_to: str = ""
    """The job to which it gives way, or the node that was lost."""


class Ended(Struct, frozen=True):
    """An attempt is over, or a job that never ran is. ``again``: the job waits for another attempt."""

    kind: ClassVar[str] = "ended"
    at_ms: int
    job: int
    attempt: int
    phase: Phase
    again: bool = False
    planned: bool = False
    """True for a job that was skipped as planned: see :func:`~lazy_quarry.core.job.phase.left_undone`."""
    exit: int | None = None
    signal: str | None = None
    reason: str = ""
    use: Use = Use()
    allocated_core_ms: int = 0
    charge_core_ms: int = 0
    held_ms: int = 0
    """Time in ms that the attempt held its nodes, by its supervisor's clock; 0 also in journals that did not keep it."""
    inside: Inside | None = None
    curve: Curve | None = None
    host: Host | None = None
    printed: tuple[FileMark, ...] = ()
    """Its output and errors as it left them."""
    parts: tuple[NodeUse, ...] = ()
    """Use and end on each node of an attempt on several, in the order of its allocations; empty for one."""
    by: By = NOBODY
    """Who ended a job that had not started."""


class TaskMade(Struct, frozen=True):
    """A task of an array became a job of its own, because it is about to start or a command names it."""

    kind: ClassVar[str] = "task-made"
    at_ms: int
    job: int
    parent: int
    index: int


class TasksDropped(Struct, frozen=True):
    """All tasks of an array that had not started were cancelled."""

    kind: ClassVar[str] = "tasks-dropped"
    at_ms: int
    job: int
    count: int
    by: By


class Changed(Struct, frozen=True):
    """The request of a job that has not started was changed."""

    kind: ClassVar[str] = "changed"
    at_ms: int
    job: int
    by: By
    request: Request
    overrides: tuple[str, ...] = ()
    freed_tasks: tuple[int, ...] = ()
    doomed_tasks: tuple[int, ...] = ()


class Ordered(Struct, frozen=True):
    """A user has ordered their waiting jobs."""

    kind: ClassVar[str] = "ordered"
    at_ms: int
    by: By
    jobs: tuple[int, ...]


class Reserved(Struct, frozen=True):
    """Nodes were reserved for a time."""

    kind: ClassVar[str] = "reserved"
    at_ms: int
    window: Window
    by: By


class Unreserved(Struct, frozen=True):
    """A reservation was removed, or is over."""

    kind: ClassVar[str] = "unreserved"
    at_ms: int
    name: str
    by: By


class NodeClosed(Struct, frozen=True):
    """A node takes no more jobs."""

    kind: ClassVar[str] = "node-closed"
    at_ms: int
    node: str
    by: By
    """With the reason."""


class NodeOpened(Struct, frozen=True):
    """A node takes jobs again."""

    kind: ClassVar[str] = "node-opened"
    at_ms: int
    node: str
    by: By = NOBODY


class NodeQuiet(Struct, frozen=True):
    """A node doesn't answer: nothing is expected to start there, and what runs there keeps its cores."""

    kind: ClassVar[str] = "node-quiet"
    at_ms: int
    node: str
    since_ms: int
    """When it was heard last."""


class NodeAnswers(Struct, frozen=True):
    """A node that was quiet answers again."""

    kind: ClassVar[str] = "node-answers"
    at_ms: int
    node: str


class ClockHeld(Struct, frozen=True):
    """The clock was set back by so much; journal time stands still until it has caught up."""

    kind: ClassVar[str] = "clock-held"
    at_ms: int
    behind_ms: int


class ClockStepped(Struct, frozen=True):
    """The clock was set forward or back by so much (ms) while jobs ran; by the clock as it is now they began so much later."""

    kind: ClassVar[str] = "clock-stepped"
    at_ms: int
    by_ms: int


class BroughtForward(Struct, frozen=True):
    """Charges of an account from before this journal began."""

    kind: ClassVar[str] = "brought-forward"
    at_ms: int
    account: str
    charge_core_ms: int
    allocated_core_ms: int
    jobs: int
    failed: int
    recent: tuple[tuple[str, int, int], ...] = ()
    """The use that was allocated, by user and day: (user, the day's first instant, core-ms)."""
    next_number: int = 0
    """Jobs from before have the numbers below it."""


class Granted(Struct, frozen=True):
    """An account was given core-ms, or gave them away when they are negative."""

    kind: ClassVar[str] = "granted"
    at_ms: int
    account: str
    core_ms: int
    by: By
    """With the reason."""


class MetersRead(Struct, frozen=True):
    """The charges of each account when a term of budgets began; readings of other terms than ``needed`` are dropped."""

    kind: ClassVar[str] = "meters-read"
    at_ms: int
    begin_ms: int
    charged: tuple[tuple[str, int], ...]
    needed: tuple[int, ...]


class BudgetReached(Struct, frozen=True):
    """A share of an account's budget, in hundredths, is used, in the term that began then."""

    kind: ClassVar[str] = "budget-reached"
    at_ms: int
    account: str
    percent: int
    begin_ms: int
    used_core_ms: int
    core_ms: int


class MembersChanged(Struct, frozen=True):
    """Somebody may charge an account from now on, or may no longer."""

    kind: ClassVar[str] = "members-changed"
    at_ms: int
    account: str
    user: str
    added: bool
    by: By


class Chained(Struct, frozen=True):
    """A chain was submitted: its jobs by name, with what each waits for. Their numbers follow."""

    kind: ClassVar[str] = "chained"
    at_ms: int
    chain: int
    name: str
    by: By
    """Whose chain it is."""
    parts: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    source: str = ""
    path: str = ""
    folder: str = ""
    settings: tuple[str, ...] = ()


class ChainLinked(Struct, frozen=True):
    """A job was submitted as a part of a chain."""

    kind: ClassVar[str] = "chain-linked"
    at_ms: int
    chain: int
    part: str
    number: int
    by: By = NOBODY


class ChainChanged(Struct, frozen=True):
    """The file of a chain was changed, and the chain goes on by the new one."""

    kind: ClassVar[str] = "chain-changed"
    at_ms: int
    chain: int
    by: By
    parts: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    source: str
    settings: tuple[str, ...] = ()


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
    | NodeQuiet
    | NodeAnswers
    | Granted
    | MetersRead
    | BudgetReached
    | MembersChanged
    | Chained
    | ChainLinked
    | ChainChanged
    | ClockHeld
    | ClockStepped
)
KINDS: dict[str, Any] = {event.kind: event for event in get_args(Event)}
"""Every kind of event by the word that the journal has for it."""
