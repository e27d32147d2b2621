"""The conditions of a request, compared with the jobs that exist."""

from lazy_quarry.core.job.job import EACH, TASK_SPAN, Job, Phase, outlook
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.values import replace
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import MOST_TASKS, EndedFilter

MOST_COMPARED = 100_000
"""Task numbers of two arrays are compared one by one up to here."""


class Dependencies:
    """Resolves the names in ``after``, and finds what is decided already."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def resolved(self, user: str, request: Request) -> tuple[Request, str]:
        """The request with job numbers in place of names, which are of this user's jobs, and without met conditions; and why it
        could never start."""
        unmet: list[tuple[str, str]] = []
        for word, condition in request.after:
            number = int(word) if word.isdecimal() else self._newest(user, word)
            live = self.session.engine.state.jobs.get(number or 0)
            job = live or (self.session.journal.ended_job(number) if number else None)
            if job is None or number is None or number >= TASK_SPAN:
                return request, f"after: there is no job {word}" + ("" if word.isdecimal() else " of yours")
            if condition == EACH:
                if problem := _other_tasks(request, job):
                    return request, f"after: {problem}"
                unmet.append((str(number), condition))
                continue
            begun = job.started_ms is not None or bool(self.session.engine.state.tasks.get(number))
            met = outlook(condition, None if live is not None else job.phase)
            if live is not None and not (begun and condition == "begins"):
                unmet.append((str(number), condition))
            elif not met:
                return request, f"after: {number} {job.request.name} ended {job.phase}, so this could never start"
        return replace(request, after=tuple(unmet)), ""

    def tasks_decided(self, request: Request) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """For an array that waits task by task for another: its tasks that may start already, and that never can.

        Both are empty for any other request; places in the array count from 0.
        """
        array = request.array
        other = next((int(number) for number, condition in request.after if condition == EACH), None)
        if array is None or other is None:
            return (), ()
        freed, doomed = set[int](), set[int]()
        for task in self.session.journal.ended(EndedFilter(array=other, limit=MOST_TASKS)):
            index = array.index(task.request.task or 0)
            if index is not None:
                (freed if task.phase is Phase.DONE else doomed).add(index)
        if other not in self.session.engine.state.jobs:  # it has ended, so no more of its tasks will
            doomed |= set(range(array.count)) - freed
        return tuple(sorted(freed)), tuple(sorted(doomed))

    def _newest(self, user: str, name: str) -> int | None:
        """The number of the person's newest job of a name."""
        jobs = [job for job in self.session.engine.state.jobs.values() if job.user == user and job.request.name == name]
        jobs += self.session.journal.ended(EndedFilter(user=user, name=name, limit=200))
        return max((job.number for job in jobs if job.parent is None), default=None)


def _other_tasks(request: Request, other: Job) -> str:
    """Why two jobs cannot go task by task, or empty."""
    mine, theirs = request.array, other.request.array
    if mine is None:
        return "each-succeeds goes task by task, and this is not an array"
    if theirs is None:
        return f"each-succeeds goes task by task, and {other.number} {other.request.name} is no array"
    compared = range(min(mine.count, MOST_COMPARED))
    if mine.count != theirs.count or any(mine.number(place) != theirs.number(place) for place in compared):
        return f"each-succeeds goes task by task, and {other.number} {other.request.name} has other tasks"
    return ""
