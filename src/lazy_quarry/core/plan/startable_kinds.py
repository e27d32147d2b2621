"""The kinds of request that may still start now: they decide how far a plan must be worked out before jobs can start."""

from collections.abc import Callable

from lazy_quarry.core.plan.placement import PlanRequest

SURE_FOR = 8
"""Once it is known that something may start, it is looked again after so many places were taken."""
Kind = int | tuple
"""Equal for jobs that are placed alike."""


class OpenKinds:
    """The kinds that are left to try, without those of which none can start now.

    Within a plan places are only taken, so a kind that can't start now never will.
    """

    def __init__(self) -> None:
        self._left: dict[Kind, int] = {}
        """Number of each kind that were not tried yet."""
        self._open: dict[Kind, PlanRequest] = {}
        """One of each of those kinds, but for the closed ones."""
        self._sure_at: int | None = None
        """Number of places taken when it was last seen that some kind can start."""

    def add(self, kind: Kind, wanted: PlanRequest, count: int, closed: bool) -> None:
        """Take in further jobs of a kind to be tried; ``closed``: none of them can start now."""
        self._left[kind] = self._left.get(kind, 0) + count
        if not closed:
            self._open.setdefault(kind, wanted)
            self._sure_at = None

    def tried(self, kind: Kind) -> None:
        """One more job of a kind was tried."""
        self._left[kind] = left = self._left.get(kind, 1) - 1
        if left <= 0 and self._open.pop(kind, None) is not None:
            self._sure_at = None

    def any(self, taken: int, could_start: Callable[[Kind, PlanRequest], bool]) -> bool:
        """True when some kind may start now; ``taken`` counts the places that were taken so far."""
        # To ask all kinds costs a search each. A place or two more seldom change the answer, and a wrong "yes" only makes the plan
        # a few jobs longer than it had to be.
        if self._open and self._sure_at is not None and taken < self._sure_at + SURE_FOR:
            return True
        for kind, wanted in list(self._open.items()):
            if could_start(kind, wanted):
                self._sure_at = taken
                return True
            del self._open[kind]
        return False
