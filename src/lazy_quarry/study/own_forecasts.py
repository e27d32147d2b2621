"""Forecasts on a site's own past: it goes by again under the site's policy, and at submissions it is said when a job will start."""

from types import ModuleType

from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight
from lazy_quarry.core.advice.forward_draws import kind_of_run, present_of
from lazy_quarry.core.advice.outlook import DRAWS, Outlook
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.core.job.job import TASK_SPAN
from lazy_quarry.core.site import Site
from lazy_quarry.study.own_past import PastAgain, Told, free_of
from lazy_quarry.study.past import Past, PastJob
from lazy_quarry.study.studied import ForecastMade


class _Forecasting(PastAgain):
    """The past once more, with a forecast at every ``every``-th submission of a job that has to wait."""

    def __init__(self, site: Site, past: Past, every: int) -> None:
        super().__init__(site, past)
        self.every, self.came = every, 0
        self.times, self.calibration = RunTimes(), Hindsight()
        self.made: dict[int, tuple[PastJob, tuple[float | None, ...]]] = {}
        self._new: list[PastJob] = []
        self._open = set[int]()
        """Jobs with a forecast that haven't started."""

    def _submit(self, one: PastJob, at: int) -> None:
        super()._submit(one, at)
        if one.number in self.engine.state.jobs and at > self.past.begin_ms:
            self._new.append(one)

    def _finish(self, at: int) -> None:
        for instant, number, _ in self._ends:
            if instant <= at and (job := self.engine.state.jobs.get(number)) is not None:
                self.times.learn(kind_of_run(job), (instant - (job.started_ms or instant)) / 1000)
        super()._finish(at)

    def _schedule(self, at: int) -> None:
        super()._schedule(at)
        for number in [one for one in self._open if one in self._begun]:
            self._open.discard(number)
            self.calibration.started(number, at)
        waits = [one for one in self._new if one.number in self.engine.state.jobs and one.number not in self._begun]
        self._new.clear()
        for one in waits:
            self.came += 1
            if self.came % self.every == 0:
                self._forecast(one, at)

    def _forecast(self, one: PastJob, at: int) -> None:
        """Say what is expected of a job, from what has ended by now."""
        present = present_of(self.engine, self.engine.plans.planner, at)
        outlook = Outlook(present, self.times)
        by_plan = outlook.planned.wait_s(one.number)
        self.made[one.number] = (one, (None, None, None, by_plan))
        if one.number not in outlook.told:
            return
        for _ in range(DRAWS):
            outlook.draw([one.number])
        drawn = outlook.drawn([one.number])
        if not drawn:
            return
        self.calibration.settle(at)
        group: Group = ("new", one.request.tier)
        ((_, shown),) = outlook.shown(self.calibration, group, drawn)
        told = outlook.told[one.number]
        new = self.times.new_name(told.user, told.request.name)
        self.calibration.note(group, one.number, at, drawn[one.number], shown, by_plan, new)
        self._open.add(one.number)
        self.made[one.number] = (one, (shown.early_s, shown.likely_s, shown.late_s, by_plan))

    def forecasts(self) -> list[ForecastMade]:
        """All that was said, in seconds since the past began."""
        first, found = self.past.begin_ms, list[ForecastMade]()
        begun = dict[int, int]()
        for number, start in self.starts.items():
            whole = number if number < TASK_SPAN else number // TASK_SPAN
            begun[whole] = min(start, begun.get(whole, start))
        for number, (one, waits) in self.made.items():
            came = (one.submitted_ms - first) / 1000
            early, middle, late, plan = (None if wait is None else came + wait for wait in waits)
            found.append(
                ForecastMade(
                    job=number,
                    submit_s=came,
                    early_s=early,
                    middle_s=middle,
                    late_s=late,
                    plan_s=plan,
                    start_s=None if number not in begun else (begun[number] - first) / 1000,
                    cores=one.request.ranks * one.request.threads,
                    walltime_s=one.request.walltime_s,
                    tier=one.request.tier,
                )
            )
        return found


def forecasts_of(
    site: Site, past: Past, sample: int, told: Told, kernels: ModuleType | None = None
) -> list[ForecastMade] | None:
    """Forecasts of ``sample`` jobs at most, spread over the past under the site's own policy; None when it was stopped."""
    again = _Forecasting(free_of(site, site.policy, past.end_ms), past, max(1, -(-len(past.jobs) // max(1, sample))))
    again.engine.plans.planner.kernels = kernels
    return again.forecasts() if again.whole(told) else None
