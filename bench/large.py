"""Calls on a large site between plans: what could start now, and a submission, with many waiting."""

import random
import time

import numpy as np

from bench.planning import table
from lazy_quarry.core.engine.commands import Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started, Submitted
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Allocation, Origin
from lazy_quarry.core.values import replace
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.queries import Queries
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.board_mirror import BoardMirror

AT = 1_700_000_000_000


def engine_of(nodes: int, waiting: int, kinds: int = 500, free: int = 1) -> tuple[Engine, list]:
    """A site of which all cores but some are held by running jobs, and so many wait; with the requests that there are."""
    chance = random.Random(5)
    site, _, requests = table(nodes, 0, 20_000, kinds)
    requests = list({one.request.name: replace(one.request, grace_s=0) for one in requests}.values())
    engine, origin, number = Engine(site), Origin("#!/bin/sh\n"), 0
    for node in site.nodes:
        left = 32 if node is not site.nodes[nodes // 2] else 32 - free
        for first, cores in ((0, 16), (16, left - 16)):
            number += 1
            request = replace(requests[0], ranks=cores, nodes=None, walltime_s=chance.randrange(90_000, 200_000))
            held = Allocation(node.name, cores, tuple(range(first, first + cores)), 1024)
            engine.apply([Submitted(AT, number, By("ada"), request, origin)])
            engine.apply([Started(AT, number, 1, "q", (held,))])
    for request in requests:  # as when they were submitted before
        engine.limit_use.accept("ada", request)
    for place in range(waiting):  # over a day, so that what is large doesn't stand before all that is small
        number += 1
        user, at = chance.choice(("ada", "bo", "cy")), AT + 86_400_000 * place // waiting
        engine.apply([Submitted(at, number, By(user), chance.choice(requests), origin)])
    return engine, requests


def starting(engine: Engine) -> float:
    """Seconds until it is decided what starts, on a plan that must be made again."""
    engine.plans._kept = None
    began = time.perf_counter()
    engine.decide(Schedule(engine.state.at_ms))
    return time.perf_counter() - began


def submitting(engine: Engine, requests: list) -> float:
    """Seconds of a submission and what starts after it, the plan being kept; the best of some."""
    chance, quickest = random.Random(7), 9.9
    engine.decide(Schedule(engine.state.at_ms))
    for _ in range(60):
        began = time.perf_counter()
        engine.apply(
            engine.decide(Submit(engine.state.at_ms + 10, By("ada"), chance.choice(requests), Origin("#!/bin/sh\n")))
        )
        engine.apply(engine.decide(Schedule(engine.state.at_ms)))
        quickest = min(quickest, time.perf_counter() - began)
    return quickest


def figures(best):
    numbers = np.random.default_rng(1).random(1_000_000)
    sort = best(5, lambda: np.sort(numbers, kind="stable"))
    taken = {}
    for waiting in (1_000, 5_000, 100_000):
        engine, requests = engine_of(1000, waiting)
        taken["start", waiting] = min(starting(engine) for _ in range(3))
        taken["submit", waiting] = submitting(engine, requests)
    yield "starting", taken["start", 5_000], "s", sort, 1
    yield "starting-100k", taken["start", 100_000], "s", sort, 2
    yield "submit-100k", taken["submit", 100_000], "s", taken["submit", 1_000], 3
    yield from board_figures(sort)


def board_figures(sort: float):
    """The board of a real engine as a reader follows it: first, unchanged, one job changed; with forty rows in sight."""
    engine, requests = engine_of(1000, 2_000)
    session = Session(engine.site, Journal(None), RehearsalRunner(1), clock=lambda: engine.state.at_ms + 1)
    session.engine = engine
    queries, mirror = Queries(session), BoardMirror()

    def look(sight=()):
        began = time.perf_counter()
        change = queries.look(Caller("ada"), mirror.mark, list(sight))
        mirror.take(change)
        return time.perf_counter() - began, change.settled, change.partial

    engine.apply(engine.decide(Schedule(engine.state.at_ms)))
    first, settled, partial = look()
    longest = rows = first
    while not settled:
        unfinished = partial
        taken, settled, partial = look()
        longest, rows = max(longest, taken), rows + (taken if unfinished else 0)
    sight = [number for number, job in engine.state.jobs.items() if job.phase == "waiting"][:40]
    look(sight)
    unchanged = min(look(sight)[0] for _ in range(10))
    changed = 9.9
    for _ in range(10):
        engine.apply(engine.decide(Submit(engine.state.at_ms + 10, By("ada"), requests[3], Origin("#!/bin/sh\n"))))
        engine.apply(engine.decide(Schedule(engine.state.at_ms)))
        session.version += 1
        changed = min(changed, look(sight)[0])
        while not look(sight)[1]:
            pass
    yield "board-first", first, "s", sort, 1
    yield "board-slice", longest, "s", sort, 1
    yield "board-rows", rows, "s", sort, 6
    yield "board-unchanged", unchanged, "s", sort, 0.02
    yield "board-one-changed", changed, "s", sort, 0.05
