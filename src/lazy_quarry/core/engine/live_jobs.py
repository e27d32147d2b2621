"""The live jobs of a site, with what is asked of them all the time: who runs, who waits in which line, what must be looked at."""

from bisect import bisect_left, insort
from typing import Any

from lazy_quarry.core.engine.tracked import Tracked
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.plan.planner import request_key


class WaitingLine:
    """Waiting jobs of one user and account whose requests the planner treats alike: among them only who came first decides."""

    __slots__ = ("by_task", "key", "places", "request", "unstarted", "user")

    def __init__(self, key: tuple, job: Job) -> None:
        self.key, self.user, self.request = key, job.user, job.request
        self.by_task: bool = key[-1]
        """Arrays whose tasks are placed one by one, each where it alone may run."""
        self.places: list[tuple[int, int]] = []
        """Jobs that may start, in their order: when each was submitted, and its number."""
        self.unstarted = 0
        """Jobs that count as waiting in limits: all that don't run, but not tasks of arrays."""

    def copy(self) -> "WaitingLine":
        """One that changes apart from this one."""
        other = object.__new__(WaitingLine)
        other.key, other.user, other.request, other.by_task = self.key, self.user, self.request, self.by_task
        other.places, other.unstarted = list(self.places), self.unstarted
        return other


class LiveJobs(Tracked[int, Job]):
    """Jobs by number. What follows from them is kept up to date at each change, and never looked for among all of them."""

    def __init__(self, *entries: Any) -> None:
        super().__init__(*entries)
        self.running: dict[int, Job] = {}
        self.lines: dict[tuple, WaitingLine] = {}
        self.arrays: set[int] = set()
        self.doomed: set[int] = set()
        """Jobs that can never start, and arrays with such tasks."""
        self.dated: set[int] = set()
        """Jobs that may not start before some instant."""
        self.touched: set[int] = set()
        """Jobs that were changed or removed since somebody last took this."""
        self._line_of: dict[int, WaitingLine] = {}
        for job in self.values():
            self._add(job)

    def __setitem__(self, number: int, job: Job) -> None:
        before = self.get(number)
        super().__setitem__(number, job)
        self.touched.add(number)
        if before is not None:
            if job.phase is Phase.RUNNING and before.phase is Phase.RUNNING:  # only told to stop
                self.running[number] = job
                return
            self._remove(before)
        self._add(job, before)

    def __delitem__(self, number: int) -> None:
        self._remove(self[number])
        super().__delitem__(number)
        self.touched.add(number)
        self._line_of.pop(number, None)

    def copy(self) -> "LiveJobs":
        """A table that changes apart from this one; the jobs in it never change."""
        other = LiveJobs()
        dict.update(other, self)
        other.running, other.arrays, other.doomed = dict(self.running), set(self.arrays), set(self.doomed)
        other.dated = set(self.dated)
        lines = {id(line): line.copy() for line in (*self.lines.values(), *self._line_of.values())}
        other.lines = {key: lines[id(line)] for key, line in self.lines.items()}
        other._line_of = {number: lines[id(line)] for number, line in self._line_of.items()}
        return other

    def take_touched(self) -> set[int]:
        """The jobs that were changed or removed since this was asked last."""
        touched, self.touched = self.touched, set()
        return touched

    def _add(self, job: Job, before: Job | None = None) -> None:
        number, request = job.number, job.request
        if request.array is not None:
            self.arrays.add(number)
        if job.skip_reason or job.doomed_tasks:
            self.doomed.add(number)
        if job.phase is Phase.RUNNING:
            self.running[number] = job
            return
        if request.not_before_ms is not None:
            self.dated.add(number)
        line = self._line_of.get(number) if before is not None and before.request is request else None
        if line is None or self.lines.get(line.key) is not line:
            line = self._line_of[number] = self._line(job)
        if job.parent is None:
            line.unstarted += 1
        if may_start(job):
            place = (job.submitted_ms, number)
            if not line.places or line.places[-1] < place:
                line.places.append(place)
            else:
                insort(line.places, place)

    def _line(self, job: Job) -> WaitingLine:
        array = job.request.array
        alone = array is not None and (array.nodes or job.waits_by_task)
        key = (job.user, job.request.account, request_key(job.request), array is not None, bool(alone))
        line = self.lines.get(key)
        if line is None:
            line = self.lines[key] = WaitingLine(key, job)
        return line

    def _remove(self, job: Job) -> None:
        number = job.number
        self.arrays.discard(number)
        self.doomed.discard(number)
        self.dated.discard(number)
        if self.running.pop(number, None) is not None:
            return
        line = self._line_of[number]
        if job.parent is None:
            line.unstarted -= 1
        if may_start(job):
            del line.places[bisect_left(line.places, (job.submitted_ms, number))]
        if not line.places and not line.unstarted and self.lines.get(line.key) is line:
            del self.lines[line.key]


def may_start(job: Job) -> bool:
    """True when a job, or some task of an array, lacks nothing but room to start."""
    return job.phase is Phase.WAITING and (job.request.array is None or job.startable > 0)
