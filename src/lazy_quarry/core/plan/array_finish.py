"""When an array would be through: its tasks laid into a copy of the plan, as many at a time as fit."""

import heapq
from dataclasses import dataclass, replace

import numpy as np

from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.planner import Planner, PlanRequest
from lazy_quarry.core.plan.timeline import Timeline

MOST_WAVES = 12
"""Beyond so many, the rest is reckoned at the pace of these."""


@dataclass(frozen=True, slots=True)
class Through:
    """When the first task would start and the last one would be over; ``reckoned``: not laid out to the end."""

    first_ms: int
    last_ms: int
    reckoned: bool = False


def through(planner: Planner, timeline: Timeline, request: Request, count: int, at_once: int | None) -> Through | None:
    """When ``count`` tasks like this would be through, ``at_once`` of them at most at a time; None for never.

    Tasks are counted to the end of their walltime and grace, as the plan counts every job.
    """
    field = timeline.copy()
    task = replace(request, array=None)
    running: list[tuple[int, int]] = []  # (end, tasks)
    going, done, first, last, not_before = 0, 0, None, 0, 0
    for _ in range(MOST_WAVES):
        room = count - done if at_once is None else min(count - done, at_once - going)
        placed = planner.place_many(field, PlanRequest(-1, task), room, not_before)
        if placed is None:
            return None
        start, end, several = placed
        first = start if first is None else first
        last = max(last, end)
        done += several
        going += several
        heapq.heappush(running, (end, several))
        if done >= count:
            return Through(first, last)
        not_before = start
        while running and (running[0][0] <= start or (at_once is not None and going >= at_once)):
            ended, tasks = heapq.heappop(running)
            going -= tasks
            not_before = max(not_before, ended)
    pace = (last - (first or 0)) / done
    return Through(first or 0, (first or 0) + int(np.ceil(pace * count)), True)
