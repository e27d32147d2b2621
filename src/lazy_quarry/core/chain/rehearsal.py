"""A chain rehearsed in the queue as it is now: when each job would start and end, by the plan itself."""

from collections.abc import Collection, Mapping

from msgspec import Struct

from lazy_quarry.core.chain.graph import ordered, slack
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.job.rates import greatest_charge
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.array_finish import array_finish
from lazy_quarry.core.plan.placement import Owner, PlanRequest
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.values import replace

NO_PLACE = "finds no place now"
Waits = Mapping[str, tuple[tuple[str, str], ...]]


class RehearsedJob(Struct, frozen=True):
    """A job of a rehearsed chain. Without times it doesn't run, for this reason."""

    name: str
    starts_ms: int | None
    ends_ms: int | None
    slack_ms: int = 0
    most_core_ms: int = 0
    reason: str = ""

    @property
    def critical(self) -> bool:
        """True when all would be done later if it were."""
        return self.ends_ms is not None and self.slack_ms == 0


class Supposed(Struct, frozen=True):
    """Suppositions of a rehearsal: jobs that fail, and jobs that take so many times as long as asked."""

    fails: frozenset[str] = frozenset()
    slower: tuple[tuple[str, float], ...] = ()


class ChainRehearsal(Struct, frozen=True):
    """The whole of it: when all is done, what it costs at most, and each job. None: some job finds no place."""

    ends_ms: int | None
    most_core_ms: int
    jobs: tuple[RehearsedJob, ...]


class Rehearsing:
    """Places the jobs of a chain behind all that wait now, each when those that it waits for are over.

    Jobs are taken to run for all of their walltime and grace, as the plan takes all jobs; ``known`` are the times of jobs
    that are decided already, ``lost`` are those for which there is no place now, and ``user`` submits the rest.
    """

    def __init__(
        self,
        engine: Engine,
        now_ms: int,
        user: str,
        waits: Waits,
        requests: Mapping[str, Request],
        known: Mapping[str, tuple[int, int]] | None = None,
        supposed: Supposed | None = None,
        lost: Collection[str] = (),
    ) -> None:
        self.engine, self.now_ms, self.user = engine, now_ms, user
        self.waits, self.requests = waits, requests
        self.supposed = supposed or Supposed()
        self.slower = dict(self.supposed.slower)
        self.times: dict[str, tuple[int, int]] = dict(known or {})
        self.out: dict[str, str] = dict.fromkeys(lost, NO_PLACE)
        plan = engine.plans.plan(now_ms)
        plan.whole()
        self.plan = plan
        self.fields: dict[frozenset[object], Timeline] = {}

    def rehearse(self) -> ChainRehearsal:
        """Place them all."""
        for name in ordered(self.waits):
            if name not in self.times and name not in self.out:
                self._place(name)
        runs = {name: self.waits[name] for name in self.waits if name in self.times}
        inside = {name: tuple(one for one in after if one[0] in runs) for name, after in runs.items()}
        lost = NO_PLACE in self.out.values()
        done = max((end for _, end in self.times.values()), default=self.now_ms)
        left = slack(inside, self.times, done)
        jobs, most = [], 0
        for name in self.waits:
            begin, end = self.times.get(name, (None, None))
            cost = self._cost(name) if end is not None and name in self.requests else 0
            most += cost
            jobs.append(RehearsedJob(name, begin, end, left.get(name, 0), cost, self.out.get(name, "")))
        return ChainRehearsal(None if lost else done, most, tuple(jobs))

    def _place(self, name: str) -> None:
        begin = self.now_ms
        for other, condition in self.waits[name]:
            if other not in self.waits:
                continue
            if other not in self.times:
                self.out[name] = f"{other} doesn't run"
                return
            fails = other in self.supposed.fails
            if (condition == "fails") != fails and condition in ("succeeds", "fails", "each-succeeds"):
                self.out[name] = f"{other} {'fails' if fails else 'succeeds'}"
                return
            first, last = self.times[other]
            begin = max(begin, first if condition in ("begins", "each-succeeds") else last)
        request = self.requests[name]
        begin = max(begin, request.not_before_ms or 0)
        if name in self.slower:
            request = replace(request, walltime_s=max(1, round(request.walltime_s * self.slower[name])))
        found = self._find(request, begin)
        if found is None:
            self.out[name] = NO_PLACE
            return
        start, end = found
        for other, condition in self.waits[name]:
            if condition == "each-succeeds" and other in self.times:  # its last task follows the other's last one
                end = max(end, self.times[other][1] + request.walltime_s * 1000)
        self.times[name] = start, end

    def _find(self, request: Request, begin: int) -> tuple[int, int] | None:
        plans, planner = self.engine.plans, self.engine.plans.planner
        owner = Owner(self.user, request.account, request.tier)
        wanted = PlanRequest(
            -1, replace(request, array=None), owner=owner, access=plans.access(self.user, request.account)
        )
        field = self.fields.get(wanted.access)
        if field is None:
            field = self.fields[wanted.access] = self.plan.timeline_of(wanted).copy()
        if request.array is not None:
            task = replace(request, array=None)
            whole = array_finish(planner, field, task, request.array.count, request.array.at_once, begin, keep=True)
            return (whole.first_ms, whole.last_ms) if whole else None
        placement = planner.place(field, wanted, begin, self.plan.limits)
        if placement is None:
            return None
        planner.occupy(field, placement)
        return placement.start_ms, placement.end_ms

    def _cost(self, name: str) -> int:
        request, planner = self.requests[name], self.engine.plans.planner
        need = next(iter(planner.needs(request, self.user)), None)
        tasks = request.array.count if request.array else 1
        return greatest_charge(self.engine.site, request, need, tasks) if need else 0


def live_times(engine: Engine, now_ms: int, numbers: Collection[int]) -> dict[int, tuple[int, int]]:
    """When jobs that run or have a place in the plan start and end at the latest."""
    plan, found = engine.plans.plan(now_ms), dict[int, tuple[int, int]]()
    for number in numbers:
        job = engine.state.jobs.get(number)
        if job is None:
            continue
        tasks = [engine.state.jobs[one] for one in engine.state.tasks.get(number, ())]
        runs = [one for one in (job, *tasks) if one.started_ms is not None and one.end_limit_ms is not None]
        placed = plan.place_of(number)
        if job.request.array is not None and job.unmade_tasks and placed is None:
            continue  # when its last task runs isn't known
        begins = [one.started_ms or 0 for one in runs] + ([placed.start_ms] if placed else [])
        ends = [one.end_limit_ms or 0 for one in runs] + ([placed.end_ms] if placed else [])
        if begins:
            found[number] = min(begins), max(ends)
    return found
