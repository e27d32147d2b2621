"""Runs jobs on this machine through its agent: the engine's side of the spool."""

import json
import secrets
import shutil
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

import lazy_quarry
from lazy_quarry.core.engine.commands import Finish
from lazy_quarry.core.job.curve import MOST_OF_TASK, MOST_POINTS, Curve, curve_of
from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import TASK_SPAN, Job, Use
from lazy_quarry.errors import StateFolderError
from lazy_quarry.files import ours
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.agent_link import AgentLink, Epochs, taken_words
from lazy_quarry.run.intent import attempt_name, intent_of, named_attempt
from lazy_quarry.run.local_files import LocalFiles
from lazy_quarry.run.node.attempt import Exit, IntentTooLong, read_claim, write_intent
from lazy_quarry.run.node.locks import others_here
from lazy_quarry.run.node.messages import Ask, Ensure, Notes, Over, Renew, Settle, Stop, Waits
from lazy_quarry.run.node.process import wall_ms
from lazy_quarry.run.this_host import this_host

QUIET_S = 1.0
"""The link to the agent is dropped when nothing ran or waited for so long."""
OTHERS_S = 5.0
"""How often it is looked whether other users' jobs have this machine's cores too."""
HOLDER_S = 1.0
"""How often it is looked whether another state folder has the cores."""
MOST_OLD = 2_000
"""Folders of settled attempts that may wait for a quiet moment to be removed."""
_LQ = """#!/bin/sh
case "$1" in
phase|ranks|spread)
    [ "$2" = --help ] || exec "{python}" -I -S -c \
        'import sys; sys.path.insert(0, "{root}"); from lazy_quarry.inside.main import leave; leave()' "$@" ;;
esac
exec "{python}" -m lazy_quarry "$@"
"""
"""What a job calls: its helpers without all that Python looks for at its start."""


class LocalRunner:
    """The runner of this machine.

    ``folder`` is the state folder of ``site``; core k of the plan is the k-th of ``processors``; ``epochs`` is the journal that its
    attempts are in. Folders of settled attempts stay for ``kept_s``. ``closing`` is told of the descriptor of
    the link to the agent before that is closed.
    """

    def __init__(
        self,
        folder: Path,
        processors: Sequence[int],
        epochs: Epochs,
        kept_s: int = 0,
        site: str = "",
        closing: Callable[[int], None] = lambda descriptor: None,
    ) -> None:
        self.folder, self.processors, self.journal, self.kept_s = folder, processors, epochs.identity, kept_s
        self.spool = folder / "spool"
        self.spool.mkdir(mode=0o700, exist_ok=True)
        self.spool.chmod(0o700)
        self.files = LocalFiles(self.spool)
        self._make_bin()
        self._active: dict[str, Job] = {}
        self._ended: dict[str, Finish] = {}
        self._delayed: dict[str, str] = {}
        """Why an attempt could not be started yet, by name."""
        self._stops: dict[str, str] = {}
        """Attempts that should stop, by name, and why; and those of which the file that says so could not be written yet."""
        self._unwritten_stops: dict[str, str] = {}
        self._noted: dict[str, str] = {}
        """What the agent found about an attempt that runs, by name."""
        self._old: list[tuple[float, Path]] = []
        """Folders of settled attempts, and since when they are, the oldest first."""
        self._others_seen: tuple[float, list[str]] = (0.0, [])
        self._holder_seen: tuple[float, str] = (-HOLDER_S, "")
        self._busy_at = time.monotonic()
        self._link = AgentLink(folder, site, epochs, self._greet, closing)

    def _make_bin(self) -> None:
        """A folder that holds just ``lq``, for the end of a job's PATH."""
        folder = self.folder / "bin"
        folder.mkdir(exist_ok=True)
        target = folder / "lq"
        text = _LQ.format(python=sys.executable, root=Path(lazy_quarry.__file__).parent.parent)
        try:
            known = ours.read_text(target)
        except OSError:
            known = ""
        if known != text:  # the folder may be older than this program's place
            ours.write_whole(target, text, durable=False, mode=0o700)

    # -- the agent ---------------------------------------------------------------------------------

    def fileno(self) -> int | None:
        """The link to the agent, to wait on; None while there is none."""
        return self._link.fileno()

    def tick(self, waiting: bool) -> None:
        """Keep an agent running while something runs or waits, and let it leave when nothing does."""
        now = time.monotonic()
        self._link.reap()
        # Removing folders competes with starting jobs for the disk, so it waits until nothing runs or many have
        # gathered.
        if not self._active or len(self._old) > MOST_OLD:
            due = [folder for at, folder in self._old[:50] if at + self.kept_s <= now]
            for folder in due:
                shutil.rmtree(folder, ignore_errors=True)
            del self._old[: len(due)]
        if self._active or waiting:
            self._busy_at = now
            self._link.connect_again()
        elif now - self._busy_at > QUIET_S:
            self._link.refused = ""
            self._link.drop()

    def _greet(self) -> None:
        """Tell an agent, which may be new, everything that should run and everything that should stop."""
        for name in self._active:
            self._link.send(Ensure(self._link.epoch, name))
        for name, cause in self._stops.items():
            self._link.send(Stop(self._link.epoch, name, cause))

    def _listen(self) -> None:
        for message in self._link.heard():
            match message:
                case Waits(name, reason):
                    self._delayed[name] = reason
                case Notes(name, reason):
                    self._noted[name] = reason
                case Ask(name, at) if name in self._active:
                    self._link.send(Renew(self._link.epoch, name, at))
                case Over(name, ended):
                    self._is_over(name, ended)

    def _is_over(self, name: str, ended: Exit) -> None:
        if ended.journal in ("", self.journal):  # else it is of one that is not here any more
            self._delayed.pop(name, None)
            self._noted.pop(name, None)
            number, attempt, *mark = name.split("-")
            told = self.files.inside_at_end(name, ended.ended_ms)
            most = MOST_OF_TASK if int(number) >= TASK_SPAN else MOST_POINTS
            curve = curve_of(self.files.samples_of(name), most)
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
        try:
            for attempt in attempts:
                (self.spool / named_attempt(*attempt)).mkdir(mode=0o700, exist_ok=True)
        except OSError as fault:
            raise StateFolderError(f"nothing can start: {self.spool} cannot be written ({fault.strerror})") from None

    def start(self, jobs: list[Job]) -> None:
        """Write the attempts into the spool and tell the agent."""
        for job in jobs:
            name = attempt_name(job)
            try:
                # The start is in the journal already. An intent that can't be written now is written later; the job
                # isn't lost.
                intent = intent_of(job, self.folder, self.processors, self.journal)
                write_intent(self.spool / name, intent, job.origin.script)
            except (FileNotFoundError, NotADirectoryError):
                pass  # its folder was removed: the agent knows whether it runs, and else it is lost
            except OSError as fault:
                self._delayed[name] = words_of(fault)
            except IntentTooLong as fault:
                ended = Exit(wall_ms(), 0, cause="failed", reason=f"it could not be started: {fault}")
                self._ended[name] = _finish(job.number, job.attempt, job.mark, ended, None, None)
                continue
            self._active[name] = job
        if jobs and not self._link.connected:
            self._link.connect()
        else:
            for job in jobs:
                self._link.send(Ensure(self._link.epoch, attempt_name(job)))

    def retry_unwritten(self) -> None:
        """Write again what could not be written before."""
        for name, cause in list(self._unwritten_stops.items()):
            self._write_stop(name, cause)
        for name in list(self._delayed):
            job = self._active.get(name)
            if job is not None and not (self.spool / name / "intent.json").exists():
                del self._delayed[name]
                self.start([job])

    def stop(self, job: Job, cause: str) -> None:
        """Write the cause into the attempt's folder and wake its supervisor."""
        name = attempt_name(job)
        self._stops[name] = cause
        self._write_stop(name, cause)

    def _write_stop(self, name: str, cause: str) -> None:
        try:
            ours.write_whole(self.spool / name / "stop", json.dumps({"cause": cause}))
            self._unwritten_stops.pop(name, None)
        except (FileNotFoundError, NotADirectoryError):  # its folder is gone: the message has to do alone
            self._unwritten_stops.pop(name, None)
        except OSError:
            self._unwritten_stops[name] = cause
        # The file comes first: a supervisor that misses the message still finds it.
        self._link.send(Stop(self._link.epoch, name, cause))

    def reports(self, now_ms: int) -> list[Finish]:
        """Ends that the agent reported, in their order."""
        self._listen()
        # Reported at every call until it is settled: the journal may not have been able to take it, as on a full disk.
        return sorted(self._ended.values(), key=lambda one: (one.at_ms, one.job))

    def settled(self, report: Finish) -> None:
        """Forget an attempt; its folder is removed when there is time for it."""
        name = named_attempt(report.job, report.attempt, report.mark)
        for table in (self._active, self._ended, self._stops, self._unwritten_stops):
            table.pop(name, None)
        self._link.send(Settle(self._link.epoch, name))
        self._old.append((time.monotonic(), self.spool / name))

    def sweep(self, running: set[str]) -> None:
        """Remove what is left in the spool of attempts that ended long ago."""
        for folder in self.spool.iterdir():
            # A supervisor that is alive keeps its folder, whatever the journal says: it still writes there.
            if folder.is_dir() and folder.name not in running and time.time() - folder.stat().st_mtime >= self.kept_s:
                with suppress(OSError):  # where that can't be told now, it stays until the next start
                    claim = read_claim(folder)
                    if claim is None or not claim.alive():
                        shutil.rmtree(folder, ignore_errors=True)

    def notices(self) -> list[str]:
        """Why nothing can be started, or why a certain job cannot."""
        told = [self._link.refused] if self._link.refused else []
        told += [f"{name.partition('-')[0]} cannot start yet: {why}" for name, why in self._delayed.items()]
        told += [f"{name.partition('-')[0]}: {what}" for name, what in self._noted.items()]
        if others := self._others():
            told.append(f"jobs of {', '.join(others)} use this machine's cores too; nobody divides them between users")
        return told

    def _others(self) -> list[str]:
        now = time.monotonic()
        if now - self._others_seen[0] > OTHERS_S:
            self._others_seen = now, others_here()
        return self._others_seen[1]

    def closed(self) -> str:
        """Why this machine's cores cannot be used; tries again, unless it did so a moment ago."""
        if self._link.refused:
            self._link.connect_again()
        elif not self._link.connected:
            self._link.connect()
        return self._link.refused

    def obstacle(self) -> str:
        """Another state folder whose jobs have this machine's cores, or why there is no agent."""
        now = time.monotonic()
        if now - self._holder_seen[0] > HOLDER_S:
            self._holder_seen = now, taken_words(self.spool) or ("" if self._link.connected else self._link.refused)
        return self._holder_seen[1]

    @property
    def superseded(self) -> bool:
        """Whether another engine of this site has taken this one's place."""
        return self._link.superseded

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
