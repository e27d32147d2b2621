"""First come, first served, on a pool of cores."""

import heapq

from lazy_quarry.study.columns import Columns, Progress


def first_come(jobs: Columns, cores: int, told: Progress) -> list[float]:
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
