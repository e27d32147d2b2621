"""A believable past: submissions run first come, first served on the demo's nodes, so nothing is ever over."""

import heapq
from collections.abc import Iterable, Iterator

from msgspec import Struct

from lazy_quarry.core.job.job import Allocation, Job, Phase, Use
from lazy_quarry.core.job.needs import deal, memory_on_node
from lazy_quarry.core.job.rates import charge, counted
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.job.times import JobTimes
from lazy_quarry.core.site import Site
from lazy_quarry.core.values import replace
from lazy_quarry.demo.people import Arrival
from lazy_quarry.run.rehearsal import modelled_inside, modelled_parts


class _Ground(Struct):
    """Free cores, memory and GPUs of the nodes of one kind, and the ends that will free more."""

    nodes: list[str]
    cores: dict[str, set[int]]
    memory: dict[str, int]
    gpus: dict[str, set[int]]
    ends: list[tuple[int, int, tuple[Allocation, ...]]]
    clock: int = 0


def ran(site: Site, stream: Iterable[Arrival], first_number: int, closed: frozenset[str]) -> Iterator[Job]:
    """Each arrival as a job that has started and ended, whenever that will be; in the order of arrival."""
    grounds = {queue.name: _ground(site, queue.nodes, closed) for queue in site.queues}
    grounds["trial"] = grounds["tidal"]
    for number, arrival in enumerate(stream, first_number):
        yield _run(site, grounds[arrival.request.queues[0]], number, arrival)


def _ground(site: Site, names: tuple[str, ...], closed: frozenset[str]) -> _Ground:
    nodes = [name for name in names if name not in closed]
    return _Ground(
        nodes,
        {name: set(range(site.node[name].cores)) for name in nodes},
        {name: site.node[name].memory_mib for name in nodes},
        {name: set(range(site.node[name].gpus)) for name in nodes},
        [],
    )


def _run(site: Site, ground: _Ground, number: int, arrival: Arrival) -> Job:
    request = arrival.request
    wanted = [ranks for count, ranks in deal(request.ranks, request.nodes or 1) for _ in range(count)]
    each = wanted[0] * request.threads
    memory = memory_on_node(request.memory, wanted[0], request.ranks, request.threads)
    start = max(ground.clock, arrival.at_ms)
    allowed = set(site.queue[request.queues[0]].nodes)
    while True:
        while ground.ends and ground.ends[0][0] <= start:
            _free(ground, heapq.heappop(ground.ends)[2])
        hosts = [
            name
            for name in ground.nodes
            if len(ground.cores[name]) >= each
            and ground.memory[name] >= memory
            and len(ground.gpus[name]) >= request.gpus
            and name in allowed
        ]
        if len(hosts) >= len(wanted):
            break
        start = ground.ends[0][0]
    hosts.sort(key=lambda name: len(ground.cores[name]))
    allocations = tuple(_take(ground, name, ranks, request, memory) for name, ranks in zip(hosts, wanted, strict=False))
    ground.clock = start
    job = _ended(site, number, arrival, start, allocations)
    heapq.heappush(ground.ends, (job.ended_ms or 0, number, allocations))
    return job


def _take(ground: _Ground, name: str, ranks: int, request: Request, memory: int) -> Allocation:
    cores = tuple(sorted(ground.cores[name])[: ranks * request.threads])
    gpus = tuple(sorted(ground.gpus[name])[: request.gpus])
    ground.cores[name].difference_update(cores)
    ground.gpus[name].difference_update(gpus)
    ground.memory[name] -= memory
    return Allocation(name, ranks, cores, memory, gpus)


def _free(ground: _Ground, allocations: tuple[Allocation, ...]) -> None:
    for allocation in allocations:
        ground.cores[allocation.node].update(allocation.cores)
        ground.gpus[allocation.node].update(allocation.gpus)
        ground.memory[allocation.node] += allocation.memory_mib


def _ended(site: Site, number: int, arrival: Arrival, start: int, allocations: tuple[Allocation, ...]) -> Job:
    request, told = arrival.request, arrival.request.rehearsal
    runtime = (told.runtime_s or (60, 60))[0]
    asked = sum(allocation.memory_mib for allocation in allocations)
    phase, status, name = Phase.DONE if not told.exit else Phase.FAILED, told.exit, None
    if (told.memory_mib or 0) > asked:
        phase, status, name, runtime = Phase.OVERMEMORY, None, "SIGKILL", max(5, min(runtime, request.walltime_s) // 3)
    elif runtime >= request.walltime_s:
        phase, status, name, runtime = Phase.OVERTIME, None, "SIGTERM", request.walltime_s
    cores = sum(len(allocation.cores) for allocation in allocations)
    held = cores * runtime * 1000
    written = round(runtime * 40_000 * (told.busy or 1))
    cpu_ms = round(runtime * 1000 * (told.busy or 1))
    job = Job(
        number,
        arrival.user,
        request,
        arrival.origin,
        arrival.at_ms,
        phase,
        attempt=1,
        queue=request.queues[0],
        started_ms=start,
        ended_ms=start + runtime * 1000,
        allocations=allocations,
        exit=status,
        signal=name,
        use=Use(cpu_ms, told.memory_mib or asked * 2 // 5, 2 * written, written),
        allocated_core_ms=held,
        charge_core_ms=charge(site, request.tier, counted(site, request.queues[0], allocations), runtime * 1000),
        times=JobTimes.of_one_attempt(arrival.at_ms, start, runtime * 1000, cpu_ms),
    )
    whole = max(runtime, (told.runtime_s or (60, 60))[0])
    job = replace(job, parts=tuple(replace(one, exit=status, signal=name) for one in modelled_parts(job, job.use)))
    inside = modelled_inside(job, whole * 1000, job.ended_ms or 0, True)
    return replace(job, inside=inside) if inside is not None else job
