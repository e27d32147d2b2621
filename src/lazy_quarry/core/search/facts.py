"""The facts of a job for searching: a row of plain values."""

from msgspec import Struct

from lazy_quarry.core.job.job import Job


class Facts(Struct, frozen=True, kw_only=True):
    """A job in plain values; of an array they are the sums and peaks of its tasks.

    ``of`` is its number, of a task that of its array. ``nodes`` and ``parameters`` are words, one to a line.
    """

    job: int
    of: int
    task: int | None
    name: str
    state: str
    user: str
    account: str
    queue: str
    tier: str
    nodes: str
    parameters: str
    arguments: str
    """The words given to the script; people find only their own."""
    path: str
    reason: str
    signal: str
    exit: int | None
    attempt: int
    cores: int
    gpus: int
    memory_mib: int
    requested_mib: int
    walltime_s: int
    took_s: int
    waited_s: int
    cpu_ms: int
    read_bytes: int
    written_bytes: int
    charge_core_ms: int
    submitted_ms: int
    started_ms: int | None
    ended_ms: int | None


def facts_of(job: Job, now_ms: int) -> Facts:
    """The facts of a job, as far as it has come at an instant."""
    request, use = job.request, job.use
    return Facts(
        job=job.number,
        of=job.parent or job.number,
        task=request.task,
        name=request.name,
        state=job.phase.value,
        user=job.user,
        account=request.account,
        queue=job.queue or request.queues[0],
        tier=request.tier,
        nodes="\n".join(one.node for one in job.allocations),
        parameters="\n".join(f"{name}={value}" for name, value in request.parameters),
        arguments="\n".join(request.arguments),
        path=job.origin.path,
        reason=job.reason,
        signal=job.signal or "",
        exit=job.exit,
        attempt=job.attempt,
        cores=job.cores_allocated,
        gpus=sum(len(one.gpus) for one in job.allocations),
        memory_mib=use.memory_peak_mib,
        requested_mib=sum(one.memory_mib for one in job.allocations),
        walltime_s=request.walltime_s,
        took_s=job.elapsed_ms(now_ms) // 1000,
        waited_s=job.waited_ms(now_ms) // 1000,
        cpu_ms=job.cpu_ms(),
        read_bytes=use.read_bytes,
        written_bytes=use.written_bytes,
        charge_core_ms=job.charge_core_ms,
        submitted_ms=job.submitted_ms,
        started_ms=job.started_ms,
        ended_ms=job.ended_ms,
    )
