"""Why a job waits, in a sentence: what it needs, who has it, until when."""

from datetime import tzinfo

import numpy as np

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.plans import owner_of
from lazy_quarry.core.explain.answers import Why
from lazy_quarry.core.job.job import EACH, Job, Phase
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.plan.placement import Placement, PlanRequest
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.plan.waiting import WaitKind
from lazy_quarry.core.units import clock_time, fold_names, format_duration, format_size, plural
from lazy_quarry.core.values import replace

_OWNER_OF = {
    "user": lambda job: job.user,
    "account": lambda job: job.request.account,
    "tier": lambda job: job.request.tier,
    "queue": lambda job: job.queue,
}


def need_words(need: Need) -> str:
    """``2 nodes with 16 free cores and 48 GiB each``."""
    part = need.parts[0]
    if need.whole:
        return f"{plural(need.node_count, 'whole node')} of {need.queue}"
    each = [plural(part.cores, "free core"), format_size(part.memory_mib)]
    if need.gpus:
        each.append(plural(need.gpus, "GPU"))
    words = " and ".join([", ".join(each[:-1]), each[-1]])
    return f"{plural(need.node_count, 'node')} of {need.queue} with {words}" + (" each" if need.node_count > 1 else "")


def stated(job: Job, held_by: str = "") -> Why:
    """Say what a job that is held or blocked waits for; no plan is needed for that."""
    if job.phase is Phase.HELD:
        return Why(f"held by {held_by or job.user}; it waits until it is released", "hold")
    if job.all_held:
        return Why("all tasks that could start are held; they wait until they are released", "hold")
    return Why(f"waits until {' and '.join(_condition_words(job))}", "dependency")


class WaitReasons:
    """Reads one plan. Times are told in ``zone``."""

    def __init__(self, engine: Engine, plan: Plan, zone: tzinfo) -> None:
        self.engine, self.plan, self.zone = engine, plan, zone
        self.planner = engine.plans.planner
        self._free = plan.timeline.free_at(plan.now_ms)
        self._running_ends: dict[int, list[Job]] = {}
        """Running jobs by when they must have ended."""
        for job in engine.state.running():
            self._running_ends.setdefault(job.end_limit_ms or 0, []).append(job)
        self._planned_ends: dict[int, list[Placement]] | None = None

    def why(self, job: Job, held_by: str = "") -> Why:
        """Say what a job that has not started waits for."""
        if job.phase in (Phase.HELD, Phase.BLOCKED) or job.all_held:
            return stated(job, held_by)
        return self._with_quiet(job, self._why(job))

    def _why(self, job: Job) -> Why:
        placement = self.plan.place_of(job.number)
        if placement is None:
            unplaced = self.plan.unplaced_so_far(job.number)
            if unplaced is None:
                return Why("it is behind the jobs that the plan gives places; no forecast yet", "turn")
            return Why(unplaced.words, unplaced.kind)
        return self._why_not_now(job, placement)

    def _with_quiet(self, job: Job, why: Why) -> Why:
        """Say too which nodes it could have that don't answer."""
        quiet = self.engine.state.quiet
        if not quiet or why.kind == "nothing":
            return why
        needs = self.planner.needs_of(PlanRequest(job.number, job.request, owner=owner_of(job)))
        names = sorted({name for need in needs for name in need.eligible} & quiet.keys())
        if not names:
            return why
        since = self._clock(min(quiet[name] for name in names))
        answers = f"{fold_names(names)} {'has' if len(names) == 1 else 'have'} not answered since {since}"
        return replace(why, because=f"{why.because.rstrip('.')}. {answers}, and nothing starts there meanwhile.")

    def _why_not_now(self, job: Job, placement: Placement) -> Why:
        """Why a job starts later than now, though it has a place."""
        now, start = self.plan.now_ms, placement.start_ms
        if start <= now:
            return Why("it starts now", "nothing", start)
        starts = f"expected to start at {self._clock(start)}"
        not_before = job.request.not_before_ms or 0
        if not_before > now and start == not_before:
            return Why(f"asked not to start before {self._clock(not_before)}", "not-before", start)
        array, tasks = job.request.array, self.engine.state.tasks.get(job.number, ())
        if array is not None and array.at_once is not None and len(tasks) >= array.at_once:
            return Why(f"{plural(len(tasks), 'task')} of it run, as many as at-once allows; {starts}", "at-once", start)
        needs = self.planner.needs_of(PlanRequest(job.number, job.request, owner=owner_of(job)))
        need = next((one for one in needs if one.queue == placement.queue), None)
        if need is None:
            return Why(starts, "nodes", start)
        hinges, kind, ends = self._hinges_on(placement, starts)
        able, wanted = self._able_now(need), need_words(need)
        if able < need.node_count and not need.anywhere:
            have = "none has that now" if able == 0 else f"only {able} {'has' if able == 1 else 'have'} that now"
            return Why(f"waits for {wanted}; {have}. {hinges}", kind, start, ends)
        owner = self.engine.plans.plan_request_of(job).owner
        if owner and (limit := self.plan.limits.reached_limit(owner, placement.queue, placement.claim)):
            ending = [one for one in self._running_ends.get(start, ()) if _OWNER_OF[limit.kind](one) == limit.name]
            then = f", when {ending[0].label} reaches its limit." if ending else "."
            words = f"waits for {limit.words}. {_capital(starts)}{then}"
            return Why(words, "limit", start, tuple(one.label for one in ending))
        lasting = format_duration(job.request.walltime_s)
        return Why(f"waits for {wanted} for {lasting}; free now, but not for so long. {hinges}", kind, start, ends)

    def _able_now(self, need: Need) -> int:
        """Nodes that have enough for the largest part of a need at this instant, even for a short time."""
        table, part = self.planner.table, need.parts[0]
        nodes = np.array([table.index[name] for name in need.eligible])
        wanted = table.capacity[:, nodes].T
        if not need.whole:
            wanted = np.array([(part.cores, part.memory_mib, need.gpus, need.scratch_mib)])
        return int((wanted <= self._free[:, nodes].T).all(axis=1).sum())

    def _hinges_on(self, placement: Placement, starts: str) -> tuple[str, WaitKind, tuple[str, ...]]:
        """The end, window or opening that the expected start depends on, and the jobs that end then."""
        nodes = {one.node for one in placement.allocations}
        ends = [
            (job, sorted(one.node for one in job.allocations if one.node in nodes))
            for job in self._running_ends.get(placement.start_ms, ())
            if any(one.node in nodes for one in job.allocations)
        ]
        if ends:
            job, freed = ends[0]
            where = f"{'Nodes' if len(freed) > 1 else 'Node'} {fold_names(freed)}"
            comes = "come" if len(freed) > 1 else "comes"
            limit = "has made way" if job.stopping else "reaches its limit"
            at = self._clock(placement.start_ms)
            words = f"{where} {comes} free at {at} at the latest, when {job.label} {limit}."
            return words, "nodes", tuple(one.label for one, _ in ends)
        for window in self.engine.plans.windows:
            if window.ends_ms == placement.start_ms and nodes & set(window.nodes):
                return f"{window.reason} lasts until {self._clock(window.ends_ms)}; {starts}.", "window", ()
        ahead = self._planned_end(placement, nodes)
        behind = f", after {ahead}" if ahead else ""
        return f"{_capital(starts)}{behind}.", "nodes", (str(ahead),) if ahead else ()

    def _planned_end(self, placement: Placement, nodes: set[str]) -> int | None:
        """The waiting job that is expected to end on one of these nodes when the placement begins."""
        if self._planned_ends is None:
            self._planned_ends = {}
            for other in self.plan.placements.values():
                self._planned_ends.setdefault(other.end_ms, []).append(other)
        found = (
            other.job
            for other in self._planned_ends.get(placement.start_ms, ())
            if any(one.node in nodes for one in other.allocations)
        )
        return next(found, None)

    def _clock(self, at_ms: int) -> str:
        return clock_time(at_ms, self.plan.now_ms, self.zone)


def _condition_words(job: Job) -> list[str]:
    return [
        f"a task of {number} succeeds with the same number" if condition == EACH else f"{number} {condition}"
        for number, condition in job.unmet
    ]


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]
