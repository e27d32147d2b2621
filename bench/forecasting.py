"""The share of forecast ranges that held what happened, on traces with their seeds and loads, and on a year of the demo.

``python -m bench.forecasting docs/forecast.md`` writes the table into the page and draws docs/forecast.svg. It takes hours, most
of them for the demo's year: ``--days 12`` takes less of it, and ``--every 8`` less of the traces. The second half of each is
counted; all that is said rests on what had happened before.
"""

import argparse
import multiprocessing
import time
from pathlib import Path
from statistics import fmean, median

from bench.large import engine_of
from bench.tables import put
from lazy_quarry.core.advice.forward_draws import DrawnTimes, course_of, present_of
from lazy_quarry.core.advice.planned_starts import PlannedStarts
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.demo.session import DemoClient
from lazy_quarry.draw.figure import COLOURS, new_figure, save
from lazy_quarry.site.fast_search import loaded
from lazy_quarry.study.columns import Columns
from lazy_quarry.study.forecasting import HELD, Told, forecast_trace
from lazy_quarry.study.workload import make_trace

TRACES = (
    ("a small pool, often empty", 16_000, 64, 0.75, 4),
    ("a department", 16_000, 256, 0.85, 1),
    ("a centre", 16_000, 1024, 0.85, 2),
    ("a centre in demand", 14_000, 1024, 0.90, 3),
    ("more than it can do", 8_000, 512, 1.05, 5),
)
"""(what it is like, jobs, cores, load, seed), as for ``lq replay --make``."""
EVERY = 2
STEP_MS, DAY_MS = 5_400_000, 86_400_000


def of_trace(count, cores, load, seed, every=EVERY):
    """All that is said on a made-up trace."""
    trace = make_trace(count, cores, load, seed)
    columns = Columns(
        [float(job.submit_s) for job in trace],
        [float(job.run_s) for job in trace],
        [float(job.walltime_s) for job in trace],
        [job.cores for job in trace],
    )
    return forecast_trace(columns, cores, lambda started: None, every)


def of_demo(days):
    """All that is said on the demo, which runs for so many days, by what works the ranges out there."""
    site = Rehearsed(7)
    site.add_past(90)
    session, foresight = site.session, site.site.foresight
    foresight.learn_past()
    said, started = [], {}
    note, start = foresight.calibration.note, foresight.calibration.started

    def noted(group, job, at_ms, drawn, shown, planned_s, new_name):
        place = session.engine.plans.plan(session.now()).place_of(job)
        said.append((group, job, at_ms, shown, place.start_ms if place else None))
        note(group, job, at_ms, drawn, shown, planned_s, new_name)

    def begun(job, at_ms):
        started.setdefault(job, []).append(at_ms)
        start(job, at_ms)

    foresight.calibration.note, foresight.calibration.started = noted, begun
    first = site.now_ms
    while site.now_ms < first + days * DAY_MS:
        site.advance(site.now_ms + STEP_MS)
        foresight.step()
    return [
        Told(group[0], HELD[0], job, at / 1000, shown, (planned - at) / 1000, (begins - at) / 1000)
        for group, job, at, shown, planned in said
        if planned is not None
        and (begins := next((one for one in started.get(job, ()) if one >= at), None)) is not None
    ]


def half(told, stage, held=HELD[0]):
    """The second half of one kind: what is counted."""
    kept = [one for one in told if one.held == held and one.stage == stage]
    return kept[len(kept) // 2 :]


def held_share(told):
    """The share of ranges that held what happened."""
    return sum(one.shown.early_s - 0.5 <= one.waited_s <= one.shown.late_s + 0.5 for one in told) / max(1, len(told))


def nearer(told):
    """By how many times the middle is nearer to what happened than the plan's own start: by medians, and by means."""
    off = [abs(one.shown.likely_s - one.waited_s) for one in told]
    by_plan = [abs(one.by_plan_s - one.waited_s) for one in told]
    return median(by_plan) / max(1.0, median(off)), fmean(by_plan) / max(1.0, fmean(off))


def row(name, told):
    """A row of the table."""
    new, later = half(told, "new"), half(told, "later")
    typical, mean = nearer(new)
    middle = sorted(one.waited_s for one in new)[len(new) // 2] / 3600
    wide = sorted(one.shown.late_s - one.shown.early_s for one in new)[len(new) // 2] / 3600
    return (
        f"| {name} | {len(new):,} | {held_share(new):.1%} | {held_share(later):.1%} | "
        f"{typical:.1f} × | {mean:.1f} × | "
        f"{middle:.1f} h | {wide:.1f} h |"
    )


HEAD = (
    "| history | forecasts counted | held at submission | held while waiting | middle nearer than by the plan, "
    "in the median | in the mean | median wait | median range |\n| --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: |"
)


def figures(best):
    """A short one for the bench: a trace of its own, smaller than those of the table."""
    told = of_trace(6_000, 128, 0.85, 11)
    share = held_share(half(told, "new"))
    yield "forecast-held", abs(share - 0.8), "from 80 %", 1.0, 0.05
    yield "forecast-demo", cost_of_demo(), "of a core", 1.0, 0.012
    yield "forecast-large-first", first_of_a_large_site(), "of 30 s", 30.0, 1
    yield "forecast-nearer", 1 / nearer(half(told, "new"))[0], "of the plan's error", 1.0, 0.5


def cost_of_demo(seconds=60.0):
    """The part of a core that ranges take on the demo at its own pace, once the first ones are there."""
    client = DemoClient(speed=1)
    foresight = client.site.foresight
    client.look()
    while not client.site.session.ranges:
        time.sleep(0.5)
    began, before = time.monotonic(), foresight.worked_s
    while time.monotonic() - began < seconds:
        client.look()
        time.sleep(0.5)
    try:
        return (foresight.worked_s - before) / (time.monotonic() - began)
    finally:
        client.close()


def first_of_a_large_site():
    """Seconds until a thousand nodes with 400 waiting jobs have their first ranges, with as much rest as work."""
    engine, _ = engine_of(1000, 400)
    planner = Planner(engine.site)
    planner.kernels = loaded()
    began = time.thread_time()
    present = present_of(engine, planner, engine.state.at_ms, 400)
    told = [job.number for job in PlannedStarts(present).told()]
    course = course_of(present, DrawnTimes(RunTimes(), present.at_ms, 1, 1), 0, told)
    assert len(told) == len(course.starts) == 400
    return 2 * (time.thread_time() - began)


def draw(found, path):
    """The calibration plot: how often ranges should hold, against how often they did."""
    figure, (axes,) = new_figure()
    axes.plot([0, 1], [0, 1], color="#888888", linewidth=0.8, linestyle="--")
    for colour, (name, told) in zip((*COLOURS, "#555555"), found, strict=False):
        levels = sorted({one.held for one in told})
        axes.plot(
            levels,
            [held_share(half(told, "new", held)) for held in levels],
            "o-",
            markersize=3,
            color=colour,
            label=name,
        )
    axes.set(title="How often forecast ranges held", xlabel="they should", ylabel="they did", xlim=(0, 1), ylim=(0, 1))
    axes.legend(frameon=False, fontsize=7)
    save(figure, path)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("page", nargs="?", type=Path)
    parser.add_argument("--days", type=int, default=365)
    parser.add_argument("--every", type=int, default=EVERY, help="of a trace, a forecast at so many submissions")
    asked = parser.parse_args()
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        year = pool.apply_async(of_demo, (asked.days,))
        traces = [pool.apply_async(of_trace, (*one, asked.every)) for _, *one in TRACES]
        found = []
        for (name, count, cores, load, seed), one in zip(TRACES, traces, strict=True):
            found.append((name, one.get()))
            known = f"{name}: {count:,} jobs, {cores:,} cores, load {load:.2f}, seed {seed}"
            print(row(known, found[-1][1]), flush=True)
        found.append(("the demo's year", year.get()))
        print(row(f"the demo's year, {asked.days} days", found[-1][1]), flush=True)
    if asked.page:
        rows = [
            row(f"{name}: {count:,} jobs, {cores:,} cores, load {load:.2f}, seed {seed}", told)
            for (name, count, cores, load, seed), (_, told) in zip(TRACES, found, strict=False)
        ]
        rows.append(row(f"the demo, {asked.days} days, seed 7", found[-1][1]))
        put(asked.page, "table", (HEAD, *rows))
        draw(found, asked.page.with_suffix(".svg"))


if __name__ == "__main__":
    main()
