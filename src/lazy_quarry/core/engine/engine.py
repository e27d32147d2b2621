"""The only place where a job changes state: commands → events → state.

:func:`decide` says which events a command makes and changes nothing; :meth:`State.apply` folds one event
in. Between the two, the caller puts the events on disk. Replaying the events gives the state again.
"""

from collections.abc import Collection, Iterable
from dataclasses import replace
from itertools import islice

from lazy_quarry.core.engine.events import (
    CancelJob,
    CancelTask,
    Changed,
    ChangeJob,
    ClockHeld,
    CloseNode,
    Command,
    Ended,
    Event,
    Finish,
    Held,
    HoldJob,
    LoseNode,
    NodeClosed,
    NodeOpened,
    OpenNode,
    Ordered,
    OrderJobs,
    Released,
    ReleaseJob,
    Reserve,
    Reserved,
    Schedule,
    Started,
    Stopping,
    Submit,
    Submitted,
    TaskMade,
    TasksDropped,
    Unreserve,
    Unreserved,
)
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase, task_id
from lazy_quarry.core.job.request import Need, Request, task_request
from lazy_quarry.core.ledger.charges import allocated_core_ms, charge
from lazy_quarry.core.plan.limits import MEASURES, Kind, LimitRows, Owner, limits_of, over_limits
from lazy_quarry.core.plan.planner import OVERDUE_MS, Placement, Plan, PlannedAllocation, Planner, PlanRequest
from lazy_quarry.core.plan.standing import USE_UPDATE_MS, RecentUse, in_order, use_updated_at
from lazy_quarry.core.site import Closure, Site, Window
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.errors import NoSuchJob, Refused

MOST_EACH = 500
"""Of an array whose tasks are placed one by one, so many are looked at together."""
MOST_GIVEN_WAY = 3
"""So many of the first waiting jobs are tried, when others may have to give way."""
CLOCK_SLACK_MS = 2_000
"""A clock set back by less than this is held without a word."""


class Engine:
    """A site's state together with the planner that moves it on."""

    def __init__(self, site: Site, state: State | None = None) -> None:
        self.site = site
        self.state = state or State()
        self.planner = Planner(site)
        self._plan: Plan | None = None
        self._order_until_ms = 0
        self._befores: tuple[Plan | None, dict[tuple, Plan]] = (None, {})

    def apply(self, events: Iterable[Event]) -> list[Job]:
        """Fold events that are on disk into the state; returns the jobs they brought to their end."""
        ended = []
        for event in events:
            if job := self.state.apply(event):
                ended.append(job)
            self._keep_plan(event)
        return ended

    def _keep_plan(self, event: Event) -> None:
        """What is added behind all others, or starts at its place, leaves the plan as it is."""
        plan = self._plan
        if plan is None:
            return
        if isinstance(event, Submitted):
            if event.request.after:
                return
            order = self.in_order(event.at_ms)
            access = self._access(event.user, event.request.account)
            if event.request.array is not None or order[-1].number != event.job or access not in plan.timelines:
                self._plan = None  # an array is asked for task by task; who stands before others changes their places
            else:
                plan.extend(self._plan_request(order[-1]))
        elif isinstance(event, Started) and event.job in plan.taken and event.at_ms == plan.taken[event.job].start_ms:
            plan.valid_until_ms = min(plan.valid_until_ms, plan.taken[event.job].end_ms)
            plan.started(event.job)
            if event.job in self.state.followers:
                self._plan = None
        else:
            self._plan = None

    def plan(self, at_ms: int) -> Plan:
        """The one plan for this instant, made anew only when something has changed."""
        plan = self._plan
        if plan is not None and plan.at(at_ms) and at_ms >= self._order_until_ms:
            order = [job.number for job in self.in_order(at_ms)]
            kept = set(order)
            if order != [wanted.job for wanted in plan.requests if wanted.job in kept]:
                plan = None
            self._order_until_ms = use_updated_at(at_ms) + USE_UPDATE_MS
        if plan is None or not plan.at(at_ms):
            plan = self._plan = self.plan_of(at_ms, self.in_order(at_ms))
            self._order_until_ms = use_updated_at(at_ms) + USE_UPDATE_MS
        return plan

    def ahead_of(self, job: Job, at_ms: int) -> list[Job]:
        """Those that stand before a job, which may be one that nobody has submitted, or one changed."""
        others = [other for other in self._startable() if other.number != job.number]
        order = in_order([*others, job], self.recent_use(at_ms), self.state.orders)
        return order[: next(place for place, other in enumerate(order) if other is job)]

    def before(self, job: Job, at_ms: int) -> Plan:
        """The plan of those that stand before a job: what it would find, if it were asked for as it is here."""
        plan, ahead = self.plan(at_ms), self.ahead_of(job, at_ms)
        access = self._access(job.user, job.request.account)
        last = job.number not in self.state.jobs and len(ahead) == sum(1 for _ in self._startable())
        if last and access in plan.timelines:
            plan.whole()
            return plan
        if self._befores[0] is not plan:
            self._befores = (plan, {})
        key = (access, *(other.number for other in ahead))
        found = self._befores[1].get(key)
        if found is None or not found.at(at_ms):
            found = self._befores[1][key] = self.plan_of(at_ms, ahead, accesses=[access])
            found.whole()
        return found

    def plan_of(
        self,
        at_ms: int,
        order: Iterable[Job],
        giving_way: Collection[int] = (),
        accesses: Iterable[frozenset[Window]] = (),
    ) -> Plan:
        """A plan for jobs in this order beside what runs; of that, ``giving_way`` is thought to be told to stop now."""
        running = list(self.state.running())
        limits = self.limit_rows(at_ms)
        stretches: list[PlannedAllocation] = []
        for job in running:
            until = job.end_limit_ms or 0
            if job.number in giving_way:
                until = min(until, at_ms + job.request.grace_s * 1000)
            stretches += _stretches(job, until)
            if limits.bounded:
                claim = _claim(job)
                limits.hold(_owner(job), job.queue, at_ms, until if until > at_ms else at_ms + OVERDUE_MS, claim)
        closures = [Closure(node, reason) for node, reason in sorted(self.state.closures.items())]
        requests = [self._plan_request(job) for job in order]
        return self.planner.plan(at_ms, stretches, requests, closures, self.windows, limits, accesses)

    @property
    def windows(self) -> tuple[Window, ...]:
        """The site's windows and those made here."""
        return (*self.site.windows, *(window for _, window in sorted(self.state.reserved.items())))

    def _access(self, user: str, account: str) -> frozenset[Window]:
        return frozenset(one for one in self.windows if one.reserved and one.admits(user, account))

    def limit_rows(self, at_ms: int) -> LimitRows:
        """The site's limits, with each budget as the jobs that run leave it at the least; nothing held yet."""
        left: dict[str, int] = {}
        for account in self.site.accounts:
            if account.budget_core_hours is not None:
                tally = self.state.tallies.get(account.name)
                left[account.name] = account.budget_core_hours * HOUR_MS - (tally.charged_core_ms if tally else 0)
        rows = LimitRows(self.site, at_ms, left)
        for job in self.state.running():
            if job.request.account in left:
                length = max(job.end_limit_ms or 0, at_ms) - (job.started_ms or at_ms)
                most = charge(self.site, job.request.tier, job.cores_allocated * length)
                rows.left[job.request.account] -= most
                spent = charge(self.site, job.request.tier, allocated_core_ms(job, at_ms))
                rows.coming[job.request.account] = rows.coming.get(job.request.account, 0) + most - spent
        return rows

    def _plan_request(self, job: Job) -> PlanRequest:
        array, owner = job.request.array, _owner(job)
        access = self._access(job.user, job.request.account)
        if array is None:
            return PlanRequest(job.number, job.request, owner=owner, access=access)
        limit = None
        if array.at_once is not None:
            limit = max(0, array.at_once - len(self.state.tasks.get(job.number, ())))
        request = replace(job.request, array=None)
        if array.nodes or job.waits_by_task:
            return PlanRequest(job.number, request, job.startable, limit, owner, access, tuple(self._each(job)))
        return PlanRequest(job.number, request, job.unmade_tasks, limit, owner, access)

    @staticmethod
    def _each(job: Job) -> Iterable[tuple[int, Request]]:
        """The tasks that may start, one by one, as far as the plan looks."""
        array = job.request.array
        assert array is not None
        indices: Iterable[int] = job.freed_tasks if job.waits_by_task else range(job.next_index, array.count)
        left = (index for index in indices if index not in job.handled_tasks and index not in job.doomed_tasks)
        for index in islice(left, MOST_EACH):
            yield index, replace(task_request(job.request, index), after=())

    def plan_request_of(self, job: Job) -> PlanRequest:
        """A job, or one task of an array, as the planner sees it, though nobody may have submitted it."""
        access = self._access(job.user, job.request.account)
        return PlanRequest(-1, replace(job.request, array=None), owner=_owner(job), access=access)

    def hypothetical_job(self, user: str, request: Request, at_ms: int) -> Job:
        """A job that somebody thinks of submitting now."""
        return Job(self.state.next_number, user, request, Origin(""), at_ms)

    def recent_use(self, at_ms: int) -> RecentUse:
        """Who has used how much lately, as it was last reckoned."""
        return RecentUse(self.site, self.state.recent, self.state.running(), at_ms)

    def in_order(self, at_ms: int) -> list[Job]:
        """Jobs that may start, by their standing."""
        return in_order(self._startable(), self.recent_use(at_ms), self.state.orders)

    def _startable(self) -> Iterable[Job]:
        return (
            job
            for job in self.state.jobs.values()
            if job.phase is Phase.WAITING and (job.request.array is None or job.startable)
        )

    def decide(self, command: Command) -> list[Event]:
        """The events that a command makes. Raises :class:`Refused` when it is not carried out."""
        at = max(command.at_ms, self.state.at_ms)
        events: list[Event] = []
        if isinstance(command, Schedule) and at - command.at_ms > CLOCK_SLACK_MS and self.state.clock_held_ms != at:
            events.append(ClockHeld(at, at - command.at_ms))
        match command:
            case Submit():
                self._accept(command)
                number = self.state.next_number
                told = (command.user, command.request, command.origin, command.freed_tasks, command.doomed_tasks)
                events.append(Submitted(at, number, *told))
            case HoldJob():
                job = self._mine(command.job, command.by, "hold")
                if job.phase is Phase.HELD:
                    raise Refused(f"{job.number} is held already")
                if job.request.array is not None and not job.unmade_tasks:
                    raise Refused(f"all tasks of {job.number} have started; there is nothing to hold")
                if job.phase not in (Phase.WAITING, Phase.BLOCKED):
                    raise Refused(f"{job.number} is {job.phase}; only a waiting job can be held")
                events.append(Held(at, job.number, command.by))
            case ReleaseJob():
                job = self._mine(command.job, command.by, "release")
                if job.phase is not Phase.HELD:
                    raise Refused(f"{job.number} is not held, it is {job.phase}")
                events.append(Released(at, job.number, command.by))
            case CancelTask():
                events += self._cancel_task(command, at)
            case CancelJob():
                job = self._mine(command.job, command.by, "cancel")
                if job.request.array is not None:
                    events += self._cancel_array(job, command.by, at)
                elif job.phase is Phase.RUNNING:
                    if job.stopping is None:
                        events.append(Stopping(at, job.number, "cancelled", command.by))
                else:
                    events.append(_never_started(job.number, job.attempt, command.by, at))
            case ChangeJob():
                events.append(self._changed(command, at))
            case OrderJobs():
                events.append(self._ordered(command, at))
            case Reserve():
                events.append(self._reserved(command, at))
            case Unreserve():
                if command.name not in self.state.reserved:
                    raise Refused(f'there is no reservation "{command.name}" that was made here')
                events.append(Unreserved(at, command.name, command.by))
            case LoseNode():
                events.append(NodeClosed(at, self._node(command.node), command.reason))
                for job in self.state.running():
                    if job.stopping is None and any(allocation.node == command.node for allocation in job.allocations):
                        events.append(Stopping(at, job.number, "lost", command.node))
            case CloseNode():
                events.append(NodeClosed(at, self._node(command.node), command.reason))
            case OpenNode():
                if self._node(command.node) not in self.state.closures:
                    raise Refused(f"node {command.node} is open already")
                events.append(NodeOpened(at, command.node))
            case Schedule():
                events += self._closings(at)
                events += self._skips(at)
                events += self._starts(at)
                events += self._over(at)
                if not any(isinstance(event, Started) for event in events):
                    events += self._giving_way(at)
            case Finish():
                events += self._finish(command, at)
        return events

    def _mine(self, number: int, by: str, verb: str) -> Job:
        job = self.state.jobs.get(number)
        if job is None:
            if number < self.state.next_number and number > 0:
                raise Refused(f"{number} has ended already; there is nothing to {verb}")
            raise NoSuchJob(f"there is no job {number}")
        if job.user != by:
            raise Refused(f"{number} belongs to {job.user}; you may {verb} only your own jobs")
        return job

    def _node(self, name: str) -> str:
        if name not in self.site.node:
            raise Refused(f"there is no node {name}")
        return name

    def _accept(self, command: Submit, but: int = 0) -> None:
        """Refuse what could never run here, whatever else happens."""
        needs = self.planner.needs(command.request)
        if not needs:
            raise Refused(f"no queue of {', '.join(command.request.queues)} could ever run this")
        if problem := self._over_limits(command.user, command.request, needs, but):
            raise Refused(problem)

    def over_limits(self, user: str, request: Request, but: int = 0) -> str:
        """Which limit a request can never meet, or that would be passed by one more waiting job; empty for none.

        ``but`` is a job that isn't counted, since it would ask for this instead.
        """
        needs = self.planner.needs(request)
        return self._over_limits(user, request, needs, but) if needs else ""

    def _over_limits(self, user: str, request: Request, needs: Collection[Need], but: int) -> str:
        cores, gpus = min(need.cores for need in needs), min(need.node_count * need.gpus for need in needs)
        return over_limits(self.site, user, request, cores, gpus, self._waiting(but))

    def limits_in_use(self, pairs: Iterable[tuple[Kind, str]]) -> Iterable[tuple[Kind, str, str, int, int]]:
        """Of each limit of these (kind, name): what it is of, how much is in use, and the most."""
        waiting = self._waiting(0)
        held: dict[tuple[Kind, str], list[int]] = {}
        for job in self.state.running():
            claim = _claim(job)
            owners = [
                ("user", job.user),
                ("account", job.request.account),
                ("tier", job.request.tier),
                ("queue", job.queue),
            ]
            for owner in owners:
                sums = held.setdefault(owner, [0, 0, 0])
                for kind, amount in enumerate(claim):
                    sums[kind] += amount
        for pair in pairs:
            limits = limits_of(self.site, *pair)
            in_use = held.get(pair, [0, 0, 0])
            for measure, used, most in zip(MEASURES, in_use, limits.of_running, strict=True):
                if most is not None:
                    yield *pair, measure, used, most
            if limits.waiting_jobs is not None:
                yield *pair, "waiting jobs", waiting.get(pair, 0), limits.waiting_jobs

    def _waiting(self, but: int) -> dict[tuple[Kind, str], int]:
        """How many jobs wait, for whom."""
        counts: dict[tuple[Kind, str], int] = {}
        for job in self.state.jobs.values():
            if job.phase is not Phase.RUNNING and job.parent is None and job.number != but:
                pairs = [("user", job.user), ("account", job.request.account), ("tier", job.request.tier)]
                for pair in [*pairs, *(("queue", name) for name in job.request.queues[:1])]:
                    counts[pair] = counts.get(pair, 0) + 1
        return counts

    def _changed(self, command: ChangeJob, at: int) -> Changed:
        job = self._mine(command.job, command.by, "change")
        begun = bool(self.state.tasks.get(job.number)) or job.next_index > 0
        if job.phase is Phase.RUNNING or begun:
            what = "some of its tasks have started" if begun else "it runs"
            raise Refused(f"{job.label} can't be changed any more: {what}")
        if job.parent is not None:
            raise Refused(f"{job.label} is a task; change the array before it starts")
        self._accept(Submit(at, job.user, command.request, job.origin), job.number)
        return Changed(at, job.number, command.by, command.request, command.overrides)

    def _ordered(self, command: OrderJobs, at: int) -> Ordered:
        jobs = [self._mine(number, command.by, "order") for number in dict.fromkeys(command.jobs)]
        for job in jobs:
            if job.phase is Phase.RUNNING:
                raise Refused(f"{job.label} runs already; only waiting jobs have an order")
        return Ordered(at, command.by, tuple(job.number for job in jobs))

    def _reserved(self, command: Reserve, at: int) -> Reserved:
        window = command.window
        if not window.name or not window.name.strip():
            raise Refused("a reservation needs a name")
        if any(window.name == one.name for one in self.site.windows):
            raise Refused(f'"{window.name}" is in the site file; change it there')
        for name in window.nodes:
            self._node(name)
        if not window.nodes:
            raise Refused("a reservation needs nodes")
        if window.ends_ms <= window.begins_ms:
            raise Refused("a reservation ends after it begins")
        if window.ends_ms <= at:
            raise Refused("this time is over already")
        for account in window.accounts:
            if account not in self.site.account:
                raise Refused(f'there is no account "{account}"')
        return Reserved(at, window, command.by)

    def _over(self, at: int) -> list[Event]:
        """Reservations whose time is over."""
        return [Unreserved(at, name, "") for name, one in sorted(self.state.reserved.items()) if one.ends_ms <= at]

    def _giving_way(self, at: int) -> list[Event]:
        """Jobs of tiers that give way are told to stop where that lets the first of the others start sooner.

        They are taken one by one, the last started first, until the plan made without them places that job; so what is
        stopped is needed. One job at a time: the next is seen to when this one has its place.
        """
        running = {job.number: job for job in self.state.running() if self._gives_way(job)}
        if not running or any(job.stopping is not None for job in running.values()):
            return []
        plan, order = self.plan(at), self.in_order(at)
        for job in [one for one in order if not self._gives_way(one)][:MOST_GIVEN_WAY]:
            longest = max(one.request.grace_s for one in running.values()) * 1000
            place = plan.placements.get(job.number)
            if place is None or place.start_ms <= at + longest:
                continue
            ahead = order[: order.index(job) + 1]
            pressed = self.plan_of(at, ahead, running).placements.get(job.number)
            if pressed is None or pressed.start_ms > at + longest:
                continue
            wanted = {one.node for one in pressed.nodes}
            last_first = sorted(running.values(), key=lambda one: (-(one.started_ms or 0), -one.number))
            chosen: list[int] = [
                one.number for one in last_first if wanted & {allocation.node for allocation in one.allocations}
            ]
            for number in chosen[::-1]:  # who needn't, stays: the longest running first
                fewer = [one for one in chosen if one != number]
                found = self.plan_of(at, ahead, fewer).placements.get(job.number)
                if found is not None and found.start_ms <= at + longest:
                    chosen = fewer
            return [Stopping(at, number, "gave-way", str(job.number)) for number in chosen]
        return []

    def _gives_way(self, job: Job) -> bool:
        tier = self.site.tier.get(job.request.tier)
        return tier is not None and tier.gives_way

    def _cancel_array(self, job: Job, by: str, at: int) -> list[Event]:
        """All that runs of it is stopped, all that waits is dropped."""
        events: list[Event] = [TasksDropped(at, job.number, job.unmade_tasks, by)] if job.unmade_tasks else []
        for number in sorted(self.state.tasks.get(job.number, ())):
            task = self.state.jobs[number]
            if task.phase is not Phase.RUNNING:
                events.append(_never_started(number, task.attempt, by, at))
            elif task.stopping is None:
                events.append(Stopping(at, number, "cancelled", by))
        return events

    def _cancel_task(self, command: CancelTask, at: int) -> list[Event]:
        job = self._mine(command.job, command.by, "cancel")
        number = task_id(job.number, command.index)
        task = self.state.jobs.get(number)
        if task is None:
            if command.index < job.next_index or command.index in job.handled_tasks:
                raise Refused(f"task {command.job}/{_task_number(job, command.index)} has ended already")
            made = TaskMade(at, number, job.number, command.index)
            return [made, _never_started(number, 0, command.by, at)]
        if task.phase is not Phase.RUNNING:
            return [_never_started(number, task.attempt, command.by, at)]
        return [Stopping(at, number, "cancelled", command.by)] if task.stopping is None else []

    def _skips(self, at: int) -> list[Event]:
        """What can never start any more has ended."""
        skip_reason = (job for job in self.state.jobs.values() if job.skip_reason and job.phase is not Phase.RUNNING)
        events: list[Event] = [
            Ended(at, job.number, job.attempt, Phase.SKIPPED, reason=job.skip_reason) for job in skip_reason
        ]
        for job in self.state.jobs.values():
            for index in job.doomed_tasks if not job.skip_reason else ():
                number = task_id(job.number, index)
                reason = "the task of its number that it was to follow did not succeed"
                events.append(TaskMade(at, number, job.number, index))
                events.append(Ended(at, number, 0, Phase.SKIPPED, reason=reason))
        return events

    def _closings(self, at: int) -> list[Event]:
        """Arrays of which nothing waits or runs any more have ended, as their tasks did."""
        events: list[Event] = []
        for job in self.state.jobs.values():
            if job.request.array is None or job.unmade_tasks or self.state.tasks.get(job.number):
                continue
            counts = dict(job.counts)
            phase = Phase.DONE
            if set(counts) == {"skipped"}:
                phase = Phase.SKIPPED
            elif set(counts) - {"done", "cancelled"}:
                phase = Phase.FAILED
            elif counts.get("cancelled"):
                phase = Phase.CANCELLED
            told = ", ".join(f"{count:,} {word}" for word, count in sorted(counts.items()))
            events.append(Ended(at, job.number, job.attempt, phase, reason=f"of its tasks {told}", use=job.use))
        return events

    def _starts(self, at: int) -> list[Event]:
        taken: dict[str, set[int]] = {}
        taken_gpus: dict[str, set[int]] = {}
        for job in self.state.running():
            for allocation in job.allocations:
                taken.setdefault(allocation.node, set()).update(allocation.cores)
                taken_gpus.setdefault(allocation.node, set()).update(allocation.gpus)
        events: list[Event] = []
        made: dict[int, int] = {}
        for placement in self.plan(at).starting():
            job = self.state.jobs[placement.job]
            allocations = tuple(self._shares(placement, taken, taken_gpus))
            if job.request.array is None:
                events.append(Started(at, job.number, job.attempt + 1, placement.queue, allocations))
                continue
            if placement.index is not None:
                index = placement.index
            else:
                index = made.get(job.number, job.next_index)
                while index in job.handled_tasks:
                    index += 1
                made[job.number] = index + 1
            number = task_id(job.number, index)
            events.append(TaskMade(at, number, job.number, index))
            events.append(Started(at, number, 1, placement.queue, allocations))
        return events

    def _shares(
        self, placement: Placement, taken: dict[str, set[int]], taken_gpus: dict[str, set[int]]
    ) -> Iterable[Allocation]:
        for placed in placement.nodes:
            node = self.site.node[placed.node]
            cores, memory, gpus, scratch = placed.amount
            own = _lowest(node.cores, taken.setdefault(node.name, set()), cores)
            own_gpus = _lowest(node.gpus, taken_gpus.setdefault(node.name, set()), gpus)
            yield Allocation(node.name, placed.ranks, own, memory, own_gpus, scratch)

    def _finish(self, report: Finish, at: int) -> list[Event]:
        job = self.state.jobs.get(report.job)
        if job is None or job.phase is not Phase.RUNNING or job.attempt != report.attempt:
            return []  # told before: a runner may say it twice, it counts once
        cause, reason = report.cause, report.reason
        if job.stopping == "lost" and cause not in ("overtime", "overmemory"):
            cause, reason = "lost", report.reason or "its node went"
        gave_way = job.stopping == "gave-way" and cause in ("gave-way", "cancelled", "lost")
        if gave_way:
            cause, reason = "cancelled", "it gave way to a job of another tier"
        if cause is None:
            phase = Phase.DONE if report.exit == 0 else Phase.FAILED
        else:
            phase = Phase(cause if cause != "gave-way" else "cancelled")
        again = gave_way
        if phase is Phase.LOST:
            again = job.losses < job.request.lost_retries and job.stopping in (None, "lost")
        elif phase is Phase.FAILED:
            again = job.failures < job.request.failure_retries and job.stopping is None
        elif phase is Phase.OVERTIME:
            again = job.request.again_at_overtime and job.stopping is None
        if phase is Phase.LOST and job.stopping == "cancelled":
            phase = Phase.CANCELLED
        held = allocated_core_ms(job, at)
        if report.held_ms is not None:
            held = job.cores_allocated * report.held_ms
        return [
            Ended(
                at,
                job.number,
                job.attempt,
                phase,
                again,
                report.exit,
                report.signal,
                reason,
                report.use,
                held,
                charge(self.site, job.request.tier, held),
            )
        ]


def _never_started(number: int, attempt: int, by: str, at: int) -> Ended:
    return Ended(at, number, attempt, Phase.CANCELLED, reason=f"cancelled by {by} before it started")


def _task_number(job: Job, index: int) -> int:
    return job.request.array.number(index) if job.request.array else index


def _lowest(count: int, taken: set[int], wanted: int) -> tuple[int, ...]:
    """The lowest free numbers, which are taken by this."""
    own = [number for number in range(count) if number not in taken][:wanted]
    if len(own) < wanted:
        raise AssertionError("the plan gave more than the node has")  # invariant 3
    taken.update(own)
    return tuple(own)


def _claim(job: Job) -> tuple[int, int, int]:
    """What a running job counts for in limits: a job, its cores, its GPUs."""
    return 1, job.cores_allocated, sum(len(allocation.gpus) for allocation in job.allocations)


def _owner(job: Job) -> Owner:
    return Owner(job.user, job.request.account, job.request.tier)


def _stretches(job: Job, until: int) -> Iterable[PlannedAllocation]:
    for allocation in job.allocations:
        yield PlannedAllocation(
            allocation.node,
            until,
            (len(allocation.cores), allocation.memory_mib, len(allocation.gpus), allocation.scratch_mib),
        )
