"""An engine's view of a runner of jobs."""

from typing import Protocol

from msgspec import Struct

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.run.fetching import FilesToFetch
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.run.node.made_files import MadeFiles


class OutputChunk(Struct, frozen=True):
    """A piece of what a job printed. ``next_byte`` is where the next piece begins, ``size`` all there is."""

    path: str
    text: str
    next_byte: int
    size: int
    problem: str = ""
    changed: bool = False
    """True when the file is not as the job left it, so that nothing of it is told as the job's."""


class Attempt(Struct, frozen=True):
    """An attempt that is about to start: of which job and submission, and the node of each of its parts."""

    job: int
    number: int
    mark: str
    nodes: tuple[str, ...]


class HostState(Struct, frozen=True):
    """A node that is a host of its own, as it is at present. What isn't known is empty or None."""

    node: str
    host: str
    answers: bool
    quiet_since_ms: int | None
    problem: str
    """Why it isn't reached, with what to do."""
    ahead_ms: int | None
    """Milliseconds that its clock is ahead of this machine's."""
    busy: float | None
    """Cores that work there, whoever's work that is."""
    version: str
    python: str
    groups: tuple[str, ...]
    """The kinds of control groups that may be made there; none where it is watched."""
    folder: str
    """Where our files are there."""
    copied_a_second: float | None = None
    """Bytes a second of the copy that was measured last."""


class KeptThere(Struct, frozen=True):
    """Something that stays on a host after its jobs, under a name: results that are still to be brought back (``results-…``), a
    scratch folder for the next run of a job's name (``scratch-…``), a file for the next job that takes it in (``input-…``).
    """

    node: str
    name: str
    bytes: int
    used_ms: int
    """When it was changed last, or taken."""
    job: int | None = None
    """The job whose results these are."""
    label: str = ""
    user: str = ""


class JobFiles(Protocol):
    """The files of attempts and of jobs where they run: looked at, read and removed by nobody else.

    Reading changes nothing, so a process that only reads may have one of its own.
    """

    def live(self, job: Job, now_ms: int) -> tuple[Use, float] | None:
        """Use of a running attempt so far, and the cores it keeps busy now; None when unknown."""
        ...

    def parts(self, job: Job, now_ms: int) -> tuple[NodeUse, ...]:
        """Use so far on each node of a running attempt on several, as far as that is known; none where it has one."""
        ...

    def inside(self, job: Job, now_ms: int) -> Inside | None:
        """Parts and tasks that a running attempt has told of so far; None for nothing."""
        ...

    def samples(self, job: Job, now_ms: int) -> list[tuple[int, float, int]]:
        """Measurements of a running attempt: (instant in ms, cores busy, memory in MiB), oldest first."""
        ...

    def output(self, job: Job, path: str, from_byte: int, now_ms: int) -> OutputChunk:
        """A piece of one of a job's output files."""
        ...

    def copying(self, job: Job) -> Copying | None:
        """A copy that is under way for a running job, to where it starts or back from there; None for none."""
        ...

    def to_fetch(self, job: Job) -> FilesToFetch:
        """A job's files, for whoever wants to have them elsewhere. Raises :class:`OSError` when its host doesn't answer."""
        ...

    def kept(self, node: str) -> list[KeptThere]:
        """List all that stays on a host after its jobs. Raises :class:`OSError`, also when it doesn't answer."""
        ...

    def drop(self, node: str, item: str) -> None:
        """Remove one of these, by its name. Raises :class:`OSError`."""
        ...

    def look_at(self, paths: list[str]) -> list[FileFound]:
        """Look at files by their content: the kind of each, and what is wrong with it; none where there are no files."""
        ...

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """The files below a folder that were created or changed between two instants; until now for None."""
        ...

    def remove(self, folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
        """Remove files made below a folder since an instant; returns how many, and why others were not."""
        ...

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong."""
        ...


class Runner(Protocol):
    """Runs attempts. Every call may be repeated: an attempt is started at most once all the same."""

    @property
    def files(self) -> JobFiles:
        """The files of what it runs."""
        ...

    def mark(self) -> str:
        """A mark for a submission, unlike any other; empty where attempts can't be confused."""
        ...

    def prepare(self, attempts: list[Attempt]) -> frozenset[int]:
        """Make ready for attempts, before their start is recorded; returns the jobs whose nodes aren't ready yet.

        Raises :class:`StateFolderError` when they can't be started.
        """
        ...

    def answering(self) -> dict[str, int | None]:
        """Nodes that answer, None, and that don't, since when (ms since 1970); those of which that isn't known are left out."""
        ...

    def sees(self, folder: str) -> dict[str, bool]:
        """Nodes by whether they see a folder of this machine; those of which that isn't known yet are left out, and asked."""
        ...

    def hosts(self) -> list[HostState]:
        """The nodes that are hosts of their own."""
        ...

    def lapsed(self, job: Job) -> str:
        """The node of a running job that has been silent for longer than the job's lease and all that it had to end by itself.

        Empty where none has: also where it has no lease.
        """
        ...

    def unlike(self) -> dict[str, str]:
        """Nodes that have less than the site says, each with words for that: nothing may start there."""
        ...

    def start(self, jobs: list[Job]) -> None:
        """Run the present attempts of these jobs; their start is in the journal already."""
        ...

    def stop(self, job: Job, cause: str) -> None:
        """Stop a running attempt: SIGTERM, its grace, SIGKILL. It is over when it is reported."""
        ...

    def reports(self, now_ms: int) -> list[Finish]:
        """Attempts that are over by this instant and not settled yet."""
        ...

    def settled(self, report: Finish) -> None:
        """The end of this attempt is in the journal, so what was kept of it may be removed."""
        ...

    def notices(self) -> list[str]:
        """Obstacles of certain jobs, in sentences."""
        ...

    def closed(self) -> str:
        """Why nothing can be started at all, tried anew by this call; empty when it can."""
        ...

    def obstacle(self) -> str:
        """Why nothing can start at present, as far as that is seen without trying; empty when nothing is known to be in the way."""
        ...
