"""Forecast ranges on histories of shapes that the method wasn't made on: bursts, breaks, trends, heavy tails, and people's habits.

``python -m bench.histories docs/forecast.md`` writes their table into the page, in ten minutes; with more ``--jobs`` it takes
longer by their square.
"""

import argparse
import multiprocessing
from pathlib import Path

import numpy as np

from bench.tables import put
from lazy_quarry.study.forecast_groups import ForecastGroup, by_group
from lazy_quarry.study.forecasting import trace_forecasts
from lazy_quarry.study.swf import Trace, TraceJob
from lazy_quarry.study.workload import make_trace

DAY_S, HOUR_S, LONGEST_S = 86_400, 3600, 5 * 86_400
CORES, LOAD = 256, 0.85


def heavy_tails(jobs, chance):
    """Run times by a power law: most take minutes, one in a hundred days (Pareto, exponent 1.1)."""
    for job in jobs:
        run = min(LONGEST_S, 60 * (1 - chance.random()) ** (-1 / 1.1))
        yield job.submit_s, run, min(LONGEST_S, 1.2 * run * chance.uniform(1, 5)), job.cores


def always_the_most(jobs, chance):
    """Everybody asks for the five days that are allowed, whatever it takes."""
    for job in jobs:
        yield job.submit_s, job.run_s, LONGEST_S, job.cores


def bursts(jobs, chance):
    """Thirty to three hundred equal jobs at once, and nothing for long."""
    at, left, like = 0, 0, jobs[0]
    for job in jobs:
        if not left:
            at, left, like = job.submit_s, int(chance.integers(30, 300)), job
        left, at = left - 1, at + chance.uniform(5, 30)
        run = like.run_s * chance.uniform(0.7, 1.3)
        yield at, run, max(like.walltime_s, 1.3 * like.run_s), min(like.cores, 32), like.number


def two_humps(jobs, chance):
    """Four in ten end within two minutes, the others take nearly all that they asked for."""
    for job in jobs:
        short = chance.random() < 0.4
        run = chance.uniform(5, 120) if short else job.walltime_s * chance.uniform(0.8, 0.98)
        yield job.submit_s, run, job.walltime_s, job.cores


def a_trend(jobs, chance):
    """Runs get longer: three times as long at the end as at the beginning, for the same walltime."""
    for place, job in enumerate(jobs):
        run = job.walltime_s * min(1.0, chance.beta(2, 4) * (0.5 + place / len(jobs)) * 1.5)
        yield job.submit_s, run, job.walltime_s, job.cores


def breaks(jobs, chance):
    """Three weeks of work, one of nothing; nobody submits at night or on days six and seven."""
    for job in jobs:
        week, day = divmod(job.submit_s // DAY_S, 5)
        at = (7 * (week + week // 3) + day) * DAY_S + 9 * HOUR_S + (job.submit_s % DAY_S) * 8 // 24
        yield at, job.run_s, job.walltime_s, job.cores


def retries(jobs, chance):
    """A third fail early and are submitted anew at once, up to three times."""
    again, like, at = 0, jobs[0], 0.0
    for job in jobs:
        if again:
            again, at = again - 1, at + 60
        else:
            again, like, at = int(chance.integers(1, 4)) * (chance.random() < 1 / 3), job, float(job.submit_s)
        run = min(like.run_s, chance.uniform(30, 600)) if again else like.run_s
        yield at, run, like.walltime_s, like.cores, like.number


SHAPES = (
    ("run times by a power law", heavy_tails, (211,)),
    ("bursts of equal jobs", bursts, (1013, 1113, 1213, 1313, 1413, 1513, 1613, 1713)),
    ("some fail at once, others take all", two_humps, (214,)),
    ("runs that get longer", a_trend, (215,)),
    ("weeks with breaks, working hours", breaks, (216,)),
    ("failures submitted anew", retries, (217,)),
    ("everybody asks for the most", always_the_most, (212,)),
)
"""(name, how jobs of a made-up trace are changed, seeds): as (submitted, runs, asks for, cores), and a program where it has one.

A history has only some bursts, so there are several of those."""


def history(shape, seed, count):
    """The trace, its time stretched so that it has the load that is wanted."""
    changed = list(shape(make_trace(count, CORES, LOAD, seed), np.random.default_rng(seed)))
    rows = sorted((at, max(1, run), max(run, most), wide, *program) for at, run, most, wide, *program in changed)
    span = sum(run * wide for _, run, _, wide, *_ in rows) / (CORES * LOAD)
    whole = max(1.0, rows[-1][0] - rows[0][0])
    stretch = span / whole
    if shape is breaks:  # weeks stay weeks: the runs are changed instead
        rows, stretch = (
            [(at, max(1, run / stretch), max(1, most / stretch), *rest) for at, run, most, *rest in rows],
            1.0,
        )
    return [
        TraceJob(
            number,
            round(at * stretch),
            max(1, round(run)),
            max(1, round(run), round(most)),
            wide,
            1,
            *(program or [-1]),
        )
        for number, (at, run, most, wide, *program) in enumerate(rows, 1)
    ]


def record(name, shape, seeds, count):
    """How forecasts at submission did, of all but the first third: a row of the table."""
    made = []
    for seed in seeds:
        trace = Trace(tuple(history(shape, seed, count)))
        made += trace_forecasts(trace, CORES, lambda started: None, count // 2)[count // 3 :]
    groups = {one.name: one for one in by_group(made)}
    whole: ForecastGroup = groups.pop("all")
    quarters = [f"{100 * one.held:.0f}" for key, one in groups.items() if key.startswith("plan's wait")]
    sizes = [
        f"{100 * groups[key].held:.0f}" if key in groups else "–" for key in ("1 core", "2 to 32 cores", "more cores")
    ]
    known = f"{name}: seed{'s' * (len(seeds) > 1)} {', '.join(map(str, seeds))}"
    return (
        f"| {known} | {whole.forecasts:,} | {100 * whole.held:.0f} | {', '.join(quarters)} | {', '.join(sizes)} | "
        f"{whole.width_s / HOUR_S:.1f} h | {whole.off_s / HOUR_S:.1f} h | {whole.plan_off_s / HOUR_S:.1f} h |"
    )


HEAD = (
    "| history | forecasts | held | by the plan's wait | 1 core, to 32, more | median range | middle off | the plan off |\n"
    "| --- | ---: | ---: | --- | --- | ---: | ---: | ---: |"
)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("page", nargs="?", type=Path)
    parser.add_argument("--jobs", type=int, default=900)
    asked = parser.parse_args()
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        coming = [pool.apply_async(record, (*one, asked.jobs)) for one in SHAPES]
        rows = []
        for one in coming:
            rows.append(one.get())
            print(rows[-1], flush=True)
    if asked.page:
        put(asked.page, "histories", (HEAD, *rows))


if __name__ == "__main__":
    main()
