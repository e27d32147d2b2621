"""A site's own past: its jobs, how long each ran, and what bound them meanwhile."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from math import ceil

from msgspec import Struct, field

from lazy_quarry.core.engine.events import (
    Event,
    Held,
    NodeClosed,
    NodeOpened,
    Ordered,
    Released,
    Reserved,
    TasksDropped,
    Unreserved,
)
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.request import Request, Retries
from lazy_quarry.core.values import replace

BOUNDS = (NodeClosed, NodeOpened, Reserved, Unreserved, Held, Released, Ordered)
"""The events of what bound jobs in their time: closed nodes, reservations, holds, a person's own order."""
NEEDED = (*BOUNDS, TasksDropped)
"""The events that a past is made of: what bound jobs, and when tasks of arrays were given up that had not started."""


class PastRun(Struct, frozen=True):
    """When a job or a task really started, and how long it ran."""

    started_ms: int
    ran_ms: int


class PastJob(Struct, frozen=True):
    """A job or an array of the past: when it came, what it asked for; ``runs`` by the number of the job or its tasks.

    What of it did not run waited until ``withdrawn_ms``, when somebody cancelled it; where that is None it is left out.
    """

    number: int
    user: str
    request: Request
    submitted_ms: int
    runs: Mapping[int, PastRun]
    withdrawn_ms: int | None = None


class Past(Struct, frozen=True):
    """A time from ``begin_ms`` on: its jobs in the order of their submission, and what bound them, in order.

    ``before`` ran when it began: they only take room, each for the rest of its run.
    """

    begin_ms: int = 0
    jobs: tuple[PastJob, ...] = ()
    before: tuple[PastJob, ...] = ()
    bounds: tuple[Event, ...] = ()
    runs: Mapping[int, PastRun] = field(default_factory=dict)
    """Runs of all of them, by number."""

    @property
    def count(self) -> int:
        """Number of jobs and tasks that came and ran in it."""
        return sum(len(one.runs) for one in self.jobs)

    @property
    def end_ms(self) -> int:
        """When the last of it had ended."""
        return max((one.started_ms + one.ran_ms for one in self.runs.values()), default=self.begin_ms)


def past_of(ended: Iterable[Job], begin_ms: int, happened: Iterable[Event] = (), arrays: Iterable[Job] = ()) -> Past:
    """The past of these ended jobs and tasks since ``begin_ms``.

    ``happened`` are the journal's events from its beginning on, in order; ``arrays`` those that have not ended.
    """
    ended, happened = list(ended), list(happened)
    wholes = {job.number: job for job in (*arrays, *ended) if job.request.array is not None}
    single, tasks, before = list[PastJob](), dict[int, dict[int, PastRun]](), list[Job]()
    withdrawn = {one.job: one.at_ms for one in reversed(happened) if isinstance(one, TasksDropped)}
    for job in ended:
        if job.phase is Phase.CANCELLED and job.started_ms is None and job.parent is None:
            withdrawn.setdefault(job.number, job.ended_ms or begin_ms)
        if job.request.array is not None or job.started_ms is None or (job.ended_ms or 0) <= begin_ms:
            continue
        if job.started_ms < begin_ms or (job.parent is not None and job.parent not in wholes):
            before.append(job)
        elif job.parent is not None:
            tasks.setdefault(job.parent, {})[job.number] = _run(job)
        else:
            single.append(_past_job(job, {job.number: _run(job)}))
    single += [
        _past_job(job, {})
        for job in ended
        if withdrawn.get(job.number, 0) > begin_ms and job.number not in tasks and job.started_ms is None
    ]
    jobs = [*single, *(_past_job(wholes[number], runs) for number, runs in tasks.items())]
    jobs = [replace(one, withdrawn_ms=withdrawn.get(one.number)) for one in jobs]
    jobs.sort(key=lambda one: (one.submitted_ms, one.number))
    free = 1 + max((job.parent or job.number for job in (*ended, *wholes.values())), default=0)
    early = [_before(job, free + place, begin_ms) for place, job in enumerate(before)]
    renamed = {str(job.number): str(one.number) for job, one in zip(before, early, strict=True)}
    jobs = [_after(one, renamed) for one in jobs]
    return Past(
        begin_ms,
        tuple(jobs),
        tuple(early),
        tuple(one for one in happened if isinstance(one, BOUNDS)),
        {number: run for one in (*jobs, *early) for number, run in one.runs.items()},
    )


def _run(job: Job) -> PastRun:
    """Its last run, or all that it held where it ran more than once."""
    assert job.started_ms is not None and job.ended_ms is not None
    cores = job.cores_allocated
    ran = max(1, job.times.held_ms or job.ended_ms - job.started_ms, job.allocated_core_ms // cores if cores else 0)
    return PastRun(job.started_ms, ran)


def _past_job(job: Job, runs: Mapping[int, PastRun]) -> PastJob:
    request = replace(job.request, retries=Retries(), again_at_overtime=False)
    return PastJob(job.number, job.user, request, job.submitted_ms, runs)


def _before(job: Job, number: int, begin_ms: int) -> PastJob:
    """A job with the rest of its run, under a number that nothing else has."""
    whole = _run(job)
    begin = max(begin_ms, whole.started_ms)
    rest = max(1, whole.started_ms + whole.ran_ms - begin)
    gone_s = (begin - whole.started_ms) // 1000
    asked = max(job.request.walltime_s - gone_s, ceil(rest / 1000))
    one = _past_job(job, {number: PastRun(begin, rest)})
    return replace(one, number=number, request=replace(one.request, walltime_s=asked, after=(), not_before_ms=None))


def _after(one: PastJob, renamed: Mapping[str, str]) -> PastJob:
    """A job that waits for what ran when the time began under the number that it has here."""
    after = tuple((renamed.get(number, number), condition) for number, condition in one.request.after)
    return one if after == one.request.after else replace(one, request=replace(one.request, after=after))
