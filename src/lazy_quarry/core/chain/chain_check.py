"""A chain checked as a whole: each job's script as it would be submitted, and what its jobs need of one another."""

from collections.abc import Callable, Mapping

from msgspec import Struct, field

from lazy_quarry.core.chain.chain import Chain, ChainJob
from lazy_quarry.core.chain.chain_file import ChainRead
from lazy_quarry.core.header.check import Checked
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity, error
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.values import replace

_ADVICE = ("program-absent", "no-command", "header-missing", "walltime-absent", "memory-absent")
"""Findings that are told of commands in the chain file too; others of these are about lines that nobody wrote."""


class ChainChecked(Struct, frozen=True):
    """The result of a check. ``findings`` are (file, finding): a script by its path, the chain file as empty."""

    chain: Chain | None
    findings: tuple[tuple[str, Diagnostic], ...]
    requests: Mapping[str, Request] = field(default_factory=dict)
    submissions: Mapping[str, Submission] = field(default_factory=dict)
    waits: Mapping[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)
    """The conditions of its jobs, as far as they could be read."""

    @property
    def refused(self) -> bool:
        """True when something must change."""
        return any(one.severity is Severity.ERROR for _, one in self.findings)


def check_chain(
    read: ChainRead, submission: Callable[[ChainJob], Submission], check: Callable[[Submission], Checked]
) -> ChainChecked:
    """Check every job of a chain that could be read. ``submission`` makes of a job what is submitted, ``check`` checks it."""
    found: list[tuple[str, Diagnostic]] = [("", one) for one in read.findings]
    chain = read.chain
    if chain is None:
        return ChainChecked(None, tuple(found), waits=read.waits)
    requests: dict[str, Request] = {}
    sent: dict[str, Submission] = {}
    told = set[tuple[str, str, str, int]]()
    for job in chain.jobs:
        sent[job.name] = submission(job)
        checked = check(sent[job.name])
        if checked.request is not None:
            requests[job.name] = checked.request
        for one in checked.diagnostics:
            placed = _placed(one, job, read)
            if (
                placed is not None
                and (key := (placed[0], placed[1].code, placed[1].message, placed[1].line)) not in told
            ):
                told.add(key)
                found.append(placed)
    for job in chain.jobs:
        for other, condition in job.inside:
            both = job.name in requests and other in requests
            problem = _other_tasks(requests[job.name], requests[other], other) if both else ""
            if condition == "each-succeeds" and problem:
                found.append(("", error("chain-tasks", f"{job.name}: {problem}", job.line)))
    ranked = sorted(found, key=lambda one: (list(Severity).index(one[1].severity), one[0], one[1].line))
    return ChainChecked(chain, tuple(ranked), requests, sent, read.waits)


def _placed(one: Diagnostic, job: ChainJob, read: ChainRead) -> tuple[str, Diagnostic] | None:
    """The file that a finding is about, and the finding with its line there."""
    if one.line == 0:
        line = read.line(job.name, *one.key)
        words = f"{job.name}: {one.message.removeprefix('in --set: ')}"
        return "", replace(one, message=words, line=line, column=1, fix=None, key=())
    if job.path:
        return job.path, one
    if one.severity is not Severity.ERROR and one.code not in _ADVICE:
        return None
    return "", replace(one, message=f"{job.name}: {one.message}", line=job.line, column=1, fix=None, key=())


def _other_tasks(request: Request, other: Request, name: str) -> str:
    """Why two jobs can't go task by task, or empty."""
    if request.array is None:
        return "each-succeeds goes task by task, and this is not an array"
    if other.array is None:
        return f"each-succeeds goes task by task, and {name} is no array"
    if request.array.rows != other.array.rows:
        return f"each-succeeds goes task by task, and {name} has other tasks"
    return ""
