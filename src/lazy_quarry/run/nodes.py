"""Runs jobs on nodes, by messages to their agents: what each attempt is at, and what is still to be said or written."""

import os
import secrets
import time
from collections.abc import Mapping
from functools import partial

from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.curve import MOST_OF_TASK, MOST_POINTS, curve_of
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.job import TASK_SPAN, Job, Use
from lazy_quarry.core.job.node_use import NodeUse, sum_of
from lazy_quarry.core.values import replace
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.files_of_nodes import FilesOfNodes
from lazy_quarry.run.intent import attempt_name, attempt_of, named_attempt, part_names, part_of
from lazy_quarry.run.node.attempt import Exit, IntentTooLong
from lazy_quarry.run.node.messages import Ask, Ensure, Has, Notes, Over, Renew, Settle, Stop, Waits
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.node_link import LaidOut, NodeLink
from lazy_quarry.run.runner import Attempt, HostState
from lazy_quarry.run.this_node import ThisNode

QUIET_S = 1.0
"""Agents are let go when nothing ran or waited for so long."""


def lease_margin_s() -> float:
    """Longer than a lease and a job's grace by so much, and its supervisor has stopped it; tests set ``LQ_LEASE_MARGIN``."""
    return float(os.environ.get("LQ_LEASE_MARGIN", "60"))


PART_OVER = "part-over"
"""The cause of a stop of the parts of an attempt that are left when one is over."""
MOST_OLD = 2_000
"""Folders of settled attempts that may wait for a quiet moment to be removed."""


class Nodes:
    """The runner of a site's nodes, each by its name.

    ``home`` is the machine that the engine runs on, whether it is one of them or not; jobs are there too whose node is not known by
    its name any more, as after the machine got another. ``journal`` is the identity of the journal that attempts are in. Folders
    of settled attempts stay for ``kept_s``.
    """

    def __init__(self, nodes: Mapping[str, NodeLink], home: ThisNode, journal: str, kept_s: int = 0) -> None:
        self.nodes, self.home, self.journal, self.kept_s = nodes, home, journal, kept_s
        self._all = [*nodes.values(), *([] if home in nodes.values() else [home])]
        self.files = FilesOfNodes({name: node.files for name, node in nodes.items()}, home.files)
        self._active: dict[str, Job] = {}
        """The job of each part of an attempt that runs, by the part's name."""
        self._over: dict[str, dict[int, Exit]] = {}
        """The ends of parts, by the attempt's name and the part's index."""
        self._ended: dict[str, Finish] = {}
        """Attempts of which all parts are over, by the attempt's name."""
        self._to_gather: set[str] = set()
        """Attempts that are over, and whose parts are still to be read."""
        self._delayed: dict[str, str] = {}
        """Why a part could not be started yet, by name."""
        self._stops: dict[str, str] = {}
        """Parts that should stop, by name, and why; and those of which the file that says so could not be written yet."""
        self._unwritten_stops: dict[str, str] = {}
        self._noted: dict[str, str] = {}
        """Notes of agents about attempts that run, by name."""
        self._old: list[tuple[float, NodeLink, str]] = []
        """Settled attempts, and since when they are, the oldest first."""
        self._lease_margin_s = lease_margin_s()
        self._busy_at = time.monotonic()
        for node in self._all:
            node.greeting(partial(self._greet, node))

    def _of(self, name: str) -> NodeLink:
        """The node of a part of an attempt that runs."""
        job, (_, part) = self._active.get(name), part_of(name)
        return self.nodes.get(job.allocations[part].node, self.home) if job is not None else self.home

    # -- the agents --------------------------------------------------------------------------------

    def descriptors(self) -> set[int]:
        """Descriptors to wait on: when one of these can be read, there is something to listen to."""
        return {each for node in self._all for each in node.descriptors()}

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
        for node in self._all:
            node.keep(self._is_wanted(node, waiting))
            node.files.bring_left(self._active)
            if not self._active and not waiting and now - self._busy_at > QUIET_S:
                node.leave()

    def _is_wanted(self, node: NodeLink, waiting: bool) -> bool:
        """True when there should be an agent: something runs or waits; where the engine's machine is no node, that is there."""
        if node is self.home and node not in self.nodes.values():
            return any(self._of(name) is node for name in self._active)
        return bool(self._active) or waiting

    def _greet(self, node: NodeLink) -> None:
        """Tell an agent, which may be new, everything that should run there and everything that should stop."""
        here = [name for name in self._active if self._of(name) is node]
        for name in here:
            node.send(Ensure(node.epoch, name))
        for name in here:
            if cause := self._stops.get(name):
                node.send(Stop(node.epoch, name, cause))

    def _listen(self) -> None:
        for node in self._all:
            for message in node.heard():
                match message:
                    case LaidOut(name, wrong):
                        self._was_laid_out(node, name, wrong)
                    case Has(name):
                        if name not in self._active:  # it was given up as lost, and goes on all the same
                            node.send(Stop(node.epoch, name, "lost"))
                    case Waits(name, reason):
                        self._delayed[name] = reason
                    case Notes(name, reason):
                        self._noted[name] = reason
                    case Ask(name, at):
                        if name in self._active:
                            node.send(Renew(node.epoch, name, at))
                    case Over(name, ended):
                        self._is_over(name, ended if node is self.home else _by_our_clock(ended, node.ahead_ms))
        for attempt in list(self._to_gather):
            self._gather(attempt)

    def _is_over(self, name: str, ended: Exit) -> None:
        if ended.journal in ("", self.journal):  # else it is of one that is not here any more
            self._delayed.pop(name, None)
            self._noted.pop(name, None)
            attempt, part = part_of(name)
            over = self._over.setdefault(attempt, {})
            over[part] = ended
            missing = [other for other in self._names(attempt) if part_of(other)[1] not in over]
            for other in missing:
                if other not in self._stops:  # an attempt is over when a part of it is
                    self._stop(other, PART_OVER)
            if not missing and attempt not in self._ended:
                self._to_gather.add(attempt)
                self._gather(attempt)

    def _gather(self, attempt: str) -> None:
        """Have its end recorded, as soon as what it told of itself is at hand."""
        over = self._over.get(attempt)
        if over is None:
            self._to_gather.discard(attempt)
        elif self._of(attempt).files.gathered(attempt, max(one.ended_ms for one in over.values())):
            self._to_gather.discard(attempt)
            self._ended[attempt] = self._finish(attempt, over)

    def _names(self, attempt: str) -> list[str]:
        """The names of the parts of an attempt; of one that doesn't run, of those that were told of."""
        if job := self._active.get(attempt):
            return part_names(job)
        number, tried, mark = attempt_of(attempt)
        return [named_attempt(number, tried, mark, part) for part in self._over.get(attempt, (0,))]

    def _finish(self, attempt: str, over: Mapping[int, Exit]) -> Finish:
        """The end of an attempt from those of its parts. The first that ended by itself says how; the use is that of all."""
        number, tried, mark = attempt_of(attempt)
        own = [one for one in over.items() if one[1].cause != PART_OVER] or list(over.items())
        decides = min(own, key=lambda one: (one[1].ended_ms, one[0]))[1]
        node, last = self._of(attempt), max(one.ended_ms for one in over.values())
        files = node.files
        inside = files.inside_at_end(attempt, last)
        most = MOST_OF_TASK if number >= TASK_SPAN else MOST_POINTS
        # A part of it that had more than was ever seen of all of it at once was too short to be seen.
        own_peak = max((part.memory_peak_mib for part in inside.parts), default=0) if inside is not None else 0
        use = sum_of([_use(one) for one in over.values()])
        first, job = over.get(0, decides), self._active.get(attempt)
        held = [one.held_ms for one in over.values() if one.held_ms is not None]
        return Finish(
            at_ms=last,
            job=number,
            attempt=tried,
            exit=decides.exit,
            signal=decides.signal,
            cause=decides.cause,
            reason=decides.reason,
            use=replace(use, memory_peak_mib=max(use.memory_peak_mib, own_peak)),
            held_ms=max(held) if len(held) == len(over) else None,
            mark=mark,
            inside=inside,
            curve=curve_of(files.samples_of(attempt), most),
            host=node.host,
            printed=self._printed(files.printed_at_end(attempt), first),
            parts=()
            if job is None or len(over) < 2
            else tuple(
                NodeUse(job.allocations[part].node, _use(one), one.exit, one.signal)
                for part, one in sorted(over.items())
            ),
        )

    @staticmethod
    def _printed(here: tuple[FileMark, ...] | None, first: Exit) -> tuple[FileMark, ...]:
        """Marks of its output as it was left: where it was made, or here where it was brought back."""
        if here is not None:
            return here
        return tuple(
            FileMark(which, *first.printed[which])
            for which in ("output", "errors")
            if len(first.printed.get(which, ())) == 4
        )

    # -- the protocol ------------------------------------------------------------------------------

    def mark(self) -> str:
        """A new mark for a submission."""
        return secrets.token_hex(6)

    def prepare(self, attempts: list[Attempt]) -> frozenset[int]:
        """Make the folders of attempts that are about to be recorded as started; returns the jobs for which that takes longer.

        So a folder that isn't there says that it was removed, not that the attempt never ran. Raises
        :class:`StateFolderError` when that fails, and then nothing may start.
        """
        names: dict[str, list[str]] = {}
        for one in attempts:
            for part, at in enumerate(one.nodes):
                names.setdefault(at, []).append(named_attempt(one.job, one.number, one.mark, part))
        missing = set[str]()
        for at, some in names.items():
            node = self.nodes.get(at, self.home)
            missing |= set(some) if self._is_shut(node) else node.files.prepare(some)
        return frozenset(attempt_of(part_of(name)[0])[0] for name in missing)

    def _is_shut(self, node: NodeLink) -> bool:
        """True for this machine where another state folder has its cores, and there are other nodes all the same."""
        return node is self.home and not self._is_alone and bool(node.refused)

    @property
    def _is_alone(self) -> bool:
        """True when the engine's machine is the one node."""
        return list(self.nodes.values()) == [self.home]

    def start(self, jobs: list[Job]) -> None:
        """Lay the attempts out and tell the agents."""
        told: dict[NodeLink, list[str]] = {}
        for job in jobs:
            names = part_names(job)
            try:
                for part, name in enumerate(names):
                    self._active[name] = job
                    if self._lay_out(job, part):
                        told.setdefault(self._of(name), []).append(name)
            except IntentTooLong as fault:
                self._never_starts(job, fault)
        for node, some in told.items():
            if not node.connected:
                node.connect()  # and what should run is said when it answers
            else:
                for name in some:
                    if name in self._active:
                        node.send(Ensure(node.epoch, name))

    def _never_starts(self, job: Job, fault: IntentTooLong) -> None:
        ended = Exit(wall_ms(), 0, cause="failed", reason=f"it could not be started: {fault}")
        names = part_names(job)
        for name in names:
            self._active.pop(name, None)
        self._ended[names[0]] = self._finish(names[0], {0: ended})

    def _lay_out(self, job: Job, part: int) -> bool:
        """Write what a part is to run; False while that is being done. The start is in the journal: what can't be written now is
        written later.

        Raises :class:`IntentTooLong`.
        """
        name = attempt_name(job, part)
        try:
            return self._of(name).files.lay_out(job, part)
        except OSError as fault:
            self._could_not(name, fault)
            return True

    def _could_not(self, name: str, fault: OSError) -> None:
        """It could not be written what a part is to run."""
        # Where its folder was removed, the agent knows whether it runs, and else it is lost.
        if not isinstance(fault, (FileNotFoundError, NotADirectoryError)):
            self._delayed[name] = "" if isinstance(fault, ConnectionError) else words_of(fault)

    def _was_laid_out(self, node: NodeLink, name: str, wrong: OSError | IntentTooLong | None) -> None:
        """It was written what a part is to run, some time after that was asked for."""
        job = self._active.get(name)
        if job is None:
            return
        if isinstance(wrong, IntentTooLong):
            self._never_starts(job, wrong)
            return
        if wrong is not None:
            self._could_not(name, wrong)
        if name not in self._delayed:
            node.send(Ensure(node.epoch, name))

    def retry_unwritten(self) -> None:
        """Write again what could not be written before."""
        for name, cause in list(self._unwritten_stops.items()):
            self._write_stop(name, cause)
        for name in list(self._delayed):
            job = self._active.get(name)
            if job is not None and not self._of(name).files.is_laid_out(name):
                del self._delayed[name]
                self.start([job])

    def stop(self, job: Job, cause: str) -> None:
        """Write the cause where its supervisor finds it, and have it told."""
        for name in part_names(job):
            self._stop(name, cause)

    def _stop(self, name: str, cause: str) -> None:
        self._stops[name] = cause
        node = self._of(name)
        if cause == "lost" and (node.quiet_since_ms is not None or not node.connected):
            # Nobody there can say how it ended. If it goes on all the same, it is stopped as soon as its node answers.
            self._is_over(name, Exit(wall_ms(), None, cause="lost", reason="its node was given up as lost"))
            return
        self._write_stop(name, cause)

    def _write_stop(self, name: str, cause: str) -> None:
        node = self._of(name)
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
        attempt = named_attempt(report.job, report.attempt, report.mark)
        names = self._names(attempt)
        for name in names:
            node = self._of(name)
            node.send(Settle(node.epoch, name))
            self._old.append((time.monotonic(), node, name))
            for table in (self._stops, self._unwritten_stops):
                table.pop(name, None)
        for name in names:
            self._active.pop(name, None)
        self._over.pop(attempt, None)
        self._ended.pop(attempt, None)

    def sweep(self, running: set[str]) -> None:
        """Remove what is left on nodes of attempts that ended long ago."""
        for node in self._all:
            node.files.sweep(running, self.kept_s)

    # -- what is in the way ------------------------------------------------------------------------

    def notices(self) -> list[str]:
        """Why nothing can be started, or why a certain job cannot."""
        told = [words for node in self._all for words in node.notices()]
        for name, why in self._delayed.items():
            if why:
                where = (
                    ""
                    if self._of(name) is self.home
                    else f" on {self._active[name].allocations[part_of(name)[1]].node}"
                )
                told.append(f"{name.partition('-')[0]} cannot start{where} yet: {why}")
        told += [f"{name.partition('-')[0]}: {what}" for name, what in self._noted.items()]
        return told

    def closed(self) -> str:
        """Why this machine's cores cannot be used; tries again, unless it did so a moment ago."""
        if not self._is_alone:
            return ""  # what can't start here can start elsewhere
        if self.home.refused:
            self.home.connect_again()
        elif not self.home.connected:
            self.home.connect()
        return self.home.refused

    def obstacle(self) -> str:
        """Another state folder whose jobs have this machine's cores, or why there is no agent."""
        return self.home.obstacle() if self._is_alone else ""

    def answering(self) -> dict[str, int | None]:
        """Nodes that answer, None, and that don't, since when; those of which that isn't known yet are left out.

        This machine doesn't where another state folder has its cores and there are other nodes to go on with.
        """
        found: dict[str, int | None] = {}
        for name, node in self.nodes.items():
            if self._is_shut(node):
                found[name] = wall_ms()
            elif node.quiet_since_ms is not None or node.answers:
                found[name] = node.quiet_since_ms
        return found

    def sees(self, folder: str) -> dict[str, bool]:
        """Nodes by whether they see a folder of this machine."""
        found = {name: node.sees(folder) for name, node in self.nodes.items()}
        return {name: sees for name, sees in found.items() if sees is not None}

    def hosts(self) -> list[HostState]:
        """The nodes that are hosts of their own."""
        return [found for node in self.nodes.values() if (found := node.state()) is not None]

    def lapsed(self, job: Job) -> str:
        """The node on which a job's lease is over for certain; empty for none."""
        for one in job.allocations:
            node = self.nodes.get(one.node)
            if node is None or node.lease_s is None:
                continue
            if node.silent_s > node.lease_s + job.request.grace_s + self._lease_margin_s:
                return one.node
        return ""

    def unlike(self) -> dict[str, str]:
        """Nodes that have less than the site file says, each with words for that."""
        return {name: node.unlike for name, node in self.nodes.items() if node.unlike}

    @property
    def superseded(self) -> bool:
        """True when another engine of this site has taken this one's place."""
        return any(node.superseded for node in self._all)

    def close(self) -> None:
        """Leave the nodes; what runs there goes on."""
        for node in self._all:
            node.close()

    def busy(self) -> bool:
        """True while attempts run or are about to."""
        return bool(self._active)


def _by_our_clock(ended: Exit, ahead_ms: int) -> Exit:
    """An end on a host whose clock is so far ahead; it was not after now, however that clock jumped."""
    return replace(ended, ended_ms=min(ended.ended_ms - ahead_ms, wall_ms()))


def _use(ended: Exit) -> Use:
    """The use of a part."""
    return Use(ended.cpu_ms, ended.memory_peak_mib, ended.read_bytes, ended.written_bytes, ended.scratch_mib)
