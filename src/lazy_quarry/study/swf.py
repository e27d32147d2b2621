"""Workload traces in the Standard Workload Format, version 2.2 (Chapin and others, JSSPP 1999; Feitelson's archive).

A line a job with 18 numbers, -1 where something isn't known; lines that begin with ``;`` are comments.
"""

import re
from collections.abc import Iterable, Iterator

from msgspec import Struct

from lazy_quarry.errors import BadValue
from lazy_quarry.study.columns import Columns

FIELDS = 18
_NUMBER, _SUBMIT, _RUN, _ALLOCATED, _REQUESTED, _WALLTIME, _USER, _PROGRAM = 0, 1, 3, 4, 7, 8, 11, 13


class TraceJob(Struct, frozen=True):
    """A job of a trace. Times in seconds as in the trace; ``submit_s`` counts from the trace's beginning."""

    number: int
    submit_s: float
    run_s: float
    walltime_s: float
    cores: int
    user: int = -1
    program: int = -1
    """Numbers of names; -1 where they aren't known."""


class Trace(Struct, frozen=True):
    """Jobs by submission, then number; ``left_out`` are those without cores or time, or larger than the cluster."""

    jobs: tuple[TraceJob, ...]
    left_out: int = 0

    @property
    def columns(self) -> Columns:
        """The same jobs as columns."""
        return Columns(
            [job.submit_s for job in self.jobs],
            [job.run_s for job in self.jobs],
            [job.walltime_s for job in self.jobs],
            [job.cores for job in self.jobs],
            [(job.user, job.program) for job in self.jobs],
        )


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
            fields = [_value(word) for word in words[: _PROGRAM + 1]]
        except ValueError as fault:
            raise BadValue(f"{name}, line {place}: {str(fault).partition(': ')[2] or fault} is not a number") from None
        requested, allocated, asked, run = fields[_REQUESTED], fields[_ALLOCATED], fields[_WALLTIME], fields[_RUN]
        cores = int(requested if requested > 0 else allocated)
        walltime = asked if asked > 0 else run
        if cores <= 0 or cores > most_cores or walltime <= 0:
            left_out += 1
            continue
        ran = walltime if run < 0 else min(run, walltime)
        jobs.append(
            TraceJob(
                int(fields[_NUMBER]), fields[_SUBMIT], ran, walltime, cores, int(fields[_USER]), int(fields[_PROGRAM])
            )
        )
    jobs.sort(key=lambda job: (job.submit_s, job.number))
    return Trace(tuple(jobs), left_out)


class TraceRecord(Struct, frozen=True):
    """A job of a trace with all that a history needs. Times in seconds, memory in KiB a processor; None where it isn't known.

    ``user``, ``group``, ``program``, ``queue`` are numbers of names; -1 where they aren't known.
    """

    number: int
    submit_s: float
    wait_s: float | None
    run_s: float
    cores: int
    walltime_s: float
    cpu_s: float | None
    memory_kib: float | None
    status: int
    user: int
    group: int
    program: int
    queue: int


class History(Struct, frozen=True):
    """A trace as history: its header's values by key, its jobs by submission, and how many had no size or time."""

    header: dict[str, tuple[str, ...]]
    records: tuple[TraceRecord, ...]
    left_out: int

    def number(self, key: str) -> int | None:
        """A number of the header; None where it has none."""
        for value in self.header.get(key, ()):
            if match := re.match(r"-?\d+", value.strip()):
                return int(match[0])
        return None

    def names(self, key: str) -> dict[int, str]:
        """Names by their numbers, as in ``; Queue: 1 short``."""
        found = {}
        for value in self.header.get(key, ()):
            if match := re.match(r"(\d+)[\s:]+(\S.*)", value.strip()):
                found[int(match[1])] = match[2].strip()
        return found


def read_history(lines: Iterable[str], name: str = "the trace") -> History:
    """A trace as history. Raises :class:`BadValue` with the line that cannot be read."""
    header: dict[str, list[str]] = {}
    records, left_out = [], 0
    for place, line in enumerate(lines, 1):
        if line.lstrip().startswith(";"):
            key, colon, value = line.lstrip(" ;").partition(":")
            if colon and (inner := re.match(r"\s*(user|group)\s*:\s*(.*)", value)) and key.strip() == "Note":
                key, value = f"Note {inner[1]}", inner[2]
            if colon:
                header.setdefault(key.strip(), []).append(value.strip())
            continue
        if not line.strip():
            continue
        words = line.split()
        if len(words) < FIELDS:
            raise BadValue(f"{name}, line {place}: {len(words)} numbers, and a job has {FIELDS}; is the file complete?")
        try:
            values = [_value(word) for word in words[:FIELDS]]
        except ValueError as fault:
            raise BadValue(f"{name}, line {place}: {str(fault).partition(': ')[2] or fault} is not a number") from None
        allocated, requested, run, asked = values[_ALLOCATED], values[_REQUESTED], values[_RUN], values[_WALLTIME]
        cores = int(allocated if allocated > 0 else requested)
        if cores <= 0 or run < 0:
            left_out += 1
            continue
        memory = values[6] if values[6] > 0 else values[9]
        records.append(
            TraceRecord(
                number=int(values[_NUMBER]),
                submit_s=max(0.0, values[_SUBMIT]),
                wait_s=values[2] if values[2] >= 0 else None,
                run_s=run,
                cores=cores,
                walltime_s=asked if asked > 0 else max(60.0, run),
                cpu_s=values[5] if values[5] >= 0 else None,
                memory_kib=memory if memory > 0 else None,
                status=int(values[10]),
                user=int(values[11]),
                group=int(values[12]),
                program=int(values[13]),
                queue=int(values[14]),
            )
        )
    records.sort(key=lambda one: (one.submit_s, one.number))
    return History({key: tuple(told) for key, told in header.items()}, tuple(records), left_out)


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
