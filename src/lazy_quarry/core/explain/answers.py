"""Answers about a waiting job, as values. They are sent and shown without importing the code that computes them."""

from msgspec import Struct, field

from lazy_quarry.core.plan.standing_parts import StandingParts
from lazy_quarry.core.plan.waiting import WaitKind


class Suggestion(Struct, frozen=True):
    """A smaller request: the header keys to set, in words, and when the job would start with it by the plan.

    ``how`` is the request as an end of a sentence: ``in queue deep``.
    """

    set: tuple[tuple[str, str], ...]
    words: str
    start_ms: int
    how: str = ""
    at_once: bool = False
    """It would start at the instant at which this was worked out, which who tells it may look at a moment later, or earlier."""


class Ahead(Struct, frozen=True):
    """A job ahead in the order: by how many hours, and a sentence on the parts of its standing that make the difference."""

    job: int
    name: str
    user: str
    hours: float
    words: str


class Why(Struct, frozen=True):
    """``because``: a sentence on what the job waits for. ``ends`` are jobs whose end its expected start hangs on."""

    because: str
    kind: WaitKind = "nothing"
    start_ms: int | None = None
    ends: tuple[str, ...] = ()


class Explained(Struct, frozen=True):
    """All answers about a waiting job."""

    why: Why
    place: int | None = None
    """Its place in the order, from 1; None when it isn't its turn to be planned."""
    parts: StandingParts = field(default_factory=StandingParts)
    ahead: tuple[Ahead, ...] = ()
    changes: tuple[Suggestion, ...] = ()

    @property
    def instead(self) -> str:
        """Changes that would start it sooner, in a sentence or two; empty for none."""
        return " ".join(change.words for change in self.changes[:2])
