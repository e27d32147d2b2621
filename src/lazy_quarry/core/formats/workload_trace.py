"""The past of a site as a workload trace in the Standard Workload Format, version 2.2 (Chapin and others, JSSPP 1999).

Names become numbers, which the header of the trace has; so a trace can be given to others. Times count in seconds from
the first submission; memory is in KiB for each processor.
"""

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime

from lazy_quarry.core.ledger.job_record import JobRecord

STATUS = {"done": 1, "cancelled": 5, "skipped": 5}
"""1 for completed, 5 for cancelled; all other states are 0, failed."""


def workload_trace(
    records: Sequence[JobRecord], site: str, nodes: int, cores: int, named: bool = True
) -> Iterator[str]:
    """The lines of a trace of these, without line ends. ``named``: the header tells which number is which user and account."""
    jobs = sorted(records, key=lambda one: (one.submitted_ms, one.number))
    begin = jobs[0].submitted_ms if jobs else 0
    users, accounts, names, queues, tiers = (
        _numbers(values)
        for values in (
            (one.user for one in jobs),
            (one.account for one in jobs),
            (one.name for one in jobs),
            (one.queue for one in jobs),
            (one.tier for one in jobs),
        )
    )
    yield "; Version: 2.2"
    yield f"; Computer: {site}"
    yield f"; MaxJobs: {len(jobs)}"
    yield f"; MaxRecords: {len(jobs)}"
    yield f"; UnixStartTime: {begin // 1000}"
    yield "; TimeZoneString: UTC"
    if jobs:
        yield f"; StartTime: {_date(begin)}"
        yield f"; EndTime: {_date(max(one.ended_ms for one in jobs))}"
    yield f"; MaxNodes: {nodes}"
    yield f"; MaxProcs: {cores}"
    yield "; Note: jobs are numbered from 1 in the order of their submission; a task of an array is a job"
    yield "; Note: partitions are tiers, executables are names of jobs, groups are accounts"
    for word, known, told in (
        ("Queue", queues, True),
        ("Partition", tiers, True),
        ("Note: group", accounts, named),
        ("Note: user", users, named),
    ):
        if told:
            yield from (f"; {word}: {number} {_line(value)}" for value, number in known.items())
    for number, one in enumerate(jobs, 1):
        started, ran = one.started_ms, one.started_ms is not None and one.cores > 0
        fields = (
            number,
            (one.submitted_ms - begin) // 1000,
            max(0, started - one.submitted_ms) // 1000 if started is not None else -1,
            max(0, one.ended_ms - started) // 1000 if started is not None else -1,
            one.cores if ran else -1,
            round(one.cpu_ms / 1000 / one.cores) if ran else -1,
            round(one.memory_peak_mib * 1024 / one.cores) if ran else -1,
            one.cores if ran else -1,
            one.walltime_s,
            round(one.memory_mib * 1024 / one.cores) if ran else -1,
            STATUS.get(one.state, 0),
            users[one.user],
            accounts[one.account],
            names[one.name],
            queues[one.queue],
            tiers[one.tier],
            -1,
            -1,
        )
        yield " ".join(map(str, fields))


def _numbers(values: Iterable[str]) -> dict[str, int]:
    found: dict[str, int] = {}
    for value in values:
        found.setdefault(value, len(found) + 1)
    return found


def _line(value: str) -> str:
    return " ".join(value.split())


def _date(at_ms: int) -> str:
    return datetime.fromtimestamp(at_ms / 1000, UTC).strftime("%a %b %d %H:%M:%S UTC %Y")
