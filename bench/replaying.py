"""Replay of made-up traces, against bare heapq push and pop of their events."""

import heapq
import random

from lazy_quarry.study.replay import replay
from lazy_quarry.study.swf import Trace
from lazy_quarry.study.workload import make_trace


def bare(events: int) -> None:
    chance = random.Random(1)
    heap: list[tuple[float, int, int]] = []
    for event in [(chance.random(), number & 1, number) for number in range(events)]:
        heapq.heappush(heap, event)
    while heap:
        heapq.heappop(heap)


def figures(best):
    reference = best(3, lambda: bare(200_000))
    for load, bound in ((0.85, 5), (1.05, 25)):
        trace = Trace(tuple(make_trace(100_000, 1024, load, 1)))
        yield f"replay-easy-{load}", best(2, lambda t=trace: replay(t, 1024, "easy")), "s", reference, bound
    trace = Trace(tuple(make_trace(20_000, 2048, 0.85, 1)))
    planned = best(2, lambda: replay(trace, 2048, "planned"))
    yield "replay-planned", planned, "s", best(3, lambda: bare(40_000)), 60
    ten_times = Trace(tuple(make_trace(200_000, 2048, 0.85, 1)))
    yield "replay-planned-ten-times", best(1, lambda: replay(ten_times, 2048, "planned")), "s", planned, 13
