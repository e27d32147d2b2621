"""The waiting jobs of a state as the planner takes them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

from lazy_quarry.core.plan.placement import Owner, PlanRequest

if TYPE_CHECKING:
    from lazy_quarry.core.engine.plans import Plans


class LineQueue:
    """The lines of the present state, merged by the turns of their first ones.

    It must be asked again when the state has changed.
    """

    def __init__(self, plans: Plans, at_ms: int) -> None:
        self._plans, self._at_ms = plans, at_ms

    def samples(self) -> Iterable[tuple[PlanRequest, int]]:
        """One of each line."""
        for line in self._plans.state.jobs.lines.values():
            if line.places:
                request = line.request if line.request.array is None else replace(line.request, array=None)
                owner = Owner(line.user, request.account, request.tier)
                access = self._plans.access(line.user, request.account)
                each = ((0, request),) if line.by_task else ()
                yield PlanRequest(line.places[0][1], request, owner=owner, access=access, each=each), len(line.places)

    def in_turn(self) -> Iterator[PlanRequest]:
        """All of them, no further than they are asked for."""
        return (self._plans.plan_request(job, self._at_ms) for job in self._plans.in_turn(self._at_ms))
