"""The costs of a site by its size: ``python -m bench.growth docs/growth.svg`` measures and draws them.

A site of so many nodes has two running and five waiting jobs for each. Times are parts of a stable sort of a million numbers, so
that the figure is the same on other machines.
"""

import multiprocessing
import random
import sys
import time
from pathlib import Path

import numpy as np
import psutil

from bench.large import engine_of
from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.draw.figure import COLOURS, new_figure, save
from lazy_quarry.site.fast_search import loaded

SIZES = (10, 30, 100, 300, 1000, 2000)


def costs(nodes: int, fast: bool) -> dict[str, float]:
    """Seconds from a job's end to the next start, of a submission, of a whole plan; MiB of the process."""
    engine, requests = engine_of(nodes, 5 * nodes)
    if fast:
        engine.plans.planner.kernels = loaded()
    chance, found = random.Random(3), {"end to start": [], "submission": []}
    for _ in range(20):
        at = engine.state.at_ms + 1000
        job = chance.choice(list(engine.state.jobs.running.values()))
        began = time.perf_counter()
        engine.apply(engine.decide(Finish(at, job.number, job.attempt, 0)))
        engine.apply(engine.decide(Schedule(at)))
        found["end to start"].append(time.perf_counter() - began)
        began = time.perf_counter()
        engine.apply(engine.decide(Submit(at, By("ada"), chance.choice(requests), Origin("#!/bin/sh\n"))))
        engine.apply(engine.decide(Schedule(at)))
        found["submission"].append(time.perf_counter() - began)
    engine.plans._kept = None
    began = time.perf_counter()
    len(engine.plans.plan(engine.state.at_ms).placements)
    whole = time.perf_counter() - began
    memory = psutil.Process().memory_info().rss / 2**20
    return {
        **{what: sorted(all_)[len(all_) // 2] for what, all_ in found.items()},
        "all forecasts": whole,
        "MiB": memory,
    }


def main() -> None:
    numbers = np.random.default_rng(1).random(1_000_000)
    best = 9.9
    for _ in range(5):
        began = time.perf_counter()
        np.sort(numbers, kind="stable")
        best = min(best, time.perf_counter() - began)
    with multiprocessing.get_context("spawn").Pool(1, maxtasksperchild=1) as pool:
        measured = {fast: [pool.apply(costs, (nodes, fast)) for nodes in SIZES] for fast in (False, True)}
    for fast, found in measured.items():
        for nodes, one in zip(SIZES, found, strict=True):
            words = (f"{what} {value:.4g}" for what, value in one.items())
            print(nodes, "compiled" if fast else "plain", *words, flush=True)
    figure, (axes,) = new_figure()
    for colour, what in zip(COLOURS, ("end to start", "submission", "all forecasts"), strict=False):
        for fast, line in ((False, "--"), (True, "-")):
            values = [one[what] / best for one in measured[fast]]
            label = f"{what}, compiled" if fast else what
            axes.plot(SIZES, values, line, marker="o", markersize=3, color=colour, label=label)
    axes.set(xscale="log", yscale="log", title="What a site costs, by its size")
    axes.set(xlabel="nodes, with two running and five waiting jobs for each", ylabel="sorts of a million numbers")
    axes.legend(frameon=False)
    save(figure, Path(sys.argv[1]))


if __name__ == "__main__":
    main()
