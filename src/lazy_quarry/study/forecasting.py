"""Forecast ranges tried on a trace: at submissions, and of jobs that have waited for some time, what is said and what came.

Everything that is said rests on what had happened before.
"""

import heapq
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct

from lazy_quarry.core.advice.forecast_calibration import Hindsight, Stage, Waits
from lazy_quarry.core.advice.forward_draws import range_of
from lazy_quarry.core.advice.outlook import DRAWS
from lazy_quarry.core.advice.run_times import Chance, RunKind, RunTimes
from lazy_quarry.study.columns import Columns, Progress
from lazy_quarry.study.planned import Planned, Profile
from lazy_quarry.study.studied import ForecastMade
from lazy_quarry.study.swf import Trace

HELD = (0.8, 0.2, 0.4, 0.6, 0.9)
"""Shares of starts that ranges are to hold: the one told to people, and others that show whether the method is right."""


class Told(Struct, frozen=True):
    """A forecast of a job's wait in seconds, from an instant on, and how long it was; ``held``: the share that it should hold."""

    stage: Stage
    held: float
    job: int
    at_s: float
    shown: Waits
    by_plan_s: float
    waited_s: float


class _Draw(Planned):
    """The replay from an instant on, with run times that were drawn, and nobody else who comes."""

    def __init__(self, present: Planned, ends: list[tuple[float, float, int]], takes: Mapping[int, float]) -> None:
        super().__init__(present.jobs, present.free)
        self.takes, self.ends, self.limits = takes, ends, list(present.limits)
        self.waiting, self.sizes = list(present.waiting), list(present.sizes)
        heapq.heapify(self.ends)

    def starts_of(self, jobs: Sequence[int]) -> list[float]:
        """When these start."""
        while not all(number in self.starts for number in jobs):
            now = self.ends[0][0]
            self._end(now)
            self._go_on(now)
        return [self.starts[number] for number in jobs]


def _kinds_of(jobs: Columns) -> list[RunKind]:
    """All that is known of each job beforehand."""
    named = jobs.programs or [(-1, -1)] * len(jobs.cores)
    return [
        RunKind(str(user) if user >= 0 else "", str(program) if program >= 0 else "", cores, int(walltime))
        for (user, program), cores, walltime in zip(named, jobs.cores, jobs.walltime, strict=True)
    ]


class _Forecasting(Planned):
    """The replay of a trace, with a forecast at each ``every``-th submission of a job that has to wait."""

    def __init__(self, jobs: Columns, cores: int, every: int, seed: int, shares: Sequence[float]) -> None:
        super().__init__(jobs, cores)
        self.times = RunTimes()
        self.calibration = {held: Hindsight(outside=1 - held) for held in shares}
        self.kinds = _kinds_of(jobs)
        self.running = dict[int, float]()
        self.draws, self.chance = Chance(seed, DRAWS), np.random.default_rng(seed)
        self.every, self.seen = every, 0
        self.told = list[tuple[Stage, float, int, float, Waits, float]]()

    def _start(self, number: int, now: float) -> int:
        self.running[number] = now
        for calibration in self.calibration.values():
            calibration.started(number, round(now * 1000))
        return super()._start(number, now)

    def start_at(self, now: float) -> None:
        """Start what the plan places now, then say what is expected of a job that has just come and has to wait."""
        super().start_at(now)
        if not self.waiting or self.jobs.submit[self.waiting[-1]] != now:
            return
        self.seen += 1
        if self.seen % self.every:
            return
        for number in [one for one, start in self.running.items() if start + self.jobs.run[one] <= now]:
            self.times.learn(self.kinds[number], self.jobs.run[number])
            del self.running[number]
        self._forecast(now)

    def _forecast(self, now: float) -> None:
        jobs, waiting = self.jobs, self.waiting
        ends = {
            number: start + self.times.draw(self.kinds[number], now - start, self.draws, number)
            for number, start in self.running.items()
        }
        takes = {number: self.times.draw(self.kinds[number], 0.0, self.draws, number) for number in waiting}
        wanted: list[tuple[Stage, int]] = [("new", waiting[-1])]
        if len(waiting) > 1:
            wanted.append(("later", waiting[int(self.chance.integers(0, len(waiting) - 1))]))
        asked, starts = [number for _, number in wanted], list[list[float]]()
        for draw in range(DRAWS):
            running = [
                (min(max(now + 1, float(one[draw])), limit), limit, jobs.cores[number])
                for number, one in ends.items()
                for limit in [self.running[number] + jobs.walltime[number]]
            ]
            each = {number: max(1.0, float(one[draw])) for number, one in takes.items()}
            starts.append(_Draw(self, running, each).starts_of(asked))
        profile = Profile(now, self.free, list(self.limits))
        planned = {number: profile.place(jobs.cores[number], jobs.walltime[number], now) for number in waiting}
        at = round(now * 1000)
        for held, calibration in self.calibration.items():
            calibration.settle(at)
            for place, (stage, number) in enumerate(wanted):
                drawn = range_of([round(one[place] * 1000) for one in starts], at, 1 - held)
                by_plan = planned[number] - now
                shown = calibration.corrected((stage, ""), at, [drawn], [by_plan])[0]
                new = self.times.new_name(self.kinds[number].user, self.kinds[number].name)
                calibration.note((stage, ""), number, at, drawn, shown, by_plan, new)
                self.told.append((stage, held, number, now, shown, planned[number] - now))


def forecast_trace(
    jobs: Columns, cores: int, told: Progress, every: int = 1, seed: int = 1, shares: Sequence[float] = HELD
) -> list[Told]:
    """All that is said while a trace runs under the plan, in the order in which it is said; a range for each of ``shares``."""
    replayed = _Forecasting(jobs, cores, every, seed, shares)
    starts = replayed.run(told)
    return [
        Told(stage, held, number, at, shown, by_plan, starts[number] - at)
        for stage, held, number, at, shown, by_plan in replayed.told
    ]


def trace_forecasts(trace: Trace, cores: int, told: Progress, sample: int = 0) -> list[ForecastMade]:
    """A row for each job of a trace, with what was said at its submission where it had to wait; ``sample`` 0 asks of all."""
    jobs = trace.jobs
    every = max(1, -(-len(jobs) // sample)) if sample else 1
    replayed = _Forecasting(trace.columns, cores, every, 1, (HELD[0],))
    starts = replayed.run(told)
    said = {number: (at, shown, plan) for stage, _, number, at, shown, plan in replayed.told if stage == "new"}
    found = []
    for number, (job, start) in enumerate(zip(jobs, starts, strict=True)):
        at, shown, plan = said.get(number, (0.0, None, None))
        found.append(
            ForecastMade(
                job=job.number,
                submit_s=job.submit_s,
                early_s=None if shown is None else at + shown.early_s,
                middle_s=None if shown is None else at + shown.likely_s,
                late_s=None if shown is None else at + shown.late_s,
                plan_s=None if plan is None else at + plan,
                start_s=start,
                cores=job.cores,
                walltime_s=job.walltime_s,
            )
        )
    return found
