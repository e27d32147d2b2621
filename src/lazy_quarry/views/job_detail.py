"""A job with its record, its script and its verdict."""

from collections import Counter

from msgspec import Struct

from lazy_quarry.core.advice.alike import Cause, Outlier
from lazy_quarry.core.explain.answers import Explained
from lazy_quarry.core.job.by import NOBODY, By
from lazy_quarry.core.job.host import Host
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.views.job_view import JobView


class Record(Struct, frozen=True):
    """One line of a job's history."""

    at_ms: int
    what: str
    by: By = NOBODY
    """Who made it happen."""


class TasksTold(Struct, frozen=True, kw_only=True):
    """The use of an array's tasks, each of what one asked for. Spreads are (least, median, most) of those that ran."""

    ran: int
    took_s: tuple[int, int, int]
    memory_mib: tuple[int, int, int]
    busy: tuple[float, float, float]
    """Cores' worth of CPU."""
    walltime_s: int
    asked_mib: int
    cores: int
    cpu_ms: int
    read_bytes: int
    written_bytes: int
    nodes: tuple[str, ...]
    failed: tuple[str, ...]
    """The first tasks that did not succeed, each with its values and how it ended."""
    causes: tuple[Cause, ...] = ()
    """Tasks that did not succeed, by how they failed."""
    outliers: tuple[Outlier, ...] = ()
    """Tasks that took far longer, or more memory, than the others."""
    took_bars: tuple[int, ...] = ()
    """Numbers of tasks in each equal part between the shortest and the longest, and the same of their memory."""
    memory_bars: tuple[int, ...] = ()


class Evidence(Struct, frozen=True):
    """The last lines that tell of errors, and the files that it promised or staged out as they are now."""

    errors: tuple[str, ...] = ()
    files: tuple[FileFound, ...] = ()

    @property
    def wrong_files(self) -> tuple[FileFound, ...]:
        """Files that are not there, empty, or not whole."""
        return tuple(one for one in self.files if one.problem)

    @property
    def casts_doubt(self) -> bool:
        """True when something of it says that all is not well."""
        return bool(self.errors or self.wrong_files)


class JobDetail(Struct, frozen=True, kw_only=True):
    """A job with its record, its script, and a verdict in words when it has ended."""

    view: JobView
    record: tuple[Record, ...]
    script: str
    script_path: str
    directory: str
    overrides: tuple[str, ...]
    inputs: tuple[tuple[str, int, int], ...] = ()
    """Files that it names, as they were when it was submitted: path, size in bytes, when each was written in ms."""
    environment: tuple[tuple[str, str], ...] = ()
    """The variables that it was given from outside."""
    modules: tuple[str, ...] = ()
    host: Host | None = None
    """The machine that it ran on, where that is known."""
    verdict: str = ""
    tasks: tuple[JobView, ...] = ()
    """The tasks of an array that have started or ended."""
    again: tuple[JobView, ...] = ()
    """The newest run of each task that ran again, in another array, or is to."""
    evidence: Evidence | None = None
    """Evidence about a job that has ended: last lines that sound wrong, and its promised files."""
    told: TasksTold | None = None
    """Use of the tasks of an array, when one has run."""
    explained: Explained | None = None
    """For a job that has not started: what it waits for, who is ahead, what would help."""

    @property
    def tasks_now(self) -> tuple[JobView, ...]:
        """The tasks of an array, each as its newest run."""
        newest = {view.task: view for view in self.again}
        return tuple(newest.get(view.task, view) for view in self.tasks)

    @property
    def counts_now(self) -> tuple[tuple[str, int], ...]:
        """Numbers of an array's tasks in each state by their newest runs; as in ``view.counts`` where none ran again."""
        if not self.again:
            return self.view.counts
        before = {view.task: view.phase.value for view in self.tasks}
        counts = Counter(dict(self.view.counts))
        for view in self.again:
            counts[before[view.task]] -= 1
            counts[view.phase.value] += 1
        return tuple((word, count) for word, count in sorted(counts.items()) if count)

    @property
    def silent(self) -> bool:
        """True when it ended as if all were well, and something says that it is not."""
        return self.view.phase is Phase.DONE and self.evidence is not None and self.evidence.casts_doubt

    @property
    def why(self) -> str:
        """The reason why it waits, or the tasks of an array that have not started; empty for none."""
        return self.view.why or (self.explained.why.because if self.explained else "")

    @property
    def instead(self) -> str:
        """Changes that would start it sooner, in a sentence or two; empty for none."""
        return self.explained.instead if self.explained else ""
