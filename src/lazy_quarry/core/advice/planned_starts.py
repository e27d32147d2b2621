"""What is known of starts without any draw: the plan's own instants, and those before which nothing could start."""

from collections.abc import Iterator

from lazy_quarry.core.advice.forward_draws import Present
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.plans import Plans
from lazy_quarry.core.job.job import EACH, Job, Phase
from lazy_quarry.core.plan.plan import expected_end
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Window


def in_order(engine: Engine) -> Iterator[Job]:
    """Jobs that wait for others, those that are waited for first."""
    state, found = engine.state, set[int]()
    rest = [job for job in state.jobs.values() if job.phase is Phase.BLOCKED and not job.skip_reason]
    while rest:
        again = []
        for job in rest:
            waits = (number for number, _ in job.unmet if number in state.jobs and number not in found)
            if any(state.jobs[number].phase is Phase.BLOCKED for number in waits):
                again.append(job)
            else:
                found.add(job.number)
                yield job
        if len(again) == len(rest):
            return
        rest = again


class PlannedStarts:
    """When each job starts by the plan, in which everything lasts for its walltime and grace."""

    def __init__(self, present: Present) -> None:
        self.present = present
        engine, self.at_ms = present.engine(), present.at_ms
        waiting, blocked = list(engine.plans.in_turn(self.at_ms)), list(in_order(engine))
        self._jobs = [*waiting, *blocked]
        self.plan = engine.plans.plan_of(self.at_ms, waiting)
        self.plan.finish()
        self.starts = {job: place.start_ms for job, place in self.plan.placements.items()}
        self._follow(engine, blocked)
        self.soonest = self._soonest(engine.plans)
        """By job an instant before which it can't start, however short the others turn out to be; those without one never can."""

    def _follow(self, engine: Engine, blocked: list[Job]) -> None:
        """Place those that wait for others behind these, if all goes well."""
        at, planner, state = self.at_ms, self.present.planner, engine.state
        ends = {job: place.end_ms for job, place in self.plan.placements.items()}
        for job in state.running():
            end = expected_end(job.end_limit_ms or 0, at)
            for number in (job.number, job.parent):
                if number is not None:
                    ends[number] = max(ends.get(number, 0), end)
        field: dict[frozenset[Window], Timeline] = {}
        for job in blocked:
            begin = at
            for other, how in job.unmet:
                known = self.starts.get(other, at) if how in ("begins", EACH) else ends.get(other)
                if known is None:
                    break
                begin = max(begin, known)
            else:
                wanted = engine.plans.plan_request(job, at)
                timeline = field.get(wanted.access)
                if timeline is None:
                    timeline = field[wanted.access] = self.plan.timeline_of(wanted).copy()
                placed = planner.place(timeline, wanted, begin)
                if placed is not None:
                    planner.occupy(timeline, placed)
                    self.starts[job.number], ends[job.number] = placed.start_ms, placed.end_ms

    def told(self) -> list[Job]:
        """The jobs of which a range can be told: those that wait and may start some time, of arrays the ones not begun."""
        return [
            job
            for job in self._jobs
            if not self.present.begun(job) and job.number in self.soonest and not self.never(job.number)
        ]

    def never(self, job: int) -> bool:
        """True when no node, limit or budget lets a job start as things stand."""
        unplaced = self.plan.unplaced.get(job)
        return job not in self.starts and unplaced is not None and unplaced.kind in ("nodes", "limit", "budget")

    def wait_s(self, job: int) -> float | None:
        """Seconds until a job starts; None where it has no place."""
        start = self.starts.get(job)
        return None if start is None else max(0.0, (start - self.at_ms) / 1000)

    def _soonest(self, plans: Plans) -> dict[int, int]:
        found, at = dict[int, int](), self.at_ms
        for job in self._jobs:
            own = self.present.soonest_ms(plans, plans.plan_request(job, at), at)
            if own is not None:
                found[job.number] = max([own, *(found.get(other, 0) for other, _ in job.unmet)])
        return found
