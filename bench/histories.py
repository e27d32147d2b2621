"""Forecast ranges on histories of shapes that the method wasn't made on: bursts, breaks, trends, heavy tails, and people's habits.

``python -m bench.histories docs/forecast.md`` writes their table into the page, in twenty minutes; with more ``--jobs`` it takes
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
    ("run times by a power law", heavy_tails, (211, *range(2013, 2713 + 1, 100))),
    ("bursts of equal jobs", bursts, range(1013, 1713 + 1, 100)),
    ("some fail at once, others take all", two_humps, (214, *range(2027, 2727 + 1, 100))),
    ("runs that get longer", a_trend, (215, *range(2034, 2734 + 1, 100))),
    ("weeks with breaks, working hours", breaks, (216, *range(2041, 2741 + 1, 100))),
    ("failures submitted anew", retries, (217, *range(2048, 2748 + 1, 100))),
    ("everybody asks for the most", always_the_most, (212, *range(2055, 2755 + 1, 100))),
)
"""(name, how jobs of a made-up trace are changed, seeds): as (submitted, runs, asks for, cores), and a program where it has one.

Forecasts of one busy time are wrong together: a single history says little of how often ranges hold.
"""


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


def forecasts(shape, seed, count):
    """What is said at submissions in all of a history but its first third."""
    trace = Trace(tuple(history(shape, seed, count)))
    return trace_forecasts(trace, CORES, lambda started: None, count // 2)[count // 3 :]


def row(name, histories):
    """How the forecasts of several histories of a shape did: a row of the table."""
    each = sorted(100 * whole.held for one in histories for whole in by_group(one)[:1])
    groups = {one.name: one for one in by_group([made for one in histories for made in one])}
    whole: ForecastGroup = groups["all"]

    def held(keys):
        return ", ".join(f"{100 * groups[key].held:.0f}" if key in groups else "–" for key in keys)

    waits = held(key for key in groups if key.startswith("plan's wait"))
    sizes = held(("1 core", "2 to 32 cores", "more cores"))
    walltimes = held(("walltime to 1h", "to 12h", "longer"))
    return (
        f"| {name} | {whole.forecasts:,} | {100 * whole.held:.0f} | {each[0]:.0f} to {each[-1]:.0f} | "
        f"{waits} | {sizes} | {walltimes} | "
        f"{whole.width_s / HOUR_S:.1f} h | {whole.off_s / HOUR_S:.1f} h | {whole.plan_off_s / HOUR_S:.1f} h |"
    )


HEAD = (
    "| histories | forecasts | held | in each of them | by the plan's wait | 1 core, to 32, more "
    "| walltime to 1h, to 12h, longer | median range | middle off | the plan off |\n"
    "| --- | ---: | ---: | --- | --- | --- | --- | ---: | ---: | ---: |"
)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("page", nargs="?", type=Path)
    parser.add_argument("--jobs", type=int, default=900)
    asked = parser.parse_args()
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        coming = {
            name: [pool.apply_async(forecasts, (shape, seed, asked.jobs)) for seed in seeds]
            for name, shape, seeds in SHAPES
        }
        rows = []
        for name, each in coming.items():
            rows.append(row(name, [one.get() for one in each]))
            print(rows[-1], flush=True)
    if asked.page:
        put(asked.page, "histories", (HEAD, *rows))


if __name__ == "__main__":
    main()
