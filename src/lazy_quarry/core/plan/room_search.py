"""Finding room now in the plan, with every waiting job at its place. So a job that starts in a room delays nobody."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.job.queue_fit import admitted, walltime_limit_s
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import CORES, GPUS, MEMORY, Owner, PlanRequest
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.room import KINDS, WALLTIMES_S, Room, RoomKind
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Queue, Site


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
    shapes: dict[RoomKind, Request | None] = {
        "one node": replace(plain, nodes=1, threads=largest) if largest else None,
        "many nodes": replace(plain, anywhere=True, ranks=total) if total else None,
        "GPUs": _gpus(plain, free, cores, most),
        "whole nodes": _whole(plain, site, names, free, most),
    }
    for kind in KINDS:
        request = shapes[kind]
        empty = Room(queue.name, plain.walltime_s, kind)
        if request is None:
            yield empty
            continue
        placement = planner.place(timeline, PlanRequest(-1, request, owner=owner), 0, limited)
        if placement is None or placement.start_ms > timeline.now_ms:
            yield empty  # what would start now is what the plan says, nothing else
            continue
        held = sum(one.amount[CORES] for one in placement.allocations)
        gpus = sum(one.amount[GPUS] for one in placement.allocations) if kind == "GPUs" else 0
        yield Room(queue.name, plain.walltime_s, kind, held, len(placement.allocations), gpus, request)


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
