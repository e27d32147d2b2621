"""The first waiting job holds a place; others may start now, in order, if they don't delay it."""

import heapq
from bisect import bisect_left, insort

import numpy as np

from lazy_quarry.study.columns import Columns, Progress

FEW = 24
"""Number of waiting jobs that are looked at one by one; more are looked at together, with NumPy."""


class _Queue:
    """Waiting jobs in order, as columns that can be searched together; those taken out leave a gap for a while."""

    def __init__(self, jobs: Columns) -> None:
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


def easy(jobs: Columns, cores: int, told: Progress) -> list[float]:
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
