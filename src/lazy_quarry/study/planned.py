"""All waiting jobs hold places, on a pool of cores."""

import heapq
from bisect import bisect_left, bisect_right, insort
from collections.abc import Mapping, Sequence

from lazy_quarry.study.columns import Columns, Progress


class Profile:
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


class Planned:
    """All waiting jobs hold places, in order. The plan is made anew when something ends before its walltime.

    Only what may start now is of use, so it is worked out no further than to the last job that the
    cores still free now, and through its walltime, would do for: free cores only become fewer along the order.
    """

    def __init__(self, jobs: Columns, cores: int) -> None:
        self.jobs = jobs
        self.takes: Sequence[float] | Mapping[int, float] = jobs.run
        """Seconds that each job takes once it has started."""
        self.starts: dict[int, float] = {}
        self.waiting: list[int] = []
        self.sizes: list[int] = []
        """Sorted, for the waiting jobs."""
        self.ends: list[tuple[float, float, int]] = []
        self.limits: list[tuple[float, int]] = []
        self.free = cores
        self.profile: Profile | None = None
        self.placed = 0
        """Number of the first waiting jobs that have a place in the present plan."""
        self.due: list[tuple[float, int]] = []
        """(start, job) of these, the earliest first."""
        self.no_sooner: dict[tuple[int, float], float] = {}

    def run(self, told: Progress) -> list[float]:
        """Every job's start."""
        submit, count, arrived, ends = self.jobs.submit, len(self.jobs.submit), 0, self.ends
        while arrived < count or ends:
            now = submit[arrived] if arrived < count and (not ends or submit[arrived] < ends[0][0]) else ends[0][0]
            self._end(now)
            while arrived < count and submit[arrived] <= now:
                self.waiting.append(arrived)
                insort(self.sizes, self.jobs.cores[arrived])
                arrived += 1
                if not arrived % 1024:
                    told(arrived)
            self._go_on(now)
        return [self.starts[number] for number in range(count)]

    def _end(self, now: float) -> None:
        """What ends by an instant leaves its cores; before its limit, so that the plan is not that of before."""
        ends = self.ends
        while ends and ends[0][0] <= now:
            _, limit, wide = heapq.heappop(ends)
            self.free += wide
            del self.limits[bisect_left(self.limits, (limit, wide))]
            if limit > now:
                self.profile = None

    def _go_on(self, now: float) -> None:
        if self.waiting:
            self.start_at(now)
        else:
            self.profile = None

    def start_at(self, now: float) -> None:
        """Start what the plan places at this instant."""
        if self.profile is None:
            if self.sizes[0] > self.free:
                return  # nothing could start, so nobody need know the plan
            self.profile = Profile(now, self.free, self.limits)
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
        heapq.heappush(self.ends, (now + self.takes[number], limit, wide))
        insort(self.limits, (limit, wide))
        return number


def planned(jobs: Columns, cores: int, told: Progress) -> list[float]:
    """When each job starts."""
    return Planned(jobs, cores).run(told)
