"""A job after an end, and its waiting then."""

from lazy_quarry.core.engine.events import Ended
from lazy_quarry.core.job.job import EACH, Job, Phase
from lazy_quarry.core.values import replace


def waiting_phase(job: Job) -> Phase:
    """Blocked while it waits for another, also in vain; one that waits task by task, while none of its tasks may start."""
    if job.skip_reason or any(condition != EACH for _, condition in job.unmet):
        return Phase.BLOCKED
    return Phase.BLOCKED if job.unmet and not job.freed_tasks else Phase.WAITING


def left_over(job: Job) -> tuple[int, ...]:
    """Tasks that will never be decided, since the array they waited for has ended."""
    array = job.request.array
    if array is None:
        return ()
    known = {*job.freed_tasks, *job.handled_tasks}
    return tuple(index for index in range(job.next_index, array.count) if index not in known)


WANTED = {
    "succeeds": "it succeeded",
    "fails": "it failed",
    "finishes": "it finished",
    "begins": "it began",
    "each-succeeds": "its task of the same number succeeded",
}


def ended_words(phase: Phase | None) -> str:
    """Word a job's end, or that it has begun."""
    return "has begun" if phase is None else f"ended {phase}"


def held_by(job: Job, end: Ended) -> int:
    """Time in ms that the attempt that ends so has held the nodes of a job."""
    if not end.held_ms and end.allocated_core_ms and job.cores_allocated:
        return end.allocated_core_ms // job.cores_allocated  # written by a version that kept only the product
    return end.held_ms


def job_after(job: Job, event: Ended) -> Job:
    """The job as this end leaves it: final, or waiting again."""
    ended = replace(
        job,
        exit=event.exit,
        signal=event.signal,
        reason=event.reason,
        use=event.use,
        inside=event.inside,
        curve=event.curve,
        host=event.host,
        printed=event.printed,
        parts=event.parts,
        planned=event.planned,
        allocated_core_ms=job.allocated_core_ms + event.allocated_core_ms,
        charge_core_ms=job.charge_core_ms + event.charge_core_ms,
        times=job.times if job.started_ms is None else job.times.ended(held_by(job, event), event.use.cpu_ms),
    )
    if not event.again:
        return replace(ended.in_phase(event.phase, event.at_ms), ended_ms=event.at_ms)
    # What gave way, or comes back at its walltime to go on, has not failed: that is no part of its retries.
    gave_way = event.phase is Phase.CANCELLED
    goes_on = event.phase is Phase.OVERTIME and job.request.again_at_overtime
    reached = event.inside.reached if event.inside is not None else ""
    return replace(
        ended.in_phase(Phase.WAITING, event.at_ms),
        retried=job.retried + (not gave_way and not goes_on),
        reached=job.reached if gave_way else reached,
        stuck=job.stuck if gave_way else (job.stuck + 1) * (reached != "" and reached == job.reached),
        started_ms=None,
        allocations=(),
        stopping=None,
        stop_by_ms=None,
    )
