"""How well ranges could do where the law of run times is known, and where each of them is: then only who comes later isn't.

``python -m bench.known_runs docs/forecast.md`` writes their table into the page, in ten minutes.
"""

import argparse
import multiprocessing
from collections import defaultdict
from pathlib import Path
from random import Random

import numpy as np

from bench.tables import put
from lazy_quarry.core.advice.outlook import DRAWS, Outlook
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.demo.people import KINDS, SPARE, request_of
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.site.fast_search import loaded
from lazy_quarry.site.studies import make_study
from lazy_quarry.study import forecasting, own_forecasts
from lazy_quarry.study.forecast_groups import by_group
from lazy_quarry.study.swf import Trace
from lazy_quarry.study.workload import make_trace
from lazy_quarry.views.study_view import StudyView

HISTORIES = (("a small pool", 21), ("a small pool", 22), ("the demo", 21), ("the demo", 22))
KNOWN = ("what ended before", "the law of run times", "each run time")
JOBS, CORES, LOAD, SAMPLE = 6_000, 64, 0.75, 3_000
DAYS, DAY_MS, FEWEST = 60, 86_400_000, 50


class OfLaw(RunTimes):
    """Run times drawn from their law: from very many of each class."""

    def __init__(self, law, classes):
        super().__init__()
        self.law, self.classes = law, classes

    def draw(self, kind, elapsed_s, chance, job):
        """As ever where so few take longer that even these say little."""
        for name in self.classes(kind):
            known = self.law.get(name, np.empty(0))
            longer = known[np.searchsorted(known, elapsed_s, "right") :]
            if len(longer) >= FEWEST:
                drawn = longer[(chance.of_job(job) * len(longer)).astype(np.int64)]
                return np.clip(drawn, elapsed_s, max(kind.walltime_s, elapsed_s))
        return super().draw(kind, elapsed_s, chance, job)


class TrueRuns(RunTimes):
    """Each job of a trace takes what it will take."""

    def __init__(self, runs):
        super().__init__()
        self.runs = runs

    def draw(self, kind, elapsed_s, chance, job):
        """The same in all draws."""
        return np.full(DRAWS, float(self.runs[job]))


class TrueEnds:
    """Each job of a past ends when it has run for as long as it ran."""

    def __init__(self, past):
        self.past = past

    def end_ms(self, job, now_ms, draw):
        """Later than now."""
        run = self.past.runs.get(job.number)
        return max(now_ms + 1, (job.started_ms or now_ms) + (run.ran_ms if run else job.request.walltime_s * 1000))


def law_of_trace():
    """Run times of made-up traces by size and walltime; where there are few, by the logarithm of the size."""
    made, law = make_trace(2_000_000, CORES, LOAD, 98_765), defaultdict(list)
    for job in made:
        for name in _classes(job.cores, job.walltime_s):
            law[name].append(job.run_s)
    return {name: np.sort(np.array(runs, float)) for name, runs in law.items() if len(runs) >= 6 * FEWEST}


def _classes(cores, walltime_s):
    return (cores, walltime_s), (f"about {int(np.log2(max(1, cores)))}", walltime_s)


def law_of_demo():
    """Run times of the demo's people, by name and walltime."""
    chance, law = Random(98_765), defaultdict(list)
    for kind in (*KINDS, *SPARE):
        for _ in range(20_000):
            request = request_of(kind, chance)
            law[kind.user, kind.name, request.walltime_s].append(
                min(request.rehearsal.runtime_s[0], request.walltime_s)
            )
    return {name: np.sort(np.array(runs, float)) for name, runs in law.items()}


def of_trace(seed, known):
    """Forecasts on a small pool, all but those of its first third."""
    trace = Trace(tuple(make_trace(JOBS, CORES, LOAD, seed)))
    if known == KNOWN[1]:
        law = law_of_trace()
        forecasting.RunTimes = lambda: OfLaw(law, lambda kind: _classes(kind.cores, kind.walltime_s))
    elif known == KNOWN[2]:
        forecasting.RunTimes = lambda: TrueRuns([job.run_s for job in trace.jobs])
    return forecasting.trace_forecasts(trace, CORES, lambda started: None, SAMPLE)[JOBS // 3 :]


def of_demo(seed, known):
    """Forecasts on the demo's last days, all but the first third."""
    if known == KNOWN[1]:
        law = law_of_demo()
        own_forecasts.RunTimes = lambda: OfLaw(law, lambda kind: ((kind.user, kind.name, kind.walltime_s),))
    elif known == KNOWN[2]:
        _know_ends()
    rehearsed = Rehearsed(seed)
    rehearsed.add_past(90)
    session, found = rehearsed.session, []
    session.engine.plans.planner.kernels = loaded()
    since = session.now() - DAYS * DAY_MS
    asked = StudyView(number=1, jobs=0, since_ms=since, policies=(), settings=(), sample=5_000)
    make_study(session, asked, lambda view: found.append(view) or True)
    made = found[-1].forecasts
    return made[len(made) // 3 :]


def _know_ends():
    begin = own_forecasts.PastAgain.__init__

    def begun(self, site, past):
        begin(self, site, past)

        class Known(Outlook):
            def __init__(self, present, times):
                super().__init__(present, times)
                self._times = TrueEnds(past)

        own_forecasts.Outlook = Known

    own_forecasts.PastAgain.__init__ = begun


def score(name, seed, known):
    """(forecasts, share held, interval score in seconds), in a process of its own, as what is known is put in there."""
    whole = by_group((of_demo if name == "the demo" else of_trace)(seed, known))[0]
    return whole.forecasts, whole.held, whole.score_s


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("page", nargs="?", type=Path)
    asked = parser.parse_args()
    with multiprocessing.get_context("spawn").Pool(2, maxtasksperchild=1) as pool:
        coming = {one: [pool.apply_async(score, (*one, known)) for known in KNOWN] for one in HISTORIES}
        rows = []
        for (name, seed), each in coming.items():
            done = [one.get() for one in each]
            scores = " | ".join(f"{score_s / 60:,.0f} min, {100 * held:.0f}" for _, held, score_s in done)
            rows.append(f"| {name}, seed {seed} | {done[0][0]:,} | {scores} |")
            print(rows[-1], flush=True)
    if asked.page:
        head = f"| history | forecasts | {' | '.join(KNOWN)} |\n| --- | ---: | ---: | ---: | ---: |"
        put(asked.page, "known", (head, *rows))


if __name__ == "__main__":
    main()
