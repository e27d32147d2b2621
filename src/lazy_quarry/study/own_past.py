"""A site's own past on its own nodes under other policies and limits: the same engine, given the same jobs at the same instants.

Each job comes when it was submitted, asks for what it asked for and runs for as long as it ran; so does each task of an array.
Nodes are closed and reserved, jobs held and put in order when they were. Budgets bound nothing, since what was paid was
paid. Jobs that ran when the time began run first, and are not told of. What was cancelled while it waited waits until then; where
it starts sooner here, it runs until then. Of an array that was not cancelled only the tasks that ran are there; the others
count as done. Under the policy that the site had, every job starts when it really did, unless somebody cancelled,
changed or lost something.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from types import ModuleType

import numpy as np

from lazy_quarry.core.engine.commands import (
    CancelJob,
    CancelTask,
    Command,
    Finish,
    HoldJob,
    OrderJobs,
    ReleaseJob,
    Schedule,
    Submit,
)
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import (
    Ended,
    Event,
    Held,
    NodeClosed,
    NodeOpened,
    Ordered,
    Released,
    Reserved,
    Started,
    Stopping,
    Submitted,
    TaskMade,
)
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import EACH, TASK_SPAN, Origin, Phase, task_id
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.site import Limits, Site
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError, Refused
from lazy_quarry.study.past import Past, PastJob, PastRun
from lazy_quarry.study.studied import Studied

SHORTEST_S = 10.0
"""Runs shorter than this count as so long in the bounded slowdown (Feitelson and others, JSSPP 1997)."""
Told = Callable[[int, int], bool]
"""Is told how many jobs have started of how many; says whether to go on."""


def free_of(site: Site, policy: str, until_ms: int) -> Site:
    """The site under a policy, without budgets, windows to come, and limits on waiting jobs: in the past each was accepted."""

    def more(limits: Limits) -> Limits:
        return replace(limits, waiting_jobs=None)

    return replace(
        site,
        policy=policy,  # type: ignore[arg-type]
        accounts=tuple(replace(one, budget_core_hours=None, limits=more(one.limits)) for one in site.accounts),
        queues=tuple(replace(one, limits=more(one.limits)) for one in site.queues),
        tiers=tuple(replace(one, limits=more(one.limits)) for one in site.tiers),
        user_limits=tuple((name, more(limits)) for name, limits in site.user_limits),
        windows=tuple(one for one in site.windows if one.begins_ms < until_ms),
        closures=(),
    )


def as_it_was(past: Past, cores: int) -> Studied:
    """The past as it really went."""
    return _studied("as it was", past, {number: run.started_ms for number, run in past.runs.items()}, cores)


def study(site: Site, past: Past, policy: str, told: Told, kernels: ModuleType | None = None) -> Studied | None:
    """Run the past under a policy; None when it was stopped. ``kernels`` are the compiled search, if it is there."""
    again = PastAgain(free_of(site, policy, past.end_ms), past)
    again.engine.plans.planner.kernels = kernels
    return _studied(policy, past, again.starts, site.cores) if again.whole(told) else None


class PastAgain:
    """One run through the past. Jobs and tasks have the numbers that they had."""

    def __init__(self, site: Site, past: Past) -> None:
        self.engine, self.site, self.past = Engine(site), site, past
        self.starts: dict[int, int] = {}
        """When each job and task starts here, by number."""
        self._begun = set[int]()
        """The jobs and arrays of which something has started."""
        self._arrivals = deque(past.jobs)
        self._bounds = deque(past.bounds)
        self._held = set[int]()
        """The jobs, arrays and tasks that are held now, whether they have come already or not."""
        self._withdrawn = {one.number: one.withdrawn_ms for one in past.jobs if one.withdrawn_ms is not None}
        self._withdrawals: list[tuple[int, int]] = []
        """When what came is cancelled: (instant, number)."""
        self._ends: list[tuple[int, int, int]] = []
        """When attempts end: (instant, number, attempt)."""
        self._wakes = [instant for one in site.windows for instant in (one.begins_ms, one.ends_ms)]
        """Instants at which something may start though nothing else happens."""
        heapq.heapify(self._wakes)

    def whole(self, told: Told) -> bool:
        """Go through all of it; False when it was stopped."""
        at = self.past.begin_ms
        for one in self.past.before:
            self._submit(one, at)
        self._schedule(at)
        while (following := self._next(at)) is not None:  # what still waits then never starts
            at = following
            self._bind(at)
            self._finish(at)
            while self._arrivals and self._arrivals[0].submitted_ms <= at:
                self._submit(self._arrivals.popleft(), at)
            self._schedule(at)
            if self._withdrawals and self._withdrawals[0][0] <= at:  # what could start in that very instant has
                self._withdraw(at)
                self._schedule(at)
            if not told(len(self.starts), len(self.past.runs)):
                return False
        return True

    def _next(self, at: int) -> int | None:
        while self._wakes and self._wakes[0] <= at:
            heapq.heappop(self._wakes)
        known = [self._arrivals[0].submitted_ms] if self._arrivals else []
        known += [self._ends[0][0]] if self._ends else []
        known += [self._withdrawals[0][0]] if self._withdrawals else []
        if len(self.starts) < len(self.past.runs):
            known += [self._bounds[0].at_ms] if self._bounds else []
            known += [self._wakes[0]] if self._wakes else []
        if known and any(line.places for line in self.engine.state.jobs.lines.values()):
            known.append(use_updated_at(at) + USE_UPDATE_MS)
        return max(at, min(known)) if known else None

    def _bind(self, at: int) -> None:
        """Close, reserve, hold and order as it was done then."""
        while self._bounds and self._bounds[0].at_ms <= at:
            bound = self._bounds.popleft()
            if isinstance(bound, Held):
                self._held.add(bound.job)
                self._hold(bound.job, at)
            elif isinstance(bound, Released):
                self._held.discard(bound.job)
                self._hold(bound.job, at)
            elif isinstance(bound, Ordered):
                live = (self.engine.state.jobs.get(number) for number in bound.jobs)
                waiting = tuple(job.number for job in live if job is not None and job.phase is not Phase.RUNNING)
                self._tell(OrderJobs(at, bound.by, waiting))
            elif (known := _of_site(self.site, bound)) is not None:
                self.engine.apply([known])
                if isinstance(known, Reserved):
                    for instant in (known.window.begins_ms, known.window.ends_ms):
                        heapq.heappush(self._wakes, instant)

    def _hold(self, number: int, at: int) -> None:
        """Hold or release what is here and waits; the engine's own rules say what that means for an array."""
        jobs = self.engine.state.jobs
        job = jobs.get(number) or jobs.get(number // TASK_SPAN)
        if job is not None:
            self._tell((HoldJob if number in self._held else ReleaseJob)(at, number, By(job.user)))

    def _tell(self, command: Command) -> None:
        """Have the engine take a command; what no longer means anything here is left."""
        with suppress(QuarryError):
            self.engine.apply(self.engine.decide(command))

    def _finish(self, at: int) -> None:
        while self._ends and self._ends[0][0] <= at:
            _, number, attempt = heapq.heappop(self._ends)
            self.engine.apply(self.engine.decide(Finish(at, number, attempt, exit=0)))

    def _withdraw(self, at: int) -> None:
        """Cancel what still waits of jobs that were cancelled then."""
        while self._withdrawals and self._withdrawals[0][0] <= at:
            _, number = heapq.heappop(self._withdrawals)
            if (job := self.engine.state.jobs.get(number)) is None:
                continue
            if job.request.array is None:
                self._tell(CancelJob(at, number, By(job.user), "waiting"))
            for index in range(job.request.array.count if job.request.array else 0):
                if task_id(number, index) not in self.past.runs:  # the others start, though it be later here
                    self._tell(CancelTask(at, number, index, By(job.user)))

    def _submit(self, one: PastJob, at: int) -> None:
        request, freed = self._waits(one.request)
        try:
            events = self.engine.decide(Submit(at, By(one.user), request, Origin(""), freed))
        except Refused:
            return  # it could never have run so
        # It has its own number, and has waited since it was submitted.
        since, number = one.submitted_ms, one.number
        self.engine.apply([replace(event, at_ms=since, job=number) for event in events if isinstance(event, Submitted)])
        if one.withdrawn_ms is not None:
            heapq.heappush(self._withdrawals, (one.withdrawn_ms, number))
        elif request.array is not None:
            self._only_what_ran(one, request.array.count, at)
        for held in sorted(held for held in self._held if number in (held, held // TASK_SPAN)):
            self._hold(held, at)
        if request.not_before_ms is not None:
            heapq.heappush(self._wakes, request.not_before_ms)

    def _waits(self, request: Request) -> tuple[Request, tuple[int, ...]]:
        """A request with what it waits for that is still to come here, and the tasks that needn't wait any more.

        It ran, so it waited only for when others ended, and no longer for how.
        """
        state, kept, freed = self.engine.state, list[tuple[str, str]](), tuple[int, ...]()
        for word, condition in request.after:
            other = state.jobs.get(int(word))
            if other is None or (condition == "begins" and other.number in self._begun):
                continue
            kept.append((word, condition if condition in ("begins", EACH) else "finishes"))
            if condition == EACH and other.request.array is not None:
                freed = tuple(
                    index
                    for index in range(other.request.array.count)
                    if (index < other.next_index or index in other.handled_tasks)
                    and task_id(other.number, index) not in state.jobs
                )
        return replace(request, after=tuple(kept)), freed

    def _only_what_ran(self, one: PastJob, count: int, at: int) -> None:
        """The tasks that did not run in this time count as done."""
        for index in range(count):
            number = task_id(one.number, index)
            if number not in one.runs:
                self.engine.apply(
                    [TaskMade(at, number, one.number, index), Ended(at, number, attempt=0, phase=Phase.DONE)]
                )

    def _schedule(self, at: int) -> None:
        while events := self.engine.decide(Schedule(at)):
            self.engine.apply(events)
            for event in events:
                if isinstance(event, Started):
                    whole = event.job if event.job < TASK_SPAN else event.job // TASK_SPAN
                    self._begun.add(whole)
                    if (known := self.past.runs.get(event.job)) is not None:
                        self.starts.setdefault(event.job, at)
                    ran = known.ran_ms if known is not None else max(1, self._withdrawn[whole] - at)
                    asked = self.engine.state.jobs[event.job].request
                    most = (asked.walltime_s + asked.grace_s) * 1000
                    heapq.heappush(self._ends, (at + min(ran, most), event.job, event.attempt))
                elif isinstance(event, Stopping):  # it gives way, and begins anew
                    self._give_way(event.job, at)

    def _give_way(self, number: int, at: int) -> None:
        attempt = self.engine.state.jobs[number].attempt
        self._ends = [one for one in self._ends if one[1] != number]
        heapq.heapify(self._ends)
        self.engine.apply(self.engine.decide(Finish(at, number, attempt, cause="gave-way")))


def _of_site(site: Site, bound: Event) -> Event | None:
    """The part of a bound that is about nodes that the site has now; None for nothing."""
    if isinstance(bound, Reserved):
        nodes = tuple(name for name in bound.window.nodes if name in site.node)
        return replace(bound, window=replace(bound.window, nodes=nodes)) if nodes else None
    return None if isinstance(bound, NodeClosed | NodeOpened) and bound.node not in site.node else bound


def _studied(policy: str, past: Past, starts: Mapping[int, int], cores: int) -> Studied:
    ran = [(job, run, starts[number]) for job in past.jobs for number, run in job.runs.items() if number in starts]
    if not ran:
        return Studied(policy, 0, past.count, 0.0, 0.0, 0.0, 1.0, 0.0, ())
    begins = np.array([start for _, _, start in ran], dtype=float)
    waits = np.maximum(0.0, begins - np.array([job.submitted_ms for job, _, _ in ran])) / 1000
    took = np.array([run.ran_ms for _, run, _ in ran]) / 1000
    slow = np.maximum(1.0, (waits + took) / np.maximum(took, SHORTEST_S))
    accounts: dict[str, list[float]] = {}
    for (job, _, _), waited in zip(ran, waits, strict=True):
        accounts.setdefault(job.request.account, []).append(float(waited))
    held, span = _held(past, starts)
    whole = sum(held.values())
    apart = np.abs(begins - np.array([run.started_ms for _, run, _ in ran])) / 1000
    return Studied(
        policy,
        len(ran),
        past.count - len(ran),
        float(waits.mean()),
        float(np.median(waits)),
        float(np.percentile(waits, 95)),
        float(slow.mean()),
        whole / (cores * span),
        tuple(sorted((name, float(np.mean(values))) for name, values in accounts.items())),
        float(apart.mean()),
        float(np.median(apart)),
        tuple(sorted((name, core_ms / max(1, whole)) for name, core_ms in held.items())),
        _by_day(past, ran, waits),
    )


def _by_day(
    past: Past, ran: Sequence[tuple[PastJob, PastRun, int]], waits: np.ndarray
) -> tuple[tuple[int, float, int], ...]:
    days = dict[int, tuple[float, int]]()
    for (job, _, _), waited in zip(ran, waits, strict=True):
        day = (job.submitted_ms - past.begin_ms) // DAY_MS
        known, count = days.get(day, (0.0, 0))
        days[day] = known + float(waited), count + 1
    return tuple((day, *found) for day, found in sorted(days.items()))


def _held(past: Past, starts: Mapping[int, int]) -> tuple[dict[str, int], int]:
    """Core-ms that each account held while jobs came, and how long that was in ms."""
    came = [max(past.begin_ms, one.submitted_ms) for one in past.jobs if one.runs]
    first, last = min(came), max(came)
    held = dict[str, int]()
    for one in (*past.jobs, *past.before):
        wide, account = _cores(one.request), one.request.account
        for number, run in one.runs.items():
            if (start := starts.get(number)) is not None:
                within = max(0, min(last, start + run.ran_ms) - max(first, start))
                held[account] = held.get(account, 0) + wide * within
    return held, max(1, last - first)


def _cores(request: Request) -> int:
    nodes = request.nodes or 1
    return (nodes * request.ranks_per_node if request.ranks_per_node else request.ranks) * request.threads
