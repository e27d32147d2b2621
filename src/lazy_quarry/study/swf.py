"""Workload traces in the Standard Workload Format, version 2.2 (Chapin and others, JSSPP 1999; Feitelson's archive).

A line a job with 18 numbers, -1 where something isn't known; lines that begin with ``;`` are comments.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from lazy_quarry.errors import BadValue

FIELDS = 18
_NUMBER, _SUBMIT, _RUN, _ALLOCATED, _REQUESTED, _WALLTIME = 0, 1, 3, 4, 7, 8


@dataclass(frozen=True, slots=True)
class TraceJob:
    """A job of a trace. Times in seconds as in the trace; ``submit_s`` counts from the trace's beginning."""

    number: int
    submit_s: float
    run_s: float
    walltime_s: float
    cores: int


@dataclass(frozen=True, slots=True)
class Trace:
    """Jobs by submission, then number; ``left_out`` are those without cores or time, or larger than the cluster."""

    jobs: tuple[TraceJob, ...]
    left_out: int = 0


def _value(word: str) -> float:
    try:
        return int(word)
    except ValueError:
        return float(word)


def read_trace(lines: Iterable[str], most_cores: int, name: str = "the trace") -> Trace:
    """The jobs of a trace that a cluster of ``most_cores`` can hold.

    Cores are the requested processors, else the allocated; the walltime is the requested time, else the
    run time; a job runs for the smaller of run time and walltime, or all of its walltime where the run
    time isn't known. Raises :class:`BadValue` with the line that cannot be read.
    """
    jobs, left_out = [], 0
    for place, line in enumerate(lines, 1):
        if not line.strip() or line.lstrip().startswith(";"):
            continue
        words = line.split()
        if len(words) < FIELDS:
            raise BadValue(f"{name}, line {place}: {len(words)} numbers, and a job has {FIELDS}; is the file complete?")
        try:
            fields = [_value(word) for word in words[: _WALLTIME + 1]]
        except ValueError as fault:
            raise BadValue(f"{name}, line {place}: {str(fault).partition(': ')[2] or fault} is not a number") from None
        requested, allocated, asked, run = fields[_REQUESTED], fields[_ALLOCATED], fields[_WALLTIME], fields[_RUN]
        cores = int(requested if requested > 0 else allocated)
        walltime = asked if asked > 0 else run
        if cores <= 0 or cores > most_cores or walltime <= 0:
            left_out += 1
            continue
        ran = walltime if run < 0 else min(run, walltime)
        jobs.append(TraceJob(int(fields[_NUMBER]), fields[_SUBMIT], ran, walltime, cores))
    jobs.sort(key=lambda job: (job.submit_s, job.number))
    return Trace(tuple(jobs), left_out)


def trace_lines(jobs: Iterable[TraceJob], cores: int, remarks: Iterable[str] = ()) -> Iterator[str]:
    """A trace as lines without line ends; what isn't known is -1."""
    yield "; Version: 2.2"
    yield f"; MaxProcs: {cores}"
    for remark in remarks:
        yield f"; Note: {remark}"
    for job in jobs:
        times = [_plain(value) for value in (job.submit_s, job.run_s, job.walltime_s)]
        submit, run, walltime = times
        yield (f"{job.number} {submit} -1 {run} {job.cores} -1 -1 {job.cores} {walltime} -1 1 -1 -1 -1 -1 -1 -1 -1")


def _plain(seconds: float) -> str:
    """Whole seconds without a point."""
    return str(int(seconds)) if seconds == int(seconds) else repr(float(seconds))
