"""Finding room now in the plan, with every waiting job at its place. So a job that starts in a room delays nobody."""

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.job.queue_fit import admitted, walltime_limit_s
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import CORES, GPUS, MEMORY, Owner, Placement, PlanRequest
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.room import KINDS, WALLTIMES_S, Room, RoomKind
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Queue, Site
from lazy_quarry.core.values import replace

MOST_TRIES = 8
"""Sizes of a kind that are tried until the budgets cover one."""
Shape = Callable[[int], Request | None]
"""Makes the largest request of a kind that has no more than so many cores."""


def rooms(
    planner: Planner,
    timeline: Timeline,
    site: Site,
    queue: Queue,
    account: str,
    user: str = "",
    limited: LimitRows | None = None,
) -> Iterator[Room]:
    """All rooms of a queue, walltime by walltime; those beyond its limit, or the user's, are left out."""
    tier = queue.tier or site.default_tier
    limit = walltime_limit_s(site, queue, tier, user, account)
    for walltime in WALLTIMES_S:
        if (limit is not None and walltime > limit) or admitted(queue, user):
            continue
        memory = Memory(queue.memory_default_mib, "core")
        plain = Request("room", account, (queue.name,), tier, walltime, memory)
        yield from _of_walltime(planner, timeline, site, queue, plain, Owner(user, account, tier), limited)


def _of_walltime(
    planner: Planner,
    timeline: Timeline,
    site: Site,
    queue: Queue,
    plain: Request,
    owner: Owner,
    limited: LimitRows | None,
) -> Iterator[Room]:
    table = planner.table
    names = [name for name in queue.nodes if name in table.index]
    nodes = np.array([table.index[name] for name in names], dtype=np.int64)
    free = timeline.least_free(nodes, (plain.walltime_s + plain.grace_s) * 1000)
    each = plain.memory.mib
    cores = np.maximum(0, np.minimum(free[CORES], free[MEMORY] // max(1, each)))
    most = min(queue.max_cores or 2**31, limited.cores_left(owner, queue.name) if limited else 2**31)
    largest = int(min(cores.max(initial=0), most))
    total = int(min(cores.sum(), most))
    shapes: dict[RoomKind, Shape] = {
        "one node": lambda bound: _some(replace(plain, nodes=1, threads=min(largest, bound)), min(largest, bound)),
        "many nodes": lambda bound: _some(replace(plain, anywhere=True, ranks=min(total, bound)), min(total, bound)),
        "GPUs": lambda bound: _gpus(plain, free, cores, min(most, bound)),
        "whole nodes": lambda bound: _whole(plain, site, names, free, min(most, bound)),
    }
    for kind in KINDS:
        empty = Room(queue.name, plain.walltime_s, kind)
        found = _paid(planner, timeline, shapes[kind], owner, limited)
        if found is None:
            yield empty  # what would start now is what the plan says, nothing else
            continue
        request, placement = found
        held = sum(one.amount[CORES] for one in placement.allocations)
        gpus = sum(one.amount[GPUS] for one in placement.allocations) if kind == "GPUs" else 0
        yield Room(queue.name, plain.walltime_s, kind, held, len(placement.allocations), gpus, request)


def _some(request: Request, cores: int) -> Request | None:
    return request if cores > 0 else None


def _paid(
    planner: Planner, timeline: Timeline, shape: Shape, owner: Owner, limited: LimitRows | None
) -> tuple[Request, Placement] | None:
    """The largest of a kind that starts now and that the budgets cover, with its place; None where there is none."""
    bound = 2**31
    for _ in range(MOST_TRIES):
        request = shape(bound)
        if request is None:
            return None
        placement = planner.place(timeline, PlanRequest(-1, request, owner=owner), 0, limited)
        if placement is None or placement.start_ms > timeline.now_ms:
            return None
        charged = planner.greatest_charge(request.tier, placement)
        if limited is None or limited.obstacle(owner, charged) is None:
            return request, placement
        held = sum(one.amount[CORES] for one in placement.allocations)
        bound = min(held - 1, held * limited.left_for(owner) // max(1, charged))
    return None


def _gpus(plain: Request, free: NDArray[np.int32], cores: NDArray[np.int32], most: int) -> Request | None:
    """GPUs on nodes: the same number on each, with a rank and a core for each GPU."""
    on_node = np.maximum(0, np.minimum(free[GPUS], cores))
    best = (0, 0, 0)
    for each in range(1, int(on_node.max(initial=0)) + 1):
        count = min(int((on_node >= each).sum()), most // each)
        best = max(best, (count * each, -count, each))
    total, count, each = best
    if not total:
        return None
    return replace(plain, nodes=-count, ranks=total, gpus=each)


def _whole(plain: Request, site: Site, names: list[str], free: NDArray[np.int32], most: int) -> Request | None:
    """All nodes that are empty for so long, with a rank for each core."""
    idle = [
        site.node[name]
        for place, name in enumerate(names)
        if free[CORES][place] == site.node[name].cores and free[MEMORY][place] == site.node[name].memory_mib
    ]
    if not idle:
        return None
    least = min(min(node.cores, node.memory_mib // max(1, plain.memory.mib)) for node in idle)
    count = min(len(idle), most // max(1, least))
    if not least or not count:
        return None
    return replace(plain, nodes=count, ranks=count * least, whole_nodes=True)
