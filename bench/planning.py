"""Replan after one change, against NumPy's stable sort of a million numbers."""

import random

import numpy as np

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import Owner, PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Limits, Node, Queue, Site, Tier, Window
from lazy_quarry.core.values import replace
from lazy_quarry.site.fast_search import loaded

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


def replan(best, nodes: int, running: int, waiting: int, kernels=None) -> float:
    site, held, requests = table(nodes, running, waiting, 500)
    planner = Planner(site)
    planner.kernels = kernels
    len(make_plan(planner, 0, held, requests).placements)  # requests are made into arrays when they are submitted
    return best(2, lambda: len(make_plan(planner, 1, held[1:], requests).placements))


def replan_mixed(best, kernels) -> float:
    """Waves of arrays, ranks anywhere, whole nodes, a reservation and limits, a thousand jobs in all."""
    site, held, requests = table(1000, 2000, 1000, 200)
    names = tuple(node.name for node in site.nodes)
    limits = tuple((user, Limits(cores=4_000, running_jobs=400)) for user in ("ada", "bo", "cy"))
    site = replace(site, user_limits=limits)
    window = Window(names[:100], 3_600_000, 7_200_000, "upkeep", (), (), "upkeep")
    chance, mixed = random.Random(2), []
    for place, one in enumerate(requests):
        owner, what = Owner(("ada", "bo", "cy")[place % 3], "a", "t"), place % 10
        if what == 0:
            mixed.append(replace(one, owner=owner, request=replace(one.request, nodes=None, ranks=4), count=200))
        elif what == 1:
            anywhere = replace(one.request, nodes=None, ranks=64, threads=1, anywhere=True)
            mixed.append(replace(one, owner=owner, request=anywhere))
        elif what in (2, 3):
            whole = replace(one.request, nodes=chance.choice((1, 2)), ranks=4, whole_nodes=True)
            mixed.append(replace(one, owner=owner, request=whole))
        else:
            mixed.append(replace(one, owner=owner))
    planner = Planner(site)
    planner.kernels = kernels

    def plan() -> int:
        limits = LimitRows(site, 0)
        return len(make_plan(planner, 0, held, mixed, windows=[window], limits=limits).placements)

    plan()
    return best(2, plan)


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    yield "replan-plain", replan(best, 1000, 2000, 5000), "s", sort, 16
    kernels = loaded()
    base = replan(best, 1000, 2000, 5000, kernels)
    yield "replan", base, "s", sort, 5
    yield "replan-twice-the-jobs", replan(best, 1000, 2000, 10_000, kernels), "s", base, 2.3
    yield "replan-twice-the-nodes", replan(best, 2000, 4000, 5000, kernels), "s", base, 2.3
    yield "replan-mixed", replan_mixed(best, kernels), "s", sort, 16
