"""The waiting jobs as the planner takes them: in the order of their turns, no further than it needs."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Protocol

from lazy_quarry.core.plan.placement import PlanRequest


class TurnQueue(Protocol):
    """Jobs that wait, and the kinds that there are of them."""

    def samples(self) -> Iterable[tuple[PlanRequest, int]]:
        """Jobs that stand for all others like them, each with how many there are."""
        ...

    def in_turn(self) -> Iterator[PlanRequest]:
        """All of them, in the order of their turns."""
        ...


class ListedQueue:
    """A queue of which all is known beforehand."""

    def __init__(self, requests: Sequence[PlanRequest]) -> None:
        self._requests = requests

    def samples(self) -> Iterable[tuple[PlanRequest, int]]:
        """Each for itself."""
        return ((wanted, 1) for wanted in self._requests)

    def in_turn(self) -> Iterator[PlanRequest]:
        """As they were given."""
        return iter(self._requests)
