"""A trace put through the policies of the plan, on a pool of cores.

Jobs may span nodes and ask for nothing but cores, so a cluster is one pool here, and a plan of it a single
row of free cores over time: what :class:`~lazy_quarry.core.plan.planner.Planner` works out for one node,
only quicker (a test holds the two together). No grace is counted. Times are seconds as in the trace.

At equal instants ends come before submissions before planning.
"""

import heapq
from bisect import bisect_left, bisect_right, insort
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from lazy_quarry.study.swf import Trace

Policy = Literal["first-come", "easy", "planned"]
POLICIES: tuple[Policy, ...] = get_args(Policy)
SHORTEST_S = 10.0
"""Runs shorter than this count as so long in the bounded slowdown (Feitelson and others, JSSPP 1997)."""
FEW = 24
"""So many waiting jobs are looked at one by one; more of them together, with NumPy."""


@dataclass(frozen=True, slots=True)
class Replayed:
    """When each job of a trace started, in its order, and what that amounts to."""

    policy: Policy
    trace: Trace
    cores: int
    starts: tuple[float, ...]

    @property
    def makespan_s(self) -> float:
        """From the first submission to the last end."""
        if not self.starts:
            return 0.0
        last = max(start + job.run_s for start, job in zip(self.starts, self.trace.jobs, strict=True))
        return last - self.trace.jobs[0].submit_s

    @property
    def waits_s(self) -> np.ndarray:
        """How long each job waited."""
        return np.array([start - job.submit_s for start, job in zip(self.starts, self.trace.jobs, strict=True)])

    @property
    def wait_mean_s(self) -> float:
        """The mean of the waits."""
        return float(self.waits_s.mean()) if self.starts else 0.0

    @property
    def wait_p95_s(self) -> float:
        """What 95 in 100 waits don't exceed, between neighbours where it falls between them."""
        return float(np.percentile(self.waits_s, 95)) if self.starts else 0.0

    @property
    def slowdown_mean(self) -> float:
        """Mean bounded slowdown: (wait + run) / max(run, 10 s), at least 1."""
        if not self.starts:
            return 0.0
        run = np.array([job.run_s for job in self.trace.jobs])
        return float(np.maximum(1.0, (self.waits_s + run) / np.maximum(run, SHORTEST_S)).mean())

    @property
    def use(self) -> float:
        """Share of the cluster's cores that ran jobs, over the makespan."""
        span = self.makespan_s
        return sum(job.cores * job.run_s for job in self.trace.jobs) / (self.cores * span) if span else 0.0


def replay(trace: Trace, cores: int, policy: Policy, told: Callable[[int], None] | None = None) -> Replayed:
    """Put a trace through a policy. ``told`` hears now and then how many jobs have been started."""
    run = {"first-come": _first_come, "easy": _easy, "planned": _planned}[policy]
    columns = _Columns(
        [job.submit_s for job in trace.jobs],
        [job.run_s for job in trace.jobs],
        [job.walltime_s for job in trace.jobs],
        [job.cores for job in trace.jobs],
    )
    return Replayed(policy, trace, cores, tuple(run(columns, cores, told or (lambda started: None))))


@dataclass(frozen=True, slots=True)
class _Columns:
    """The jobs of a trace, one list a measure."""

    submit: list[float]
    run: list[float]
    walltime: list[float]
    cores: list[int]


def _first_come(jobs: _Columns, cores: int, told: Callable[[int], None]) -> list[float]:
    """Strictly in order: a job starts when it fits and all before it have started."""
    starts, free, now = [0.0] * len(jobs.submit), cores, 0.0
    ends: list[tuple[float, int]] = []
    for number, (submit, run, need) in enumerate(zip(jobs.submit, jobs.run, jobs.cores, strict=True)):
        now = max(now, submit)
        while ends and ends[0][0] <= now:
            free += heapq.heappop(ends)[1]
        while free < need:
            now = ends[0][0]
            while ends and ends[0][0] <= now:
                free += heapq.heappop(ends)[1]
        free -= need
        starts[number] = now
        heapq.heappush(ends, (now + run, need))
        if not number % 4096:
            told(number)
    return starts


class _Queue:
    """Waiting jobs in order, as columns that can be searched together; those taken out leave a gap for a while."""

    def __init__(self, jobs: _Columns) -> None:
        self.jobs = jobs
        self.order: list[int] = []
        self.head = 0
        self.cores = np.zeros(64, dtype=np.int64)
        self.walltime = np.zeros(64)
        self.gaps = 0

    def __len__(self) -> int:
        return len(self.order) - self.head - self.gaps

    def add(self, number: int) -> None:
        """One more, behind all others."""
        place = len(self.order)
        if place == len(self.cores):
            self._make_room()
            place = len(self.order)
        self.order.append(number)
        self.cores[place] = self.jobs.cores[number]
        self.walltime[place] = self.jobs.walltime[number]

    def _make_room(self) -> None:
        kept = [place for place in range(self.head, len(self.order)) if self.order[place] >= 0]
        numbers = [self.order[place] for place in kept]
        width = max(64, 2 * len(kept))
        cores, walltime = np.zeros(width, dtype=np.int64), np.zeros(width)
        cores[: len(kept)], walltime[: len(kept)] = self.cores[kept], self.walltime[kept]
        self.order, self.cores, self.walltime, self.head, self.gaps = numbers, cores, walltime, 0, 0

    def take(self, place: int) -> None:
        """It has started."""
        order = self.order
        order[place] = -1
        self.cores[place] = 2**40
        self.gaps += 1
        while self.head < len(order) and order[self.head] < 0:
            self.head += 1
            self.gaps -= 1

    def fitting(self, free: int, left_s: float, spare: int) -> list[int]:
        """Places behind the first that fit now and either end in time or use no more than what is spare."""
        begin, end = self.head + 1, len(self.order)
        if end - begin <= FEW:
            order, cores, walltime = self.order, self.jobs.cores, self.jobs.walltime
            return [
                place
                for place in range(begin, end)
                if (number := order[place]) >= 0
                and cores[number] <= free
                and (cores[number] <= spare or walltime[number] <= left_s)
            ]
        cores_there = self.cores[begin:end]
        good = (cores_there <= spare) | ((cores_there <= free) & (self.walltime[begin:end] <= left_s))
        return (np.flatnonzero(good) + begin).tolist()


def _easy(jobs: _Columns, cores: int, told: Callable[[int], None]) -> list[float]:
    """The first waiting job holds a place; others may start now, in order, if they don't delay it."""
    submit, run, walltime, need = jobs.submit, jobs.run, jobs.walltime, jobs.cores
    count = len(submit)
    starts = [0.0] * count
    ends: list[tuple[float, float, int]] = []  # (end, end of walltime, cores)
    limits: list[tuple[float, int]] = []  # (end of walltime, cores), sorted
    queue = _Queue(jobs)
    free, arrived = cores, 0
    push, pop = heapq.heappush, heapq.heappop
    while arrived < count or ends:
        now = submit[arrived] if arrived < count and (not ends or submit[arrived] < ends[0][0]) else ends[0][0]
        while ends and ends[0][0] <= now:
            _, limit, wide = pop(ends)
            free += wide
            del limits[bisect_left(limits, (limit, wide))]
        while arrived < count and submit[arrived] <= now:
            if need[arrived] <= free and not len(queue) and (arrived + 1 == count or submit[arrived + 1] > now):
                wide = need[arrived]  # nobody waits and it fits: most arrivals on a quiet cluster
                free -= wide
                starts[arrived] = now
                push(ends, (now + run[arrived], now + walltime[arrived], wide))
                insort(limits, (now + walltime[arrived], wide))
            else:
                queue.add(arrived)
            arrived += 1
            if not arrived % 4096:
                told(arrived)
        while len(queue) and need[queue.order[queue.head]] <= free:
            number = queue.order[queue.head]
            queue.take(queue.head)
            free -= need[number]
            starts[number] = now
            push(ends, (now + run[number], now + walltime[number], need[number]))
            insort(limits, (now + walltime[number], need[number]))
        if not free or len(queue) < 2:
            continue
        first, room, place_s = need[queue.order[queue.head]], free, now
        for limit, wide in limits:
            if room >= first and limit > place_s:
                break
            room += wide
            place_s = limit
        spare = room - first
        for place in queue.fitting(free, place_s - now, min(spare, free)):
            number = queue.order[place]
            wide = need[number]
            if wide > free:
                continue
            limit = now + walltime[number]
            if limit > place_s:
                if wide > spare:
                    continue
                spare -= wide
            free -= wide
            starts[number] = now
            push(ends, (now + run[number], limit, wide))
            insort(limits, (limit, wide))
            queue.take(place)
            if not free:
                break
    return starts


class _Profile:
    """Free cores over time: ``free[k]`` from ``times[k]`` to the next, the last for ever."""

    def __init__(self, now: float, free: int, limits: list[tuple[float, int]]) -> None:
        times, levels = [now], [free]
        for limit, wide in limits:
            free += wide
            if limit == times[-1]:
                levels[-1] = free
            else:
                times.append(limit)
                levels.append(free)
        self.times, self.free = times, levels

    def move_to(self, now: float) -> None:
        """Forget what lies behind."""
        at = bisect_right(self.times, now) - 1
        if at > 0:
            del self.times[:at], self.free[:at]
        self.times[0] = now

    def place(self, need: int, walltime: float, not_before: float) -> float:
        """Take the earliest time from ``not_before`` on in which so many cores are free so long; returns its start."""
        times, free = self.times, self.free
        size = len(times)
        at = bisect_right(times, not_before) - 1
        while True:
            while free[at] < need:
                at += 1
            start = times[at]
            if start < not_before:
                start = not_before
            end = start + walltime
            through = at + 1
            while through < size and times[through] < end:
                if free[through] < need:
                    break
                through += 1
            else:
                break
            at = through
        if start > times[at]:
            times.insert(at + 1, start)
            free.insert(at + 1, free[at])
            at += 1
            through += 1
            size += 1
        if through == size or times[through] > end:
            times.insert(through, end)
            free.insert(through, free[through - 1])
        for segment in range(at, through):
            free[segment] -= need
        return start

    def least(self) -> list[int]:
        """The fewest free cores from now up to the end of each segment."""
        found, fewest = [], self.free[0]
        for level in self.free:
            if level < fewest:
                fewest = level
            found.append(fewest)
        return found


class _Planned:
    """All waiting jobs hold places, in order. The plan is made anew when something ends before its walltime.

    Only what may start now is of use, so it is worked out no further than to the last job that the
    cores still free now, and through its walltime, would do for: free cores only become fewer along the order.
    """

    def __init__(self, jobs: _Columns, cores: int) -> None:
        self.jobs, self.starts = jobs, [0.0] * len(jobs.submit)
        self.waiting: list[int] = []
        self.sizes: list[int] = []
        """Of those waiting, sorted."""
        self.ends: list[tuple[float, float, int]] = []
        self.limits: list[tuple[float, int]] = []
        self.free = cores
        self.profile: _Profile | None = None
        self.placed = 0
        """So many of the first waiting jobs have a place in the present plan."""
        self.due: list[tuple[float, int]] = []
        """(start, job) of these, the earliest first."""
        self.no_sooner: dict[tuple[int, float], float] = {}

    def run(self, told: Callable[[int], None]) -> list[float]:
        """Every job's start."""
        submit, count, arrived = self.jobs.submit, len(self.jobs.submit), 0
        while arrived < count or self.ends:
            ends = self.ends
            now = submit[arrived] if arrived < count and (not ends or submit[arrived] < ends[0][0]) else ends[0][0]
            while ends and ends[0][0] <= now:
                _, limit, wide = heapq.heappop(ends)
                self.free += wide
                del self.limits[bisect_left(self.limits, (limit, wide))]
                if limit > now:
                    self.profile = None
            while arrived < count and submit[arrived] <= now:
                self.waiting.append(arrived)
                insort(self.sizes, self.jobs.cores[arrived])
                arrived += 1
                if not arrived % 1024:
                    told(arrived)
            if self.waiting:
                self.start_at(now)
            elif self.profile is not None:
                self.profile = None
        return self.starts

    def start_at(self, now: float) -> None:
        """Start what the plan places at this instant."""
        if self.profile is None:
            if self.sizes[0] > self.free:
                return  # nothing could start, so nobody need know the plan
            self.profile = _Profile(now, self.free, self.limits)
            self.placed, self.due = 0, []
            self.no_sooner.clear()
        else:
            self.profile.move_to(now)
        started = set[int]()
        while self.due and self.due[0][0] <= now:
            started.add(self._start(heapq.heappop(self.due)[1], now))
        jobs, profile, waiting = self.jobs, self.profile, self.waiting
        last, checked = self._last_able(now), self.placed
        while self.placed <= last:
            number = waiting[self.placed]
            key = (jobs.cores[number], jobs.walltime[number])
            start = profile.place(*key, max(now, self.no_sooner.get(key, now)))
            self.no_sooner[key] = start
            self.placed += 1
            if start <= now:
                started.add(self._start(number, now))
                last = self._last_able(now)
            else:
                heapq.heappush(self.due, (start, number))
                if self.placed - checked >= 8:
                    last, checked = min(last, self._last_able(now)), self.placed
        if started:
            self.waiting = [number for number in waiting if number not in started]
            self.placed -= len(started)

    def _last_able(self, now: float) -> int:
        """Place of the last waiting job that could still start now; -1 for none."""
        profile, jobs = self.profile, self.jobs
        assert profile is not None
        room = profile.free[0]
        if not self.sizes or self.sizes[0] > room:
            return -1
        least = profile.least()
        for place in range(len(self.waiting) - 1, self.placed - 1, -1):
            number = self.waiting[place]
            if jobs.cores[number] <= room:
                through = bisect_left(profile.times, now + jobs.walltime[number]) - 1
                if jobs.cores[number] <= least[through]:
                    return place
        return -1

    def _start(self, number: int, now: float) -> int:
        wide, limit = self.jobs.cores[number], now + self.jobs.walltime[number]
        self.starts[number] = now
        self.free -= wide
        del self.sizes[bisect_left(self.sizes, wide)]
        heapq.heappush(self.ends, (now + self.jobs.run[number], limit, wide))
        insort(self.limits, (limit, wide))
        return number


def _planned(jobs: _Columns, cores: int, told: Callable[[int], None]) -> list[float]:
    return _Planned(jobs, cores).run(told)
