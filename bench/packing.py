"""Mean waits when nodes are taken in other orders, for jobs that come and go on nodes alike and unlike.

``python -m bench.packing docs/policies.md`` writes the table into the page, in some ten minutes.
"""

import argparse
import heapq
import multiprocessing
import random
from pathlib import Path
from statistics import fmean

import numpy as np

from bench.tables import put
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan import planner as planning
from lazy_quarry.core.plan.node_order import node_order
from lazy_quarry.core.plan.placement import PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.site.fast_search import loaded

SITES = (
    ("16 nodes of 32 cores", (32,) * 16),
    ("8 nodes of 8 cores, 8 of 16, 4 of 64", (8,) * 8 + (16,) * 8 + (64,) * 4),
    ("24 nodes of 32 cores, 4 of 64", (32,) * 24 + (64,) * 4),
)
JOBS, LOAD, SEEDS = 1500, 0.85, 5
ASKED_S = (600, 1800, 3600, 7200, 14_400, 28_800, 43_200, 86_400, 172_800)


def wide_from_the_end(table, nodes, need, measure=None):
    """The plan's order, but for names: jobs that take 0.7 of a node or more begin with the last."""
    capacity, rank = table.capacity[:, nodes].astype(np.int64), table.rank[nodes]
    wide = need.whole or max(part.cores for part in need.parts) >= 0.7 * capacity[0]
    keys = (np.where(wide, -rank, rank), *capacity[:3], table.queues[nodes], table.traits[nodes])
    return np.argsort(np.lexsort(keys))


def by_chance(table, nodes, need, measure=None):
    """Another order for each request."""
    chance = np.random.default_rng(abs(hash(need)) % 2**32)
    return chance.permutation(len(table.rank[nodes]))


ORDERS = (
    ("as the plan does", node_order),
    ("wide jobs from the other end", wide_from_the_end),
    ("in any order", by_chance),
)


def shape(chance, largest):
    """The shape of a job: small ones most often, parts of a node, all of one, several nodes, whole ones."""
    kind = chance.random()
    if kind < 0.45:
        return {"ranks": 1, "threads": chance.choice([1, 1, 2, 4])}
    if kind < 0.65:
        return {"nodes": 1, "ranks": 1, "threads": min(largest, chance.choice([8, 8, 16]))}
    if kind < 0.75:
        return {"nodes": 1, "ranks": 1, "threads": min(largest, chance.choice([24, 32, 12, 48]))}
    if kind < 0.9:
        nodes = chance.choice([2, 2, 3, 4])
        return {"nodes": nodes, "ranks": nodes * chance.choice([1, 2]), "threads": chance.choice([4, 8])}
    nodes = chance.choice([1, 2])
    return {"nodes": nodes, "ranks": nodes, "whole_nodes": True}


def arrivals(site, seed):
    """Jobs that come more often by day: (instant in ms, number, request, run time in ms)."""
    chance, found, work = random.Random(seed), [], 0
    total, largest = site.cores, max(node.cores for node in site.nodes)
    for _ in range(JOBS):
        one = shape(chance, largest)
        took = min(86_400_000, int(chance.lognormvariate(8.0, 1.4) * 1000) + 1000)
        wanted = min(2 * 86_400, int(took / 1000 * chance.choice([1.05, 1.5, 2, 3, 5, 10])) + 60)
        asked = next((one for one in ASKED_S if one >= wanted), ASKED_S[-1])
        wide = one["nodes"] * total // len(site.nodes) if "whole_nodes" in one else one["ranks"] * one["threads"]
        work += wide * took
        found.append((Request("j", "a", ("q",), "t", asked, Memory(1024), grace_s=0, **one), took))
    span, instants = work / total / LOAD, list[int]()
    while len(instants) < JOBS:
        at = chance.random() * span
        if chance.random() < (1.0 if 8 < at / 3_600_000 % 24 < 20 else 0.4):
            instants.append(int(at))
    return [(at, number, *one) for number, (at, one) in enumerate(zip(sorted(instants), found, strict=True))]


def mean_wait_min(cores, order, seed):
    """The mean wait in minutes of all jobs that fit, under the plan."""
    nodes = tuple(Node(f"n{place:02}", each, each * 4096) for place, each in enumerate(cores))
    queue = Queue("q", tuple(node.name for node in nodes))
    site = Site("packing", "rehearsal", nodes, (queue,), (Account("a"),), (Tier("t"),), "q", "t")
    planning.node_order = order
    planner = Planner(site)
    planner.kernels = loaded()
    coming = [one for one in arrivals(site, seed) if planner.needs(one[2])][::-1]
    waiting, running, ends, waits = {}, {}, [], []
    while coming or waiting:
        now = min([one[0] for one in coming[-1:]] + [end for end, _ in ends[:1]])
        while ends and ends[0][0] <= now:
            del running[heapq.heappop(ends)[1]]
        while coming and coming[-1][0] <= now:
            one = coming.pop()
            waiting[one[1]] = one
        held = [one for placed in running.values() for one in placed]
        plan = make_plan(planner, now, held, [PlanRequest(number, one[2]) for number, one in waiting.items()])
        for placement in plan.starting():
            came, number, request, took = waiting.pop(placement.job)
            running[number] = placement.allocations
            heapq.heappush(ends, (now + min(took, request.walltime_s * 1000), number))
            waits.append((now - came) / 60_000)
    return fmean(waits)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("page", nargs="?", type=Path)
    asked = parser.parse_args()
    cases = [(cores, order, seed) for _, cores in SITES for _, order in ORDERS for seed in range(SEEDS)]
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        found = dict(zip(cases, pool.starmap(mean_wait_min, cases), strict=True))
    rows = ["| nodes | " + " | ".join(name for name, _ in ORDERS) + " |", "| --- |" + " ---: |" * len(ORDERS)]
    for name, cores in SITES:
        means = [fmean(found[cores, order, seed] for seed in range(SEEDS)) for _, order in ORDERS]
        rows.append(f"| {name} | " + " | ".join(f"{mean:.1f} min" for mean in means) + " |")
    print("\n".join(rows))
    if asked.page:
        put(asked.page, "orders", rows)


if __name__ == "__main__":
    main()
