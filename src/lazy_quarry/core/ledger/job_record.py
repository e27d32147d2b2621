"""A job or task that has ended, as the open formats have it."""

from msgspec import Struct

from lazy_quarry.core.job.job import TASK_SPAN, Job


class JobRecord(Struct, frozen=True, kw_only=True):
    """The request and the use of a job. Instants in ms since the epoch, memory in MiB of the whole job, core-ms held and charged.

    ``task`` is its number in its array. Of several attempts the instants and the memory are the last one's.
    """

    job: int
    task: int | None
    number: int
    """Different for every job and task of a site."""
    name: str
    user: str
    account: str
    queue: str
    tier: str
    state: str
    attempts: int
    submitted_ms: int
    started_ms: int | None
    ended_ms: int
    ran_ms: int
    """Time that all attempts held its nodes."""
    nodes: tuple[str, ...]
    cores: int
    gpus: int
    walltime_s: int
    memory_mib: int
    memory_peak_mib: int
    cpu_ms: int
    held_core_ms: int
    charged_core_ms: int
    exit: int | None
    signal: str | None


def record_of(job: Job) -> JobRecord:
    """The record of a job or task that has ended."""
    return JobRecord(
        job=job.number // TASK_SPAN if job.number >= TASK_SPAN else job.number,
        task=job.request.task,
        number=job.number,
        name=job.request.name,
        user=job.user,
        account=job.request.account,
        queue=job.queue or job.request.queues[0],
        tier=job.request.tier,
        state=job.phase.value,
        attempts=job.attempt,
        submitted_ms=job.submitted_ms,
        started_ms=job.started_ms,
        ended_ms=job.ended_ms or 0,
        ran_ms=job.elapsed_ms(job.ended_ms or 0),
        nodes=tuple(one.node for one in job.allocations),
        cores=job.cores_allocated,
        gpus=sum(len(one.gpus) for one in job.allocations),
        walltime_s=job.request.walltime_s,
        memory_mib=sum(one.memory_mib for one in job.allocations),
        memory_peak_mib=job.use.memory_peak_mib,
        cpu_ms=job.cpu_ms(),
        held_core_ms=job.allocated_core_ms,
        charged_core_ms=job.charge_core_ms,
        exit=job.exit,
        signal=job.signal,
    )
