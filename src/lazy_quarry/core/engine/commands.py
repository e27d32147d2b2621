"""What can be told to the engine. Commands carry the instant at which they are given; the core reads no clock."""

from dataclasses import dataclass

from lazy_quarry.core.job.job import Origin, Use
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
