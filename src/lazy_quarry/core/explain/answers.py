"""What the plan tells of jobs and of room, as values: what is shown and sent, without what works it out."""

from dataclasses import dataclass, field
from typing import Literal

from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.standing import StandingParts

Kind = Literal["nothing", "nodes", "limit", "budget", "dependency", "hold", "not-before", "window", "turn", "at-once"]


@dataclass(frozen=True, slots=True)
class Suggestion:
    """A smaller request: the header keys to set, in words, and when the job would start with it."""

    set: tuple[tuple[str, str], ...]
    words: str
    start_ms: int


@dataclass(frozen=True, slots=True)
class Ahead:
    """A job that stands before, by how many hours, and the sentence that says which parts make it so."""

    job: int
    name: str
    user: str
    hours: float
    words: str


@dataclass(frozen=True, slots=True)
class Why:
    """``because``: a sentence on what the job waits for. ``ends`` are jobs whose end its expected start hangs on."""

    because: str
    kind: Kind = "nothing"
    start_ms: int | None = None
    ends: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Explained:
    """All that can be said of a waiting job."""

    why: Why
    place: int | None = None
    """Its place in the order, from 1; None when it isn't its turn to be planned."""
    parts: StandingParts = field(default_factory=StandingParts)
    ahead: tuple[Ahead, ...] = ()
    changes: tuple[Suggestion, ...] = ()

    @property
    def instead(self) -> str:
        """What would start sooner, in a sentence or two; empty for nothing."""
        return " ".join(change.words for change in self.changes[:2])


WALLTIMES_S = (900, 3600, 4 * 3600, 12 * 3600, 2 * 86400)
RoomKind = Literal["one node", "many nodes", "GPUs", "whole nodes"]
KINDS: tuple[RoomKind, ...] = ("one node", "many nodes", "GPUs", "whole nodes")


@dataclass(frozen=True, slots=True)
class Room:
    """The most of one kind that could start now in a queue for a walltime; no request where there is nothing."""

    queue: str
    walltime_s: int
    kind: RoomKind
    cores: int = 0
    nodes: int = 0
    gpus: int = 0
    request: Request | None = None
