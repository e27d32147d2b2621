"""A job's request as the intent that a supervisor of this machine follows."""

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

import lazy_quarry
from lazy_quarry.core.job.job import Allocation, Job
from lazy_quarry.core.paths import fill_in
from lazy_quarry.run.node.attempt import OWN, Command, Intent, Limits, Paths, Results, Staging
from lazy_quarry.run.node.staging import inside


def attempt_name(job: Job, part: int = 0) -> str:
    """The name of a part of the present attempt: its folder in the spool, its control group, and its name in messages."""
    return named_attempt(job.number, job.attempt, job.mark, part)


def named_attempt(job: int, attempt: int, mark: str, part: int = 0) -> str:
    """The name of a part of an attempt of a submission: the first has the attempt's own, the others the index of their node.

    Those that an earlier version took in have no mark.
    """
    name = f"{job}-{attempt}-{mark}" if mark else f"{job}-{attempt}"
    return f"{name}.{part}" if part else name


def attempt_of(name: str) -> tuple[int, int, str]:
    """The submission, the number of the attempt and the mark, by the name of an attempt."""
    number, tried, *mark = name.split("-")
    return int(number), int(tried), "".join(mark)


def part_names(job: Job) -> list[str]:
    """The names of all parts of the present attempt, in the order of its allocations."""
    return [attempt_name(job, part) for part in range(len(job.allocations))]


def part_of(name: str) -> tuple[str, int]:
    """The attempt that a part is of, by its name, and the index of its node."""
    attempt, _, part = name.partition(".")
    return attempt, int(part or 0)


FOR_PYTHON = str(Path(lazy_quarry.__file__).parent / "inside" / "python")
"""The folder with the one file that Python programs import to name their parts."""


class Ground(Struct, frozen=True):
    """Where attempts are on a node: ``folder`` has all of ours there, ``journal`` is the one that the attempts are in.

    Core k of the plan is the k-th of ``processors``. ``spool`` and ``commands`` (the folder that has ``lq``) are below the folder,
    unless they are named; ``python`` is what is added to PYTHONPATH, ``state`` the state folder where the engine runs.
    """

    folder: Path
    processors: Sequence[int]
    journal: str
    spool: Path | None = None
    commands: Path | None = None
    python: str = FOR_PYTHON
    state: Path | None = None
    lease_s: float | None = None
    """Seconds that an attempt may go on after an engine was asked whether it may; None: for ever."""

    @property
    def spool_there(self) -> Path:
        """The folder with those of the attempts."""
        return self.spool or self.folder / "spool"


def intent_of(job: Job, ground: Ground, part: int = 0) -> Intent:
    """The intent of a part of a job's present attempt."""
    request, allocation, paths = job.request, job.allocations[part], job.paths
    folder = ground.spool_there / attempt_name(job, part)
    scratch = folder / OWN / "scratch"
    if request.stage.keep:
        scratch = Path(inside(str(ground.folder / "scratch"), request.name))
    return Intent(
        job=job.number,
        attempt=job.attempt,
        name=request.name,
        ranks=[(one.node, one.ranks) for one in job.allocations],
        paths=Paths(paths.folder, paths.output, paths.errors, paths.input),
        command=Command(
            environment=_environment(job, allocation, ground, folder, scratch),
            arguments=[fill_in(word, dict(request.parameters)) for word in request.arguments],
            prepare=list(request.prepare),
            modules=list(request.modules),
        ),
        limits=Limits(
            cores=[ground.processors[core] for core in allocation.cores],
            memory_mib=allocation.memory_mib,
            walltime_s=request.walltime_s,
            grace_s=request.grace_s,
            warn_s=request.warn_s,
            scratch_mib=request.scratch_mib,
        ),
        staging=Staging(
            into=[fill_in(path, paths.words) for path in request.stage.into],
            out=[fill_in(path, paths.words) for path in request.stage.out],
            scratch=str(scratch),
            spared=str(ground.folder / "spared" / folder.name),
        ),
        results=Results([fill_in(path, paths.words) for path in request.expect], request.summary, request.readable_by),
        journal=ground.journal,
        mark=job.mark,
        lease_s=ground.lease_s,
    )


_OF_OTHERS = frozenset(("LQ_PHASE", "LQ_RANK", "LQ_RANK_HERE", "LQ_SPREAD_TASK", "LQ_TASK"))
"""Variables of a part of another job, from inside of which this one was submitted."""


def _environment(job: Job, allocation: Allocation, ground: Ground, folder: Path, scratch: Path) -> dict[str, str]:
    """The variables of a running job: its submitter's, its header's, ours, and its parameters."""
    request = job.request
    base = {key: value for key, value in job.origin.environment if key not in _OF_OTHERS}
    python = base.get("PYTHONPATH", "")
    path = base.get("PATH", os.environ.get("PATH", os.defpath))
    return {
        **base,
        "PATH": f"{path}:{ground.commands or ground.folder / 'bin'}",
        "PYTHONPATH": f"{python}:{ground.python}" if python else ground.python,
        **dict(request.environment),
        **dict(request.parameters),
        "LQ_STATE": str(ground.state or ground.folder),
        "LQ_JOB": str(job.parent or job.number),
        "LQ_NAME": request.name,
        "LQ_ACCOUNT": request.account,
        "LQ_NODES": str(folder / "nodes"),
        "LQ_NODE_COUNT": str(len(job.allocations)),
        "LQ_RANKS": str(sum(one.ranks for one in job.allocations)),
        "LQ_THREADS": str(request.threads),
        "OMP_NUM_THREADS": str(request.threads),
        "LQ_CORES": str(job.cores_allocated),
        "LQ_MEMORY_MIB": str(allocation.memory_mib),
        "LQ_GPUS": str(sum(len(one.gpus) for one in job.allocations)),
        "LQ_SCRATCH": str(scratch),
        "LQ_SUBMITTED_FROM": job.origin.directory,
        "LQ_ATTEMPT": str(job.attempt),
        "LQ_ATTEMPT_FOLDER": str(folder / OWN),
        **({} if request.task is None else {"LQ_TASK": str(request.task)}),
        **_gpus(allocation),
    }


def _gpus(allocation: Allocation) -> dict[str, str]:
    """The GPUs of a node that a part may use, by number: ours, and as the drivers of their makers take them."""
    if not allocation.gpus:
        return {}
    told = ",".join(map(str, allocation.gpus))
    makers = ("CUDA_VISIBLE_DEVICES", "ROCR_VISIBLE_DEVICES", "ZE_AFFINITY_MASK")
    return {"LQ_GPU_LIST": told, **dict.fromkeys(makers, told)}
