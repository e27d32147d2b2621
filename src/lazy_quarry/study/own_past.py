"""A site's own past on its own nodes under other policies and limits: the same engine, given the same jobs at the same instants.

Each job comes when it was submitted, or when all that it waited for have ended in the study; it asks for what it asked for
and runs for as long as it ran. Tasks of arrays are jobs of their own. Budgets bound nothing, since what was paid was paid;
windows and closed nodes of the present are left out, since they were others. Jobs that ran when the time began run first.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started, Stopping
from lazy_quarry.core.job.job import Job, Origin
from lazy_quarry.core.job.request import Request, Retries
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.site import Site
from lazy_quarry.errors import Refused
from lazy_quarry.study.studied import Studied

SHORTEST_S = 10.0
"""Runs shorter than this count as so long in the bounded slowdown (Feitelson and others, JSSPP 1997)."""
Told = Callable[[int, int], bool]
"""Is told how many jobs have started of how many; says whether to go on."""


@dataclass(frozen=True, slots=True)
class PastJob:
    """A job of the past: when it came, what it asked for, how long it ran; ``after`` are numbers of jobs that it waited for."""

    number: int
    user: str
    request: Request
    submitted_ms: int
    started_ms: int
    ran_ms: int
    after: tuple[int, ...] = ()


def past_jobs(jobs: Sequence[Job], begin_ms: int) -> list[PastJob]:
    """Those of these ended jobs and tasks that ran, by their submission; what ran at the beginning has the rest of its run left."""
    found = []
    for job in jobs:
        if job.request.array is not None or job.started_ms is None or job.ended_ms is None or job.ended_ms <= begin_ms:
            continue
        cores = job.cores_allocated
        ran = max(job.ended_ms - job.started_ms, job.allocated_core_ms // cores if cores else 0)
        ran = min(ran, job.ended_ms - begin_ms) if job.started_ms < begin_ms else ran
        request = replace(
            job.request, after=(), not_before_ms=None, array=None, retries=Retries(), again_at_overtime=False
        )
        after = tuple(int(number) for number, _ in job.request.after if number.isdecimal())
        came, began = max(begin_ms, job.submitted_ms), max(begin_ms, job.started_ms)
        found.append(PastJob(job.number, job.user, request, came, began, max(1, ran), after))
    return sorted(found, key=lambda one: (one.submitted_ms, one.started_ms, one.number))


def free_of(site: Site, policy: str) -> Site:
    """The site under a policy, without what was bound to other times: budgets, windows, closed nodes."""
    accounts = tuple(replace(one, budget_core_hours=None) for one in site.accounts)
    return replace(site, policy=policy, accounts=accounts, windows=(), closures=())  # type: ignore[arg-type]


def as_it_was(jobs: Sequence[PastJob], cores: int) -> Studied:
    """How it really went."""
    return _studied("as it was", jobs, {one.number: one.started_ms for one in jobs}, 0, cores)


def study(site: Site, jobs: Sequence[PastJob], policy: str, told: Told) -> Studied | None:
    """How it would have gone under a policy; None when it was stopped."""
    run = _Run(free_of(site, policy), jobs)
    return _studied(policy, jobs, run.starts, run.refused, site.cores) if run.whole(told) else None


class _Run:
    """One run through the past."""

    def __init__(self, site: Site, jobs: Sequence[PastJob]) -> None:
        self.engine, self.jobs = Engine(site), jobs
        self.starts: dict[int, int] = {}
        self.refused = 0
        self._known = {one.number: one for one in jobs}
        self._arrivals = [(one.submitted_ms, place) for place, one in enumerate(jobs) if not self._waits(one)]
        heapq.heapify(self._arrivals)
        self._followers: dict[int, list[int]] = {}
        self._left: dict[int, set[int]] = {}
        for place, one in enumerate(jobs):
            if waits := self._waits(one):
                self._left[place] = waits
                for number in waits:
                    self._followers.setdefault(number, []).append(place)
        self._ends: list[tuple[int, int, int]] = []
        """When attempts end: (instant, number here, attempt)."""
        self._own: dict[int, int] = {}
        """The past job's number by the number here."""

    def _waits(self, one: PastJob) -> set[int]:
        return {number for number in one.after if number in self._known and number != one.number}

    def whole(self, told: Told) -> bool:
        """Go through all of it; False when it was stopped."""
        at = self.jobs[0].submitted_ms if self.jobs else 0
        while self._arrivals or self._ends or self._waiting():
            following = self._next(at)
            if following is None:
                break  # what still waits never starts
            at = following
            self._finish(at)
            self._submit(at)
            self._schedule(at)
            if not told(len(self.starts), len(self.jobs)):
                return False
        self.refused += sum(1 for one in self.jobs if one.number not in self.starts) - self.refused
        return True

    def _waiting(self) -> bool:
        return any(line.places for line in self.engine.state.jobs.lines.values())

    def _next(self, at: int) -> int | None:
        if not self._arrivals and not self._ends:
            return None
        known = [self._arrivals[0][0]] if self._arrivals else []
        known += [self._ends[0][0]] if self._ends else []
        if self._waiting():
            known.append(use_updated_at(at) + USE_UPDATE_MS)
        return max(at, min(known))

    def _finish(self, at: int) -> None:
        while self._ends and self._ends[0][0] <= at:
            _, number, attempt = heapq.heappop(self._ends)
            self.engine.apply(self.engine.decide(Finish(at, number, attempt, exit=0)))
            self._free(self._own[number], at)

    def _free(self, number: int, at: int) -> None:
        for place in self._followers.pop(number, ()):
            self._left[place].discard(number)
            if not self._left[place]:
                heapq.heappush(self._arrivals, (max(at, self.jobs[place].submitted_ms), place))

    def _submit(self, at: int) -> None:
        while self._arrivals and self._arrivals[0][0] <= at:
            _, place = heapq.heappop(self._arrivals)
            one = self.jobs[place]
            number = self.engine.state.next_number
            try:
                self.engine.apply(self.engine.decide(Submit(at, one.user, one.request, Origin(""))))
            except Refused:
                self.refused += 1
                self._free(one.number, at)
                continue
            self._own[number] = one.number

    def _schedule(self, at: int) -> None:
        while events := self.engine.decide(Schedule(at)):
            self.engine.apply(events)
            for event in events:
                if isinstance(event, Started):
                    own = self._known[self._own[event.job]]
                    self.starts.setdefault(own.number, at)
                    heapq.heappush(
                        self._ends, (at + min(own.ran_ms, own.request.walltime_s * 1000), event.job, event.attempt)
                    )
                elif isinstance(event, Stopping):  # it gives way, and begins anew
                    self._give_way(event.job, at)
            if not any(isinstance(event, Started | Stopping) for event in events):
                break

    def _give_way(self, number: int, at: int) -> None:
        attempt = self.engine.state.jobs[number].attempt
        self._ends = [one for one in self._ends if one[1] != number]
        heapq.heapify(self._ends)
        self.engine.apply(self.engine.decide(Finish(at, number, attempt, cause="gave-way")))


def _studied(policy: str, jobs: Sequence[PastJob], starts: dict[int, int], refused: int, cores: int) -> Studied:
    ran = [one for one in jobs if one.number in starts]
    if not ran:
        return Studied(policy, 0, refused, 0.0, 0.0, 0.0, 1.0, 0.0, ())
    begins = np.array([starts[one.number] for one in ran], dtype=float)
    waits = np.maximum(0.0, begins - np.array([one.submitted_ms for one in ran])) / 1000
    took = np.array([one.ran_ms for one in ran]) / 1000
    slow = np.maximum(1.0, (waits + took) / np.maximum(took, SHORTEST_S))
    accounts: dict[str, list[float]] = {}
    for one, waited in zip(ran, waits, strict=True):
        accounts.setdefault(one.request.account, []).append(float(waited))
    first, last = jobs[0].submitted_ms, max(one.submitted_ms for one in jobs)
    apart = np.abs(begins - np.array([one.started_ms for one in ran])) / 1000
    return Studied(
        policy,
        len(ran),
        refused,
        float(waits.mean()),
        float(np.median(waits)),
        float(np.percentile(waits, 95)),
        float(slow.mean()),
        _use(ran, starts, first, last, cores),
        tuple(sorted((name, float(np.mean(values))) for name, values in accounts.items())),
        float(apart.mean()),
        float(np.median(apart)),
    )


def _use(jobs: Sequence[PastJob], starts: dict[int, int], first: int, last: int, cores: int) -> float:
    """The part of the cores that was in use while jobs came."""
    span = max(1, last - first)
    held = sum(
        _cores(one.request) * max(0, min(last, starts[one.number] + one.ran_ms) - max(first, starts[one.number]))
        for one in jobs
    )
    return held / (cores * span)


def _cores(request: Request) -> int:
    nodes = request.nodes or 1
    return (nodes * request.ranks_per_node if request.ranks_per_node else request.ranks) * request.threads
