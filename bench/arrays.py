"""Submit an array of a million tasks against one of ten; and what its tasks take that have not started."""

import tracemalloc

from lazy_quarry.core.engine.commands import Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.store.journal import Journal

MANY, FEW, TIMES = 1_000_000, 10, 200


def site() -> Site:
    nodes = tuple(Node(f"n{number:03d}", 32, 131_072) for number in range(64))
    names = tuple(node.name for node in nodes)
    return Site("bench", "rehearsal", nodes, (Queue("q", names),), (Account("a"),), (Tier("t"),), "q", "t")


def submit(count: int, times: int = TIMES) -> Engine:
    """Taken in, put in the journal, and planned: what of it starts now, and where the rest stands."""
    engine, journal = Engine(site()), Journal(None)
    array = Array(((1, count, 1),), 4)
    request = Request("j", "a", ("q",), "t", 3600, Memory(1024), array=array)
    for at in range(times):
        for command in (Submit(at, By("ada"), request, Origin("x")), Schedule(at)):
            events = engine.decide(command)
            journal.append(events, engine.state)
            engine.apply(events)
    return engine


def figures(best):
    yield "array-1M-submit", best(3, lambda: submit(MANY, 20)), "s", best(3, lambda: submit(FEW, 20)), 2
    tracemalloc.start()
    kept = [submit(FEW, 1)]
    few = tracemalloc.take_snapshot()
    kept.append(submit(MANY, 1))
    many = tracemalloc.take_snapshot()
    grown = sum(one.size_diff for one in many.compare_to(few, "filename"))
    base = sum(one.size for one in few.statistics("filename"))
    tracemalloc.stop()
    yield "array-1M-memory", max(0, grown) / (MANY / 1000), "bytes", 1.0, 1024
    assert kept and base
