"""When all tasks of an array would have ended: they are placed in a copy of the plan, as many at a time as fit."""

import heapq

import numpy as np
from msgspec import Struct

from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.placement import PlanRequest
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.values import replace

MOST_ROUNDS = 12
"""Beyond so many, the rest is estimated at the pace of these."""


class ArrayFinish(Struct, frozen=True):
    """When the first task would start and the last one would end; ``estimated``: not placed to the end."""

    first_ms: int
    last_ms: int
    estimated: bool = False


def array_finish(
    planner: Planner,
    timeline: Timeline,
    request: Request,
    count: int,
    at_once: int | None,
    not_before: int = 0,
    keep: bool = False,
) -> ArrayFinish | None:
    """When ``count`` tasks like this would have ended, at most ``at_once`` of them at a time; None for never.

    None starts before ``not_before``. With ``keep`` their places are taken in the timeline itself.

    Tasks are counted to the end of their walltime and grace, as the plan counts every job.
    """
    field = timeline if keep else timeline.copy()
    task = replace(request, array=None)
    running: list[tuple[int, int]] = []  # (end, tasks)
    going, done, first, last = 0, 0, None, 0
    for _ in range(MOST_ROUNDS):
        room = count - done if at_once is None else min(count - done, at_once - going)
        wanted = PlanRequest(-1, task)
        one = planner.place(field, wanted, not_before)
        if one is None:
            return None
        start, end, several = one.start_ms, one.end_ms, planner.fill(field, wanted, one, room)
        first = start if first is None else first
        last = max(last, end)
        done += several
        going += several
        heapq.heappush(running, (end, several))
        if done >= count:
            return ArrayFinish(first, last)
        not_before = start
        while running and (running[0][0] <= start or (at_once is not None and going >= at_once)):
            ended, tasks = heapq.heappop(running)
            going -= tasks
            not_before = max(not_before, ended)
    pace = (last - (first or 0)) / done
    return ArrayFinish(first or 0, (first or 0) + int(np.ceil(pace * count)), True)
