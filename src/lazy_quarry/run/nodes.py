"""Runs jobs on nodes, by messages to their agents: what each attempt is at, and what is still to be said or written."""

import secrets
import time
from collections.abc import Iterator, Mapping
from functools import partial

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.curve import MOST_OF_TASK, MOST_POINTS, Curve, curve_of
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import TASK_SPAN, Job, Use
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.intent import attempt_name, named_attempt
from lazy_quarry.run.node.attempt import Exit, IntentTooLong
from lazy_quarry.run.node.messages import Ask, Ensure, Notes, Over, Renew, Settle, Stop, Waits
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.node_link import AttemptFiles, NodeLink
from lazy_quarry.run.this_host import this_host

QUIET_S = 1.0
"""Agents are let go when nothing ran or waited for so long."""
MOST_OLD = 2_000
"""Folders of settled attempts that may wait for a quiet moment to be removed."""


class Nodes:
    """The runner of a site's nodes, each by its name.

    ``home`` is the one that the engine runs on, where jobs also are whose node is not known by its name any more, as after the
    machine got another; ``journal`` is the identity of the journal that attempts are in. Folders of settled attempts stay for
    ``kept_s``.
    """

    def __init__(self, nodes: Mapping[str, NodeLink], home: str, journal: str, kept_s: int = 0) -> None:
        self.nodes, self.journal, self.kept_s = nodes, journal, kept_s
        self.home = nodes[home]
        self._active: dict[str, Job] = {}
        self._ended: dict[str, Finish] = {}
        self._delayed: dict[str, str] = {}
        """Why an attempt could not be started yet, by name."""
        self._stops: dict[str, str] = {}
        """Attempts that should stop, by name, and why; and those of which the file that says so could not be written yet."""
        self._unwritten_stops: dict[str, str] = {}
        self._noted: dict[str, str] = {}
        """What the agent found about an attempt that runs, by name."""
        self._old: list[tuple[float, NodeLink, str]] = []
        """Settled attempts, and since when they are, the oldest first."""
        self._busy_at = time.monotonic()
        for node in nodes.values():
            node.greeting(partial(self._greet, node))

    def _of(self, job: Job | None) -> NodeLink:
        """The node of a job's present attempt."""
        name = job.allocations[0].node if job is not None and job.allocations else ""
        return self.nodes.get(name, self.home)

    @property
    def files(self) -> AttemptFiles:
        """The files of what it runs."""
        return self.home.files

    # -- the agents --------------------------------------------------------------------------------

    def fileno(self) -> int | None:
        """The link to the agent of this machine, to wait on; None while there is none."""
        return self.home.fileno()

    def tick(self, waiting: bool) -> None:
        """Keep agents running while something runs or waits, and let them leave when nothing does."""
        now = time.monotonic()
        # Removing folders competes with starting jobs for the disk, so it waits until nothing runs or many have
        # gathered.
        if not self._active or len(self._old) > MOST_OLD:
            due = [(node, name) for at, node, name in self._old[:50] if at + self.kept_s <= now]
            for node, name in due:
                node.files.remove_attempt(name)
            del self._old[: len(due)]
        if self._active or waiting:
            self._busy_at = now
        for node in self.nodes.values():
            node.reap()
            if self._active or waiting:
                node.connect_again()
            elif now - self._busy_at > QUIET_S:
                node.leave()

    def _greet(self, node: NodeLink) -> None:
        """Tell an agent, which may be new, everything that should run there and everything that should stop."""
        here = [name for name, job in self._active.items() if self._of(job) is node]
        for name in here:
            node.send(Ensure(node.epoch, name))
        for name in here:
            if cause := self._stops.get(name):
                node.send(Stop(node.epoch, name, cause))

    def _listen(self) -> None:
        for node in self.nodes.values():
            for message in node.heard():
                match message:
                    case Waits(name, reason):
                        self._delayed[name] = reason
                    case Notes(name, reason):
                        self._noted[name] = reason
                    case Ask(name, at):
                        if name in self._active:
                            node.send(Renew(node.epoch, name, at))
                    case Over(name, ended):
                        self._is_over(node, name, ended)

    def _is_over(self, node: NodeLink, name: str, ended: Exit) -> None:
        if ended.journal in ("", self.journal):  # else it is of one that is not here any more
            self._delayed.pop(name, None)
            self._noted.pop(name, None)
            number, attempt, *mark = name.split("-")
            told = node.files.inside_at_end(name, ended.ended_ms)
            most = MOST_OF_TASK if int(number) >= TASK_SPAN else MOST_POINTS
            curve = curve_of(node.files.samples_of(name), most)
            self._ended[name] = _finish(int(number), int(attempt), "".join(mark), ended, told, curve)

    # -- the protocol ------------------------------------------------------------------------------

    def mark(self) -> str:
        """A new mark for a submission."""
        return secrets.token_hex(6)

    def prepare(self, attempts: list[tuple[int, int, str]]) -> None:
        """Make the folders of attempts (job, attempt, mark) that are about to be recorded as started.

        So a folder that isn't there says that it was removed, not that the attempt never ran. Raises
        :class:`StateFolderError` when that fails, and then nothing may start.
        """
        self.home.files.prepare([named_attempt(*attempt) for attempt in attempts])

    def start(self, jobs: list[Job]) -> None:
        """Lay the attempts out and tell the agents."""
        for job in jobs:
            name, node = attempt_name(job), self._of(job)
            try:
                # The start is in the journal already. An intent that can't be written now is written later; the job
                # isn't lost.
                node.files.lay_out(name, job)
            except (FileNotFoundError, NotADirectoryError):
                pass  # its folder was removed: the agent knows whether it runs, and else it is lost
            except OSError as fault:
                self._delayed[name] = words_of(fault)
            except IntentTooLong as fault:
                ended = Exit(wall_ms(), 0, cause="failed", reason=f"it could not be started: {fault}")
                self._ended[name] = _finish(job.number, job.attempt, job.mark, ended, None, None)
                continue
            self._active[name] = job
        for node, names in self._by_node(jobs):
            if not node.connected:
                node.connect()  # and what should run is said when it answers
            else:
                for name in names:
                    node.send(Ensure(node.epoch, name))

    def _by_node(self, jobs: list[Job]) -> Iterator[tuple[NodeLink, list[str]]]:
        for node in self.nodes.values():
            if names := [attempt_name(job) for job in jobs if self._of(job) is node]:
                yield node, names

    def retry_unwritten(self) -> None:
        """Write again what could not be written before."""
        for name, cause in list(self._unwritten_stops.items()):
            self._write_stop(self._of(self._active.get(name)), name, cause)
        for name in list(self._delayed):
            job = self._active.get(name)
            if job is not None and not self._of(job).files.is_laid_out(name):
                del self._delayed[name]
                self.start([job])

    def stop(self, job: Job, cause: str) -> None:
        """Write the cause where its supervisor finds it, and have it told."""
        name = attempt_name(job)
        self._stops[name] = cause
        self._write_stop(self._of(job), name, cause)

    def _write_stop(self, node: NodeLink, name: str, cause: str) -> None:
        try:
            node.files.write_stop(name, cause)
            self._unwritten_stops.pop(name, None)
        except (FileNotFoundError, NotADirectoryError):  # its folder is gone: the message has to do alone
            self._unwritten_stops.pop(name, None)
        except OSError:
            self._unwritten_stops[name] = cause
        # The file comes first: a supervisor that misses the message still finds it.
        node.send(Stop(node.epoch, name, cause))

    def reports(self, now_ms: int) -> list[Finish]:
        """Ends that agents reported, in their order."""
        self._listen()
        # Reported at every call until it is settled: the journal may not have been able to take it, as on a full disk.
        return sorted(self._ended.values(), key=lambda one: (one.at_ms, one.job))

    def settled(self, report: Finish) -> None:
        """Forget an attempt; its folder is removed when there is time for it."""
        name = named_attempt(report.job, report.attempt, report.mark)
        node = self._of(self._active.get(name))
        for table in (self._active, self._ended, self._stops, self._unwritten_stops):
            table.pop(name, None)
        node.send(Settle(node.epoch, name))
        self._old.append((time.monotonic(), node, name))

    def sweep(self, running: set[str]) -> None:
        """Remove what is left on nodes of attempts that ended long ago."""
        for node in self.nodes.values():
            node.files.sweep(running, self.kept_s)

    # -- what is in the way ------------------------------------------------------------------------

    def notices(self) -> list[str]:
        """Why nothing can be started, or why a certain job cannot."""
        told = [words for node in self.nodes.values() for words in node.notices()]
        told += [f"{name.partition('-')[0]} cannot start yet: {why}" for name, why in self._delayed.items()]
        told += [f"{name.partition('-')[0]}: {what}" for name, what in self._noted.items()]
        return told

    def closed(self) -> str:
        """Why this machine's cores cannot be used; tries again, unless it did so a moment ago."""
        if self.home.refused:
            self.home.connect_again()
        elif not self.home.connected:
            self.home.connect()
        return self.home.refused

    def obstacle(self) -> str:
        """Another state folder whose jobs have this machine's cores, or why there is no agent."""
        return self.home.obstacle()

    @property
    def superseded(self) -> bool:
        """Whether another engine of this site has taken this one's place."""
        return any(node.superseded for node in self.nodes.values())

    def busy(self) -> bool:
        """True while attempts run or are about to."""
        return bool(self._active)


def _finish(job: int, attempt: int, mark: str, ended: Exit, inside: Inside | None, curve: Curve | None) -> Finish:
    # A part of it that had more than was ever seen of all of it at once was too short to be seen.
    own_peak = max((part.memory_peak_mib for part in inside.parts), default=0) if inside is not None else 0
    return Finish(
        at_ms=ended.ended_ms,
        job=job,
        attempt=attempt,
        exit=ended.exit,
        signal=ended.signal,
        cause=ended.cause,
        reason=ended.reason,
        use=Use(
            ended.cpu_ms, max(ended.memory_peak_mib, own_peak), ended.read_bytes, ended.written_bytes, ended.scratch_mib
        ),
        held_ms=ended.held_ms,
        mark=mark,
        inside=inside,
        curve=curve,
        host=this_host(),
        printed=tuple(
            FileMark(which, *ended.printed[which])
            for which in ("output", "errors")
            if len(ended.printed.get(which, ())) == 4
        ),
    )
