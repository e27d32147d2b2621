"""Tasks that ran again, seen with their array: which run stands for a task now."""

from collections.abc import Iterable

from lazy_quarry.core.engine.task_numbers import unstarted
from lazy_quarry.core.job.job import Job, task_id
from lazy_quarry.site.session import Session
from lazy_quarry.store.storage import EndedFilter
from lazy_quarry.views.job_view import OtherRun

MOST_LATER = 2_000
"""Jobs, and tasks of arrays, among which is looked for the one that wrote over an output."""
MOST_RUNS, MOST_TASKS = 200, 100_000
"""Arrays that run tasks of one array again, and tasks of one of these, that are looked at."""


class RunsAgain:
    """The newest run of each task. A run that does it again stands for the first; the first stays as it was."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def first(self, job: Job) -> Job:
        """The array whose tasks an array runs again; itself where it runs none again."""
        of = job.origin.again_of
        return job if job.request.array is None or not of else self.session.find(of)

    def runs_of(self, number: int) -> list[Job]:
        """The arrays that run tasks of this one again; the oldest first."""
        jobs, journal = self.session.engine.state.jobs, self.session.journal
        live = [jobs[one] for one in jobs.arrays if jobs[one].origin.again_of == number]
        ended = journal.ended(EndedFilter(again_of=number, limit=MOST_RUNS))
        return sorted([*(job for job in ended if job.request.array is not None), *live], key=lambda job: job.number)

    def newest(self, array: Job) -> dict[int, Job]:
        """By task number of an array: the newest run of each task that ran, runs or waits to run again."""
        found = dict[int, Job]()
        for run in self.runs_of(array.number):
            found |= {job.request.task: job for job in self._tasks(run) if job.request.task is not None}
        return found

    def newest_of(self, task: Job) -> Job | None:
        """The newest run that stands for a task; None where it did not run again since."""
        array = self.first(self.session.find(task.parent or 0))
        run = self.newest(array).get(task.request.task or 0)
        return run if run is not None and run.number > task.number else None

    def writer_of(self, job: Job, path: str) -> Job | None:
        """The newest other job of its user that prints into a file and started after a job began; None where none is known."""
        found = list[Job]()
        since = job.times.first_start_ms or 0
        for other in (*self._later(job), *self.session.engine.state.running()):
            alone = other.request.array is None and other.user == job.user and other.number != job.number
            if (
                alone
                and (other.times.first_start_ms or 0) >= since
                and path in (other.paths.output, other.paths.errors)
            ):
                found.append(other)
        return max(found, key=lambda one: one.times.first_start_ms or 0, default=None)

    def _later(self, job: Job) -> Iterable[Job]:
        """Jobs and tasks of a user that ended after a job, not more than are soon read."""
        journal, jobs = self.session.journal, self.session.engine.state.jobs
        arrays = [number for number in jobs.arrays if jobs[number].user == job.user]
        arrays += [job.parent] if job.parent is not None else []
        for other in journal.ended(EndedFilter(user=job.user, since_ms=job.ended_ms, limit=MOST_LATER)):
            if other.request.array is None:
                yield other
            else:
                arrays.append(other.number)
        left = MOST_LATER
        for number in dict.fromkeys(arrays):
            tasks = journal.ended(EndedFilter(array=number, limit=left))
            yield from tasks
            left -= len(tasks)
            if left <= 0:
                return

    def _tasks(self, run: Job) -> Iterable[Job]:
        """All tasks of an array that runs others again, whether they have started or not."""
        assert run.request.array is not None
        state = self.session.engine.state
        known = {job.number: job for job in self.session.journal.ended(EndedFilter(array=run.number, limit=MOST_TASKS))}
        known |= {job.number: job for job in self.session.tasks_of(run.number)}
        for index in range(min(run.request.array.count, MOST_TASKS)):
            number = task_id(run.number, index)
            task = known.get(number) or unstarted(state, number)
            if task is not None:
                yield task


def run_before(session: Session, task: Job) -> OtherRun | None:
    """The task of the first array that a task runs again; None where it runs none again."""
    if not task.origin.again_of or task.parent is None:
        return None
    array = session.find(task.origin.again_of)
    place = array.request.array.index(task.request.task or 0) if array.request.array is not None else None
    return None if place is None else OtherRun(task_id(array.number, place), f"{array.number}/{task.request.task}")
