"""Commands to the engine. Each carries the instant at which it is given, because the core reads no clock."""

from typing import Literal

from msgspec import Struct

from lazy_quarry.core.job.by import NOBODY, By
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.host import Host
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Origin, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Window


class Submit(Struct, frozen=True):
    """Submit a job."""

    at_ms: int
    by: By
    request: Request
    origin: Origin
    freed_tasks: tuple[int, ...] = ()
    """For an array that waits task by task for another: its tasks that may start already, from 0."""
    doomed_tasks: tuple[int, ...] = ()
    """And those that can't start any more."""
    mark: str = ""
    """The mark of this submission, which no other has, also in other journals that have the same numbers."""


class HoldJob(Struct, frozen=True):
    """Put a waiting job on hold."""

    at_ms: int
    job: int
    by: By


class ReleaseJob(Struct, frozen=True):
    """Release a job that is on hold."""

    at_ms: int
    job: int
    by: By


class CancelJob(Struct, frozen=True):
    """Cancel a job: a waiting one ends, a running one is stopped.

    ``only``: of an array the tasks that run, or those that have not started; any other job where it is so.
    """

    at_ms: int
    job: int
    by: By
    only: Literal["", "waiting", "running"] = ""


class CloseNode(Struct, frozen=True):
    """Close a node: it gets no more jobs, and the jobs on it go on."""

    at_ms: int
    node: str
    by: By


class OpenNode(Struct, frozen=True):
    """Open a closed node."""

    at_ms: int
    node: str
    by: By = NOBODY


class LoseNode(Struct, frozen=True):
    """A node is gone: the jobs on it are lost, and it gets no jobs until it is opened."""

    at_ms: int
    node: str
    by: By


class LoseJob(Struct, frozen=True):
    """A job is lost though nobody saw its end: its lease is over, after which it was stopped where it ran."""

    at_ms: int
    job: int
    node: str


class HearNode(Struct, frozen=True):
    """A node doesn't answer since an instant; or, without one, answers again."""

    at_ms: int
    node: str
    quiet_since_ms: int | None = None


class ChangeJob(Struct, frozen=True):
    """Change the request of a job that has not started. It keeps its number and the time it has waited."""

    at_ms: int
    job: int
    by: By
    request: Request
    overrides: tuple[str, ...] = ()
    freed_tasks: tuple[int, ...] = ()
    doomed_tasks: tuple[int, ...] = ()


class OrderJobs(Struct, frozen=True):
    """The order that a user gives to their own waiting jobs: these come first, in this order."""

    at_ms: int
    by: By
    jobs: tuple[int, ...]


class Reserve(Struct, frozen=True):
    """Reserve nodes for a time: for no jobs, or only for some people's. A reservation of the same name is replaced."""

    at_ms: int
    window: Window
    by: By


class Unreserve(Struct, frozen=True):
    """Remove a reservation."""

    at_ms: int
    name: str
    by: By


class GrantHours(Struct, frozen=True):
    """Give an account core-ms beside its budget, or take some back (negative); from another account where one is named."""

    at_ms: int
    account: str
    core_ms: int
    by: By
    """With the reason, which has to be given."""
    source: str = ""


class SubmitChain(Struct, frozen=True):
    """Give a chain its number. Its jobs are submitted after that, each by itself, and linked to it."""

    at_ms: int
    name: str
    by: By
    parts: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    source: str
    path: str
    folder: str
    settings: tuple[str, ...] = ()


class LinkChain(Struct, frozen=True):
    """A job that was just submitted is a part of a chain."""

    at_ms: int
    chain: int
    part: str
    number: int
    by: By


class ChangeChain(Struct, frozen=True):
    """Go on with a chain by another file."""

    at_ms: int
    chain: int
    by: By
    parts: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    source: str
    settings: tuple[str, ...] = ()


class Schedule(Struct, frozen=True):
    """Start whatever the plan places at this instant, but for jobs and tasks in ``later``: nodes aren't ready for them yet."""

    at_ms: int
    later: frozenset[int] = frozenset()


class StepClock(Struct, frozen=True):
    """The clock went so much (ms) further than time did, as a clock tells that nobody can set."""

    at_ms: int
    by_ms: int


class HoldDoubtful(Struct, frozen=True):
    """Events may be missing: hold what may have run already. ``copied``: what runs belongs to the original, so it is lost."""

    at_ms: int
    copied: bool


class Finish(Struct, frozen=True):
    """A runner reports that an attempt is over and that its last process is gone.

    ``cause`` is why it was stopped, if it was: ``overtime``, ``overmemory``, ``cancelled``, ``lost``.
    ``held_ms`` is how long it had its cores, by a clock that nobody can set; None: the difference of the instants,
    and for one that was lost no more than its walltime and grace.
    """

    at_ms: int
    job: int
    attempt: int
    exit: int | None = None
    signal: str | None = None
    cause: str | None = None
    reason: str = ""
    use: Use = Use()
    inside: Inside | None = None
    """Parts and tasks that it told of."""
    curve: Curve | None = None
    """Its use over its time."""
    host: Host | None = None
    """The machine that it ran on; None for one that never ran."""
    held_ms: int | None = None
    printed: tuple[FileMark, ...] = ()
    """Its output and errors as it left them."""
    parts: tuple[NodeUse, ...] = ()
    """Use and end on each node of an attempt on several, in the order of its allocations."""
    mark: str = ""
    """The mark of the submission whose attempt it is; a report with another one is about no job of this journal."""


class CancelTask(Struct, frozen=True):
    """Cancel one task of an array, whether it has started or not; ``index`` counts from 0."""

    at_ms: int
    job: int
    index: int
    by: By


class ReadMeters(Struct, frozen=True):
    """Record what each account had been charged when a term began, as the books have it."""

    at_ms: int
    begin_ms: int
    charged: tuple[tuple[str, int], ...]


class ChangeMember(Struct, frozen=True):
    """Let somebody charge an account, or no longer."""

    at_ms: int
    account: str
    user: str
    added: bool
    by: By


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
    | LoseJob
    | HearNode
    | Reserve
    | Unreserve
    | GrantHours
    | ReadMeters
    | ChangeMember
    | SubmitChain
    | LinkChain
    | ChangeChain
    | Schedule
    | StepClock
    | HoldDoubtful
    | Finish
)
