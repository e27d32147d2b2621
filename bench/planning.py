"""Replan after one change, against NumPy's stable sort of a million numbers."""

import random

import numpy as np

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.placement import PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier

DAY_S = 86_400


def table(nodes: int, running: int, waiting: int, kinds: int, seed: int = 1):
    """A busy cluster: half of its cores held, and a queue of waiting jobs in no order of kind."""
    chance = random.Random(seed)
    machines = tuple(Node(f"n{number:05d}", 32, 131_072) for number in range(nodes))
    names = tuple(node.name for node in machines)
    site = Site("bench", "rehearsal", machines, (Queue("q", names),), (Account("a"),), (Tier("t"),), "q", "t")
    used, held = [0] * nodes, []
    for _ in range(running):
        node, cores = chance.randrange(nodes), chance.choice((4, 8, 16))
        while used[node] + cores > 32:
            node, cores = chance.randrange(nodes), chance.choice((4, 8))
        used[node] += cores
        held.append(PlannedAllocation(names[node], chance.randrange(60_000, DAY_S * 1000), (cores, cores * 2048, 0, 0)))
    requests = []
    for number in range(kinds):
        count = None if chance.random() < 0.7 else chance.choice((2, 4, 8))
        ranks = chance.choice((1, 2, 4, 8, 16, 32, 64)) if count is None else count * chance.choice((4, 16, 32))
        memory = Memory(chance.choice((1024, 2048, 3072)))
        requests.append(Request(f"k{number}", "a", ("q",), "t", chance.randrange(600, DAY_S), memory, count, ranks))
    return site, held, [PlanRequest(number, chance.choice(requests)) for number in range(waiting)]


def replan(best, nodes: int, running: int, waiting: int) -> float:
    site, held, requests = table(nodes, running, waiting, 500)
    planner = Planner(site)
    len(make_plan(planner, 0, held, requests).placements)  # requests are made into arrays when they are submitted
    return best(2, lambda: len(make_plan(planner, 1, held[1:], requests).placements))


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    base = replan(best, 1000, 2000, 5000)
    yield "replan", base, "s", sort, 6
    yield "replan-twice-the-jobs", replan(best, 1000, 2000, 10_000), "s", base, 2.3
    yield "replan-twice-the-nodes", replan(best, 2000, 4000, 5000), "s", base, 2.3
