"""A study on real nodes, through the engine and its planner, against the replay of the same trace on one pool of cores."""

import heapq
import time

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.site.fast_search import loaded
from lazy_quarry.study.replay import replay
from lazy_quarry.study.swf import Trace
from lazy_quarry.study.workload import make_trace

JOBS, NODES, CORES = 1_000, 64, 32
AT = 1_700_000_000_000


def study(trace: Trace) -> float:
    """Seconds of the whole trace."""
    nodes = tuple(Node(f"n{number:02d}", CORES, CORES * 2048) for number in range(NODES))
    queue = Queue("q", tuple(node.name for node in nodes))
    engine = Engine(Site("study", "rehearsal", nodes, (queue,), (Account("a"),), (Tier("t"),), "q", "t"))
    engine.plans.planner.kernels = loaded()
    origin, ends, runtimes = Origin(""), list[tuple[int, int]](), {}

    def tell(command) -> None:
        events = engine.decide(command)
        engine.apply(events)
        for event in events:
            if isinstance(event, Started):
                heapq.heappush(ends, (event.at_ms + runtimes[event.job], event.job))

    began = time.perf_counter()
    arrivals = iter(sorted(trace.jobs, key=lambda job: job.submit_s))
    coming = next(arrivals, None)
    while coming is not None or ends:
        if coming is not None and (not ends or AT + coming.submit_s * 1000 <= ends[0][0]):
            at = AT + int(coming.submit_s * 1000)
            walltime = max(1, int(coming.walltime_s))
            request = Request("j", "a", ("q",), "t", walltime, Memory(1), None, coming.cores, grace_s=0)
            runtimes[engine.state.next_number] = max(1, int(coming.run_s * 1000))
            tell(Submit(at, By("u"), request, origin))
            coming = next(arrivals, None)
        else:
            at, number = heapq.heappop(ends)
            tell(Finish(at, number, 1, 0, None, None))
        tell(Schedule(at))
    return time.perf_counter() - began


def figures(best):
    trace = Trace(tuple(make_trace(JOBS, NODES * CORES, 0.85, 1)))
    yield "study-on-nodes", study(trace), "s", best(3, lambda: replay(trace, NODES * CORES, "planned")), 60
