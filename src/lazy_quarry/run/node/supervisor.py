"""The process above one job, forked from the agent.

It claims the attempt, starts the script in a session of its own, keeps its walltime, memory and cores,
stops every process of it, writes how it ended, and ends last. It needs nobody else: agent, engine and
application may all be gone.
"""

from __future__ import annotations

import errno
import json
import math
import os
import signal
import stat
from contextlib import suppress
from pathlib import Path
from typing import NoReturn

from lazy_quarry.files import given, ours
from lazy_quarry.files.kinds import lack_of
from lazy_quarry.run.node import groups
from lazy_quarry.run.node.attempt import EXIT_BYTES, Exit, Intent, exit_file
from lazy_quarry.run.node.inbox import Inbox
from lazy_quarry.run.node.measure import Measure, folder_mib
from lazy_quarry.run.node.messages import Renew, Stop
from lazy_quarry.run.node.process import become_subreaper, boottime, descendants, identify, living, send, wall_ms
from lazy_quarry.run.node.registry import Claimed, register
from lazy_quarry.run.node.staging import Missing, Outside, Stopped, copy_in, copy_out
from lazy_quarry.run.node.start import Start, Unstartable, give_to_group

PATIENCE_S = 60.0
"""Seconds after walltime and grace at which an attempt is ended by the agent, if its own supervisor has not done it."""
_WAKE = {signal.SIGCHLD, signal.SIGIO, signal.SIGTERM, signal.SIGINT, signal.SIGHUP}


def supervise(folder: Path, intent: Intent) -> NoReturn:
    """Be the supervisor of one attempt, from claim to exit file; called in a process just forked."""
    code = 0
    try:
        signal.pthread_sigmask(signal.SIG_BLOCK, _WAKE)  # before the claim: a stop that comes early is kept, not lost
        os.setsid()
        become_subreaper()
        record = _open_exit(folder)
        os.makedirs(intent.staging.scratch, exist_ok=True)  # as long as a full disk can still refuse the start
        inbox = Inbox(folder)
        try:
            if _claim(folder, intent):
                groups.enter(folder.name)
                Supervisor(folder, intent, record, inbox).run()
        finally:
            inbox.close()
    except OSError as fault:
        code = 1
        with suppress(OSError):
            ours.write(f"{folder}/refused", fault.strerror or str(fault))
    finally:
        os._exit(code)  # not sys.exit: the agent's own clean-up must not run in its child


def _open_exit(folder: Path) -> int:
    """The exit file with room for what will be written; on a full disk this fails, before anything ran."""
    fd = ours.opened(exit_file(folder, os.getpid()), os.O_RDWR | os.O_CREAT | os.O_TRUNC)
    if os.write(fd, b" " * EXIT_BYTES) < EXIT_BYTES:
        raise OSError(errno.ENOSPC, "No space left on device")
    return fd


def _claim(folder: Path, intent: Intent) -> bool:
    """Take the attempt, exclusively; False when another supervisor has it."""
    own = identify(os.getpid())
    mine, name = f"{folder}/claim.{own.pid}", f"{folder}/claim.json"
    ours.write(mine, json.dumps({**vars(own), "journal": intent.journal, "mark": intent.mark}))
    try:
        os.link(mine, name)  # this fails where the name exists, so one claim wins, with all its text
    except FileExistsError:
        os.unlink(exit_file(folder, own.pid))
        return False
    finally:
        os.unlink(mine)
    # On disk before anything runs: after a power cut it tells that it ran.
    for fd in (ours.opened(name), os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)):
        try:
            os.fsync(fd)
        finally:
            os.close(fd)
    limits, waits_s = intent.limits, intent.lease_s or 0.0
    register(folder, Claimed(own, boottime() + waits_s + limits.walltime_s + limits.grace_s + PATIENCE_S))
    return True


class Supervisor:
    """Supervises one claimed attempt. The first cause to stop it is the one recorded."""

    def __init__(self, folder: Path, intent: Intent, record: int, inbox: Inbox) -> None:
        self.folder, self.intent, self.record, self.inbox = folder, intent, record, inbox
        self.cause: str | None = None
        self.reason = ""
        self.status: int | None = None
        """The wait status of the script, once it has ended."""
        self.main = 0
        """The script's process, or 0."""
        self.began = self._since = boottime()
        self.measure = Measure(folder, intent.limits.memory_mib, self.began)
        self._stop_at: float | None = None
        """When it was told to end."""
        self._warned = self._signalled = False
        self._told = ""
        """Why it was told to stop."""
        self._leased = -math.inf
        """From when its lease counts."""

    def run(self) -> None:
        """Start the job, see it to its end, and record that."""
        try:
            self._start()
        except Unstartable as fault:
            self.cause, self.reason = "failed", str(fault)
        else:
            try:
                self._watch()
            except OSError as fault:  # nothing that goes wrong from here on may leave the job without an end
                self._kill()
                self.cause, self.reason = self.cause or "lost", f"its supervisor could not go on: {fault.strerror}"
            self._bring_back()
        self._finish()

    # -- starting ----------------------------------------------------------------------------------

    def _start(self) -> None:
        if self._told_to_stop():
            self.cause = self._stop_cause()
            return
        if not self._wait_for_lease():
            return
        start = Start(self.folder, self.intent)
        start.open_files()
        # The clock begins before the copying: staging takes the job's own time, not the site's.
        self.began = boottime()
        if self._stage_in():
            self.main = start.spawn(self.intent.limits.walltime_s - (boottime() - self.began))

    def _wait_for_lease(self) -> bool:
        """Begin only when an engine has been asked and lets it, for a start that comes late is answered by none."""
        lease, since = self.intent.lease_s, boottime()
        while lease is not None:
            if self._told_to_stop():
                self.cause = self._stop_cause()
                return False
            if not self._lease_is_over(boottime()):
                return True
            if boottime() > since + lease:
                self.cause, self.reason = "lost", "its site was out of reach before it began"
                return False
            self._sleep(0.05)
        return True

    def _stage_in(self) -> bool:
        """Copy what the job needs to its scratch folder; that counts as walltime. False when it was stopped meanwhile."""
        staging, directory = self.intent.staging, self.intent.paths.directory

        def go_on() -> bool:
            return not self._told_to_stop() and boottime() - self.began < self.intent.limits.walltime_s

        try:
            copy_in(staging.into, directory, staging.scratch, go_on)
        except Stopped:
            self.cause = self._stop_cause() if self._told_to_stop() else "overtime"
            self.reason = "while its files were copied in"
            return False
        except Missing as fault:
            raise Unstartable(f"{fault} cannot be staged: it is not in {directory}") from None
        except OSError as fault:
            raise Unstartable(f"its files cannot be staged: {fault.filename or ''} {fault.strerror}") from None
        return True

    def _told_to_stop(self) -> bool:
        for message in self.inbox.messages():
            if isinstance(message, Stop):
                self._told = self._told or message.cause
            elif isinstance(message, Renew) and message.at > self._since:
                # An answer to what was asked before it came into being is about another supervisor of this attempt.
                self._leased = max(self._leased, min(message.at, boottime()))
        if self._told or os.path.exists(f"{self.folder}/stop"):
            return True
        # A job may have removed this folder. Then the signal that says "look" has to do alone.
        return self._signalled and not self.folder.is_dir()

    def _sleep(self, most_s: float) -> None:
        """Wait until something wakes it, and note whether that says to look."""
        woken = signal.sigtimedwait(_WAKE, most_s)
        self._signalled = self._signalled or (woken is not None and woken.si_signo == signal.SIGTERM)

    def _stop_cause(self) -> str:
        return self._told or str((ours.glance_json(f"{self.folder}/stop") or {}).get("cause", "cancelled"))

    # -- watching ----------------------------------------------------------------------------------

    def _watch(self) -> None:
        if self.main == 0:
            return
        pause = 0.02
        if self.intent.limits.scratch_mib:
            self.measure.watch_scratch(self.intent.staging.scratch)
        # Most short jobs are over before a first look would be.
        signal.sigtimedwait(_WAKE - {signal.SIGTERM}, min(pause, self._until_next()))
        while True:
            if self._reap():
                return  # no child is left, and so nothing: under a subreaper whatever loses its parent becomes a child
            try:
                if self._all_over():
                    return
            except OSError as fault:
                if not lack_of(fault):
                    raise
                # What runs can't be told at this moment: it runs on, and is looked at again.
            # A child's end and a stop both wake it. The pause between grows, because most jobs need no close look; near
            # the memory limit it stays short, because a process can take the rest within milliseconds.
            self._sleep(min(pause, self._until_next()))
            near_limit = self.measure.peak_mib * 2 >= self.intent.limits.memory_mib
            pause = min(pause * 1.5, 0.03 if near_limit else 0.2)

    def _all_over(self) -> bool:
        """Look at what runs, and stop what must stop; True when nothing is left."""
        # Only zombies may be left. They are reaped before the second look, because their children then become this
        # process's own.
        below = descendants(os.getpid())
        if not living(below):
            self._reap()
            if not descendants(os.getpid()):
                return True
        self._look(below)
        if self.status is not None and self._stop_at is None:
            left = living(below)
            if left:  # the script has ended; what it left behind is stopped too
                self.reason = self.reason or f"{len(left)} of its processes were left behind and stopped"
                self._stop(below)
        return False

    def _reap(self) -> bool:
        """Take the ends of children; True when there are no children any more."""
        while True:
            try:
                pid, status, _ = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                return True
            if pid == 0:
                return False
            if pid == self.main:
                self.status = status

    def _until_next(self) -> float:
        """Seconds to the next deadline."""
        now = boottime()
        if self._stop_at is not None:
            return max(0.005, min(0.5, self._stop_at + self._patience_s - now))
        return max(0.005, min(0.5, self.began + self.intent.limits.walltime_s - now))

    def _look(self, below: list[int]) -> None:
        limits, now = self.intent.limits, boottime()
        memory = self.measure.memory_mib(below)
        # Memory first while it is stopping: a job that ignores SIGTERM must not use the grace to fill the node.
        if self._stop_at is not None:
            if now - self._stop_at >= self._patience_s or memory > limits.memory_mib:
                self._kill()
        elif self._told_to_stop():
            self.cause = self._stop_cause()
            self._stop(below)
        elif self._lease_is_over(now):
            self.cause, self.reason = "lost", f"its site was out of reach for {self.intent.lease_s:g} seconds"
            self._stop(below)
        elif memory > limits.memory_mib or self._overfilled():
            self.cause = "overmemory"
            self._kill()
        elif limits.scratch_mib and self.measure.scratch_mib > limits.scratch_mib:
            self.cause = "failed"
            self.reason = f"it had {self.measure.scratch_mib} MiB in scratch, and asked for {limits.scratch_mib} MiB"
            self._stop(below)
        elif now - self.began >= limits.walltime_s and self.status is None:
            self.cause = "overtime"
            self._stop(below)
        elif limits.warn_s and not self._warned and now - self.began >= limits.walltime_s - limits.warn_s:
            self._warned = True
            send([self.main], signal.SIGUSR1)
        self.measure.write_live(below, memory, now)

    def _overfilled(self) -> bool:
        """True when the kernel has ended one of its processes for its memory, before that could be seen here."""
        if not groups.overfilled(self.folder.name):
            return False
        self.measure.peak_mib = max(self.measure.peak_mib, self.intent.limits.memory_mib)
        return True

    def _lease_is_over(self, now: float) -> bool:
        return self.intent.lease_s is not None and now - self._leased > self.intent.lease_s

    @property
    def _patience_s(self) -> float:
        """Between SIGTERM and SIGKILL: the grace, half of it where results must be copied back in the rest."""
        grace = self.intent.limits.grace_s
        return grace / 2 if self.intent.staging.out else grace

    def _stop(self, below: list[int]) -> None:
        """SIGTERM to every process, and SIGCONT, for those that are stopped would not see it."""
        self._stop_at = boottime()
        send(below, signal.SIGTERM)
        send(below, signal.SIGCONT)
        if self.intent.limits.grace_s == 0:
            self._kill()

    def _kill(self) -> None:
        """SIGKILL until nothing is left. First all are frozen, so that none forks away meanwhile."""
        self._stop_at = self._stop_at if self._stop_at is not None else boottime()
        frozen: set[int] = set()
        # A process that is frozen cannot fork, so the second pass finds only what forked before it was frozen.
        for _ in range(50):
            fresh = set(self._living()) - frozen
            if not fresh:
                break
            send(list(fresh), signal.SIGSTOP)
            frozen |= fresh
        while left := self._living():
            send(left, signal.SIGKILL)
            self._reap()
            signal.sigtimedwait({signal.SIGCHLD}, 0.01)
        self._reap()

    def _living(self) -> list[int]:
        """Processes that live below this one, as soon as that can be told."""
        while True:
            try:
                return living(descendants(os.getpid()))
            except OSError as fault:
                if not lack_of(fault):
                    raise
                signal.sigtimedwait({signal.SIGCHLD}, 0.05)

    # -- ending ------------------------------------------------------------------------------------

    @property
    def _succeeded(self) -> bool:
        return self.cause is None and self.status == 0

    def _bring_back(self) -> None:
        """Copy results back, however it ended, in what is left of walltime and grace."""
        staging, limits = self.intent.staging, self.intent.limits
        if not self.main or not staging.out:
            return
        until = self.began + limits.walltime_s + limits.grace_s
        if self._stop_at is not None:
            until = min(until, self._stop_at + max(1, limits.grace_s))
        try:
            copied, missing = copy_out(
                staging.out, staging.scratch, self.intent.paths.directory, lambda: boottime() < until
            )
        except Stopped:
            self._spare("there was no time left to bring all results back")
            return
        except Outside as fault:
            self._spare(f"results could not be brought back: {fault}")
            return
        except OSError as fault:
            self._spare(f"results could not be brought back: {fault.strerror}")
            return
        for path in copied:
            give_to_group(path, self.intent.results.group)
        if missing and self._succeeded:
            self.cause, self.reason = "failed", f"it should have left {missing[0]} in its scratch folder"

    def _spare(self, problem: str) -> None:
        """Keep results that could not be copied back where the person can find them."""
        staging = self.intent.staging
        with suppress(OSError):
            os.makedirs(os.path.dirname(staging.spared), exist_ok=True)
            os.rename(staging.scratch, staging.spared)
            problem += f"; they are in {staging.spared}"
        if self._succeeded:
            self.cause = "failed"
        self.reason = f"{self.reason}; {problem}" if self.reason else problem

    def _finish(self) -> None:
        """Record how it ended: in place, in the room kept from the start, so that a full disk cannot lose it."""
        held_ms = round((boottime() - self.began) * 1000)
        code = name = None
        if self.status is not None and os.WIFSIGNALED(self.status):
            name = _signal_name(os.WTERMSIG(self.status))
        elif self.status is not None:
            code = os.WEXITSTATUS(self.status)
        # Before the record, since a missing result turns a success into a failure.
        if self.cause is None and self._overfilled():  # in its last moment
            self.cause = "overmemory"
        if self._succeeded:
            self._check_expected()
        if self.main:
            self.measure.note_largest()
        read, written = self.measure.bytes_moved([])
        ended = Exit(
            ended_ms=wall_ms(),
            held_ms=held_ms,
            exit=code,
            signal=name,
            cause=self.cause,
            reason=self.reason[:1000],
            cpu_ms=self.measure.reaped_cpu_ms(),
            memory_peak_mib=self.measure.peak_mib,
            read_bytes=read,
            written_bytes=written,
            journal=self.intent.journal,
            mark=self.intent.mark,
            scratch_mib=folder_mib(self.intent.staging.scratch),
        )
        if self.intent.results.summary and self.main:
            self._write_summary(ended, held_ms)
        text = json.dumps({**vars(ended), "printed": self._printed() if self.main else {}}).encode()
        # In place and of the size that was written at the start: no block is allocated, so this works on a full disk.
        with suppress(OSError):  # where it fails all the same, the attempt is reported as lost
            os.pwrite(self.record, text.ljust(EXIT_BYTES), 0)
            os.fdatasync(self.record)

    def _printed(self) -> dict[str, list[int]]:
        """Its output and errors as they are now, so that it is seen when somebody else writes over them later."""
        paths, found = self.intent.paths, dict[str, list[int]]()
        for which, path in (("output", paths.output), ("errors", paths.errors)):
            with suppress(OSError):
                left = os.stat(path)
                if stat.S_ISREG(left.st_mode) and not (which == "errors" and path == paths.output):
                    found[which] = [left.st_dev, left.st_ino, left.st_size, left.st_mtime_ns]
        return found

    def _check_expected(self) -> None:
        for path in self.intent.results.expect:
            full = path if path.startswith("/") else os.path.join(self.intent.paths.directory, path)
            try:
                problem = "empty" if os.path.getsize(full) == 0 else ""
            except OSError:
                problem = "not there"
            if problem:
                self.cause, self.reason = "failed", f"it promised {path}, which is {problem}"
                return
            give_to_group(full, self.intent.results.group)

    def _write_summary(self, ended: Exit, held_ms: int) -> None:
        intent, limits = self.intent, self.intent.limits
        how = ended.cause or (f"exit {ended.exit}" if ended.signal is None else ended.signal)
        lines = [
            "",
            f"-- {intent.name}, job {intent.job}: {how}",
            f"-- walltime {held_ms / 1000:.1f}s of {limits.walltime_s}s, cpu {ended.cpu_ms / 1000:.1f}s"
            f" on {len(limits.cores)} cores, memory {ended.memory_peak_mib} MiB of {limits.memory_mib} MiB",
        ]
        with suppress(OSError):
            fd = given.opened(intent.paths.output, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
            with open(fd, "a") as file:
                file.write("\n".join(lines) + "\n")


def _signal_name(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"
