"""Plans of a site's state: the present one, kept while it is valid, and those made to answer a question."""

from collections.abc import Collection, Iterable, Iterator
from heapq import merge
from itertools import islice

from lazy_quarry.core.engine.events import BroughtForward, Ended, Event, Started, Submitted
from lazy_quarry.core.engine.live_jobs import WaitingLine, may_start
from lazy_quarry.core.engine.meters import budgets_at
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import TASK_SPAN, Job, Origin, Phase
from lazy_quarry.core.job.rates import charge_of
from lazy_quarry.core.job.request import Request, task_request
from lazy_quarry.core.ledger.budgets import FOR_EVER, day_of, next_turn_ms
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, RecentUse, use_updated_at
from lazy_quarry.core.plan.kept_places import Earlier
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import Owner, PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import Plan, expected_end, make_plan
from lazy_quarry.core.plan.planner import MOST_JOBS, Planner
from lazy_quarry.core.plan.queue import TurnQueue
from lazy_quarry.core.plan.standing import Turn, Turns, exchanged
from lazy_quarry.core.site import Closure, Site, Window
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.core.values import replace

MOST_EACH = 500
"""Where the tasks of an array are placed one by one, so many are looked at together."""


QUIET = "it does not answer"
"""Why nothing is expected to start on a node that is quiet."""


class LineQueue:
    """The lines of the present state, merged by the turns of their first ones.

    It must be asked again when the state has changed.
    """

    def __init__(self, plans: "Plans", at_ms: int) -> None:
        self._plans, self._at_ms = plans, at_ms

    def samples(self) -> Iterable[tuple[PlanRequest, int]]:
        """One of each line."""
        for line in self._plans.state.jobs.lines.values():
            if line.places:
                yield self._plans.sample(line), len(line.places)

    def in_turn(self) -> Iterator[PlanRequest]:
        """All of them, no further than they are asked for."""
        return (self._plans.plan_request(job, self._at_ms) for job in self._plans.in_turn(self._at_ms))


class Plans:
    """Makes plans of a state, and keeps the present one as long as nothing changes it."""

    def __init__(self, site: Site, state: State, planner: Planner | None = None) -> None:
        self.site, self.state = site, state
        self.planner = planner or Planner(site)
        self._kept: Plan | None = None
        self._earlier: Plan | None = None
        """The plan that was kept until jobs came in that stand before some that it had tried."""
        self._ordering = frozenset[str]()
        """Whose own order the kept plan follows."""
        self._order_until_ms = 0
        """Until then the order of the kept plan is known to be right: standings change when recent use is updated."""
        self._turn_ms = 0
        """Until then no term of a budget begins or ends."""
        self._before: tuple[Plan | None, dict[tuple, Plan]] = (None, {})
        """Plans of those that stand before some job, made beside this kept plan."""
        self._turns: tuple[int, Turns] | None = None
        """The turns since recent use was computed last; None when something has ended since."""
        self._plain_requests: dict[int, PlanRequest] = {}
        """Jobs as the planner sees them, by number."""

    # -- the kept plan -----------------------------------------------------------------------------

    def plan(self, at_ms: int) -> Plan:
        """The plan for this instant. It is made again only when something has changed."""
        if at_ms >= self._turn_ms:
            self._kept, self._turn_ms = None, next_turn_ms(self.site, at_ms)
        plan = self._kept
        if plan is not None and plan.at(at_ms) and at_ms >= self._order_until_ms:
            # Recent use was updated, so standings differ. The plan stays as long as those that were tried have the same order.
            waiting = (number for number in plan.tried if self._waits(number))
            if all(job.number == number for number, job in zip(waiting, self.in_turn(at_ms), strict=False)):
                plan.follow(LineQueue(self, at_ms))
            else:
                plan = None
            self._order_until_ms = use_updated_at(at_ms) + USE_UPDATE_MS
        if plan is None or not plan.at(at_ms):
            earlier = None
            if self._earlier is not None and self._earlier.at(at_ms):
                earlier = self._earlier.as_earlier(self._waits)
            self._earlier = None
            plan = self._kept = self.plan_of(at_ms, LineQueue(self, at_ms), earlier=earlier)
            self._ordering = frozenset(self.state.orders)
            self._order_until_ms = use_updated_at(at_ms) + USE_UPDATE_MS
        return plan

    def take_in(self, event: Event, followed: bool) -> None:
        """Keep the plan when an event doesn't change it: a job is added behind all that were tried, or starts at its place.

        ``followed``: other jobs waited for the one that it is about.
        """
        if isinstance(event, Ended | BroughtForward):
            self._turns = None
        if not isinstance(event, Submitted):
            self._earlier = None
        plan = self._kept
        if plan is None:
            return
        if isinstance(event, Submitted):
            if self.state.jobs[event.job].phase is Phase.BLOCKED:
                return  # it has no place in the plan
            job = self.state.jobs[event.job]
            known = plan.serves(self.access(event.by.user, event.request.account))
            # An array is planned task by task; a job before others changes their places.
            if event.request.array is not None or not known or not self._behind_all(job, plan, event.at_ms):
                self._kept, self._earlier = None, plan
            else:
                plan.follow(LineQueue(self, event.at_ms), self.plan_request(job, event.at_ms))
        elif isinstance(event, Started) and self._starts_as_planned(plan, event):
            cheaper = self._costs_less_here(plan, event)
            plan.started(event.job)
            plan.follow(LineQueue(self, event.at_ms))
            # Others may start now, or later than the plan says, or exchange their turns.
            own_order = self.state.jobs[event.job].user in self._ordering
            if followed or event.job >= TASK_SPAN or own_order or cheaper:
                self._kept = None
        else:
            self._kept = None

    def _behind_all(self, job: Job, plan: Plan, at_ms: int) -> bool:
        """True when a job that has just been submitted stands behind all that the plan has tried."""
        if self.state.orders:
            # Who has an order of their own moves with every new job: it may give its turn to another one.
            return job.user not in self.state.orders and self.in_order(at_ms)[-1] is job
        last = next(reversed(plan.tried), None)
        turns = self.turns(at_ms)
        return last is None or turns.of(job) > turns.of(self.state.jobs[last])

    def _waits(self, number: int) -> bool:
        job = self.state.jobs.get(number)
        return job is not None and may_start(job)

    @staticmethod
    def _starts_as_planned(plan: Plan, event: Started) -> bool:
        placed = plan.placed_so_far(event.job)
        return placed is not None and placed.start_ms == event.at_ms

    def _costs_less_here(self, plan: Plan, event: Started) -> bool:
        """True when its budget has more left now than while it waited, when it counted as what it may cost anywhere."""
        job, placed = self.state.jobs[event.job], plan.placed_so_far(event.job)
        if placed is None or not any(name in plan.limits.left for name in self.site.lineage(job.request.account)):
            return False
        most = self.planner.greatest_charge(job.request.tier, placed)
        return most != charge_of(self.site, job, placed.end_ms - placed.start_ms)

    # -- plans for a question ----------------------------------------------------------------------

    def plan_before(self, job: Job, at_ms: int) -> Plan:
        """The plan of those that stand before a job: what it would find if it were planned as it is given here."""
        plan = self.plan(at_ms)
        if self._is_last(job, at_ms) and plan.serves(self.access(job.user, job.request.account)):
            plan.whole()
            return plan
        ahead = self.ahead_of(job, at_ms)
        access = self.access(job.user, job.request.account)
        # Kept beside one plan: jobs with the same jobs ahead of them share an answer.
        if self._before[0] is not plan:
            self._before = (plan, {})
        key = (access, *(other.number for other in ahead))
        found = self._before[1].get(key)
        if found is None or not found.at(at_ms):
            found = self._before[1][key] = self.plan_of(at_ms, ahead, accesses=[access])
            found.whole()
        return found

    def plan_of(
        self,
        at_ms: int,
        order: Iterable[Job] | LineQueue,
        *,
        giving_way: Collection[int] = (),
        accesses: Iterable[frozenset[Window]] = (),
        earlier: Earlier | None = None,
    ) -> Plan:
        """A plan for jobs in this order beside what runs, as if the jobs in ``giving_way`` were told to stop now."""
        limits = self.limit_rows(at_ms)
        allocations: list[PlannedAllocation] = []
        for job in self.state.running():
            until = job.end_limit_ms or 0
            if job.number in giving_way:
                until = min(until, at_ms + job.request.grace_s * 1000)
            allocations += (PlannedAllocation(one.node, until, one.amount, one.ranks) for one in job.allocations)
            if limits.bounded:
                # A job past its limit has its cores until its end is reported, so it still counts for a moment.
                limits.use(owner_of(job), job.queue, at_ms, expected_end(until, at_ms), job.claim)
        queue: TurnQueue | list[PlanRequest]
        queue = order if isinstance(order, LineQueue) else [self.plan_request(job, at_ms) for job in order]
        return make_plan(
            self.planner,
            at_ms,
            allocations,
            queue,
            closures=self._closures,
            windows=self.windows,
            limits=limits,
            accesses=accesses,
            earlier=earlier,
        )

    def empty(self, at_ms: int, wanted: PlanRequest) -> Plan:
        """The plan for one request if nothing ran and nobody else waited: closed nodes and windows are all that is in the way."""
        return make_plan(self.planner, at_ms, [], [wanted], closures=self._closures, windows=self.windows)

    @property
    def _closures(self) -> list[Closure]:
        quiet = dict.fromkeys(self.state.quiet, QUIET)
        return [Closure(node, reason) for node, reason in sorted({**quiet, **self.state.closures}.items())]

    # -- what the planner is given -----------------------------------------------------------------

    @property
    def windows(self) -> tuple[Window, ...]:
        """The site's windows and those made here."""
        return (*self.site.windows, *(window for _, window in sorted(self.state.reserved.items())))

    def access(self, user: str, account: str) -> frozenset[Window]:
        """The reservations that they may use."""
        if not self.site.windows and not self.state.reserved:
            return frozenset()  # as on most sites, and it is asked for each job
        return frozenset(one for one in self.windows if one.reserved and one.admits(user, account))

    def limit_rows(self, at_ms: int) -> LimitRows:
        """The site's limits with nothing in use, and each budget as the jobs that run leave it at the least."""
        charged = {name: tally.charged_core_ms for name, tally in self.state.tallies.items()}
        found = budgets_at(self.site, self.state, charged, at_ms)
        rows = LimitRows(self.site, at_ms, {name: budget.left_core_ms for name, budget in found.items()})
        for name, budget in found.items():
            if self.site.account[name].budget_each and budget.term.end_ms < FOR_EVER:
                rows.renewed[name] = f"; it has its budget anew on {day_of(budget.term.end_ms)}"
        for job in self.state.running() if found else ():
            length = expected_end(job.end_limit_ms or 0, at_ms) - (job.started_ms or at_ms)
            rows.spend(owner_of(job), charge_of(self.site, job, length), comes_back=True)
        return rows

    def plan_request(self, job: Job, at_ms: int) -> PlanRequest:
        """A waiting job as the planner sees it."""
        array = job.request.array
        if array is None:
            return self._plain(job)
        owner, access = owner_of(job), self.access(job.user, job.request.account)
        limit: int | None = None
        busy: tuple[int, ...] = ()
        if array.at_once is not None:
            live = [self.state.jobs[number] for number in sorted(self.state.tasks.get(job.number, ()))]
            limit = max(0, array.at_once - len(live))
            busy = tuple(expected_end(task.end_limit_ms or 0, at_ms) for task in live if task.phase is Phase.RUNNING)
        request = replace(job.request, array=None)
        each = tuple(_startable_tasks(job)) if array.nodes or job.waits_by_task else ()
        return PlanRequest(job.number, request, job.startable, limit, busy, owner, access, each)

    def sample(self, line: WaitingLine) -> PlanRequest:
        """The first of a line as the planner sees it, as one task of an array."""
        job = self.state.jobs[line.places[0][1]]
        if job.request.array is None:
            return self._plain(job)
        request, access = replace(job.request, array=None), self.access(job.user, job.request.account)
        each = ((0, request),) if line.by_task else ()
        return PlanRequest(job.number, request, owner=owner_of(job), access=access, each=each)

    def _plain(self, job: Job) -> PlanRequest:
        """A job that is no array, made once as long as nothing of it changes."""
        access, known = self.access(job.user, job.request.account), self._plain_requests.get(job.number)
        if known is None or known.request is not job.request or known.access != access:
            if len(self._plain_requests) > MOST_JOBS:
                self._plain_requests.clear()
            known = PlanRequest(job.number, job.request, owner=owner_of(job), access=access)
            self._plain_requests[job.number] = known
        return known

    def plan_request_of(self, job: Job) -> PlanRequest:
        """A job, or one task of an array, as the planner sees it, though nobody may have submitted it."""
        access = self.access(job.user, job.request.account)
        return PlanRequest(-1, replace(job.request, array=None), owner=owner_of(job), access=access)

    def hypothetical_job(self, user: str, request: Request, at_ms: int) -> Job:
        """A job that somebody thinks of submitting now."""
        return Job(self.state.next_number, user, request, Origin(""), at_ms)

    # -- the order ---------------------------------------------------------------------------------

    def recent_use(self, at_ms: int) -> RecentUse:
        """Who has used how much lately, as it was last updated."""
        return self.turns(at_ms).usage

    def turns(self, at_ms: int) -> Turns:
        """The turns of jobs, by the recent use as it was last updated."""
        updated = use_updated_at(at_ms)
        if self._turns is None or self._turns[0] != updated:
            self._turns = updated, Turns(RecentUse(self.site, self.state.recent, self.state.running(), at_ms))
        return self._turns[1]

    def in_turn(self, at_ms: int) -> Iterator[Job]:
        """Jobs that may start, in the order of their turns; none is looked at before it is asked for."""
        jobs = self.state.jobs
        if self.state.orders:
            return iter(self.in_order(at_ms))
        turns = self.turns(at_ms)
        lines = [self._line_turns(line, turns) for line in jobs.lines.values() if line.places]
        return (jobs[turn[3]] for turn in merge(*lines))

    @staticmethod
    def _line_turns(line: WaitingLine, turns: Turns) -> Iterator[Turn]:
        gives_way, hours = turns.standing(line.user, line.request)
        return ((gives_way, submitted / HOUR_MS - hours, submitted, number) for submitted, number in line.places)

    def in_order(self, at_ms: int) -> list[Job]:
        """All jobs that may start, in the order of their turns, users' own orders being followed."""
        return exchanged(sorted(self._startable(), key=self.turns(at_ms).of), self.state.orders)

    def ahead_of(self, job: Job, at_ms: int) -> list[Job]:
        """Jobs that stand before a job, which may be one that nobody has submitted, or one changed."""
        others = [other for other in self._startable() if other.number != job.number]
        order = exchanged(sorted([*others, job], key=self.turns(at_ms).of), self.state.orders)
        return order[: next(place for place, other in enumerate(order) if other is job)]

    def _is_last(self, job: Job, at_ms: int) -> bool:
        """True when a job that nobody has submitted yet would stand behind all others."""
        if job.number in self.state.jobs or job.user in self.state.orders:
            return False
        turns = self.turns(at_ms)
        last = (
            (gives_way, line.places[-1][0] / HOUR_MS - hours, *line.places[-1])
            for line in self.state.jobs.lines.values()
            if line.places
            for gives_way, hours in [turns.standing(line.user, line.request)]
        )
        return all(turn < turns.of(job) for turn in last)

    def _startable(self) -> Iterable[Job]:
        return (self.state.jobs[number] for line in self.state.jobs.lines.values() for _, number in line.places)


def owner_of(job: Job) -> Owner:
    """Whose limits a job is under."""
    return Owner(job.user, job.request.account, job.request.tier)


def _startable_tasks(job: Job) -> Iterable[tuple[int, Request]]:
    """The tasks of an array that may start, one by one, as far as the plan looks."""
    array = job.request.array
    assert array is not None
    indices: Iterable[int] = job.freed_tasks if job.waits_by_task else range(job.next_index, array.count)
    out = {*job.handled_tasks, *job.doomed_tasks, *job.held_tasks}
    left = (index for index in indices if index not in out)
    for index in islice(left, MOST_EACH):
        yield index, replace(task_request(job.request, index), after=())
