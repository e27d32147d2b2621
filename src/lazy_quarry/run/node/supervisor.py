"""The process above one job, forked from the agent.

It claims the attempt, starts the script in a session of its own, keeps its walltime, memory and cores,
stops every last process of it, writes how it ended, and ends last. It needs nobody: agent, engine and
application may all be gone.
"""

import errno
import grp
import json
import os
import resource
import shlex
import signal
import time
from contextlib import suppress
from pathlib import Path
from typing import Any, NoReturn

from lazy_quarry.probe.modules import loading
from lazy_quarry.run.node.attempt import EXIT_BYTES, Exit, Intent, exit_file, fields_of, read_json, write_whole
from lazy_quarry.run.node.process import (
    become_subreaper,
    boottime,
    bytes_moved,
    cpu_ms,
    descendants,
    identify,
    living,
    proportional_mib,
    resident_mib,
    send,
)
from lazy_quarry.run.node.staging import Missing, Stopped, copy_in, copy_out

_WAKE = {signal.SIGCHLD, signal.SIGTERM, signal.SIGINT, signal.SIGHUP}
_MOST_SAMPLES = 240
_LIVE_EVERY_S = 1.0
_SHELLS = ("sh", "bash", "dash", "ksh", "zsh")


class Unstartable(Exception):
    """The job could not be brought to run; the message says why."""


def supervise(folder: Path, intent: Intent) -> NoReturn:
    """Be the supervisor of one attempt, from claim to exit file; called in a process just forked."""
    code = 0
    try:
        signal.pthread_sigmask(signal.SIG_BLOCK, _WAKE)
        os.setsid()
        become_subreaper()
        record = _open_exit(folder)
        if _claim(folder):
            Supervisor(folder, intent, record).run()
        else:
            os.close(record)
    except OSError as fault:
        code = 1
        with suppress(OSError):
            (folder / "refused").write_text(fault.strerror or str(fault))
    finally:
        os._exit(code)


def _open_exit(folder: Path) -> int:
    """The exit file with room for what will be written; on a full disk this fails, before anything ran."""
    fd = os.open(exit_file(folder, os.getpid()), os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
    if os.write(fd, b" " * EXIT_BYTES) < EXIT_BYTES:
        raise OSError(errno.ENOSPC, "No space left on device")
    return fd


def _claim(folder: Path) -> bool:
    """Take the attempt, exclusively; False when another supervisor has it."""
    own = identify(os.getpid())
    mine = folder / f"claim.{own.pid}"
    mine.write_text(json.dumps(fields_of(own)))
    try:
        os.link(mine, folder / "claim.json")
    except FileExistsError:
        os.unlink(exit_file(folder, own.pid))
        return False
    finally:
        os.unlink(mine)
    for path in (folder / "claim.json", folder):  # on disk before anything runs: after a power cut it tells that it ran
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            os.fsync(fd)
        finally:
            os.close(fd)
    return True


class Supervisor:
    """Keeps one claimed attempt. The first cause to stop it is the one recorded."""

    def __init__(self, folder: Path, intent: Intent, record: int) -> None:
        self.folder, self.intent, self.record = folder, intent, record
        self._samples: list[tuple[int, float, int]] = []
        """(instant in ms, cores busy, memory in MiB), for the graphs of a running job."""
        self._sample_every_ms = 0
        self.cause: str | None = None
        self.reason = ""
        self.status: int | None = None
        self.main = 0
        self.began = boottime()
        self.peak_mib = 0
        self._stop_at: float | None = None
        self._warned = False
        self._live_at = self.began
        self._cpu_seen = (0.0, 0)

    def run(self) -> None:
        """Start the job, see it to its end, and record that."""
        try:
            self._start()
        except Unstartable as fault:
            self.cause, self.reason = "failed", str(fault)
        else:
            self._watch()
            self._bring_back()
        self._finish()

    # -- starting ----------------------------------------------------------------------------------

    def _start(self) -> None:
        intent = self.intent
        if (self.folder / "stop").exists():
            self.cause = self._stop_cause()
            self.status = None
            return
        os.umask(0o027 if intent.group else 0o077)
        output = self._open_output(intent.output)
        errors = output if intent.errors == intent.output else self._open_output(intent.errors)
        try:
            source = os.open(intent.input or "/dev/null", os.O_RDONLY | os.O_CLOEXEC)
        except OSError as fault:
            raise Unstartable(f"its input {intent.input} cannot be read: {fault.strerror}") from None
        command = self._command()
        os.makedirs(intent.scratch, exist_ok=True)
        self.began = self._live_at = boottime()
        if not self._stage_in():
            return
        environment = dict(intent.environment)
        environment["LQ_DEADLINE"] = str(int(time.time() + intent.walltime_s - (boottime() - self.began)))
        try:
            self._dress()
            self.main = os.posix_spawn(
                command,
                [command, *intent.arguments],
                environment,
                file_actions=[
                    (os.POSIX_SPAWN_DUP2, source, 0),
                    (os.POSIX_SPAWN_DUP2, output, 1),
                    (os.POSIX_SPAWN_DUP2, errors, 2),
                ],
                setsid=True,
                setsigmask=[],
                setsigdef=[signal.SIGPIPE, signal.SIGXFSZ, signal.SIGINT, signal.SIGHUP, signal.SIGTERM],
            )
        except OSError as fault:
            raise Unstartable(f"it could not be started: {_start_words(fault)}") from None
        (self.folder / "session").write_text(str(self.main))
        for fd in {source, output, errors}:
            os.close(fd)
        os.chdir("/")

    def _dress(self) -> None:
        """Take on what the job inherits: its directory, its cores, no core files."""
        try:
            os.chdir(self.intent.directory)
        except OSError:
            raise Unstartable(f"the folder it starts in, {self.intent.directory}, is not there") from None
        os.sched_setaffinity(0, self.intent.cores)
        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))

    def _open_output(self, path: str) -> int:
        flags = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | os.O_APPEND
        if self.intent.attempt == 1:
            flags |= os.O_TRUNC
        try:
            os.makedirs(os.path.dirname(path), exist_ok=True)
            fd = os.open(path, flags, 0o640)
            self._give(path)
            return fd
        except OSError as fault:
            raise Unstartable(f"its output {path} cannot be written: {fault.strerror}") from None

    def _give(self, path: str) -> None:
        """Let the group read it that the request names."""
        if self.intent.group:
            with suppress(OSError, KeyError):
                os.chown(path, -1, grp.getgrnam(self.intent.group).gr_gid)

    def _stage_in(self) -> bool:
        """Copy what the job is to have in its scratch folder; the time for it is of its walltime."""
        intent = self.intent

        def go_on() -> bool:
            return not (self.folder / "stop").exists() and boottime() - self.began < intent.walltime_s

        try:
            copy_in(intent.stage_in, intent.directory, intent.scratch, go_on)
        except Stopped:
            self.cause = self._stop_cause() if (self.folder / "stop").exists() else "overtime"
            self.reason = "while its files were copied in"
            return False
        except Missing as fault:
            raise Unstartable(f"{fault} cannot be staged: it is not in {intent.directory}") from None
        except OSError as fault:
            raise Unstartable(f"its files cannot be staged: {fault.filename or ''} {fault.strerror}") from None
        return True

    def _bring_back(self) -> None:
        """Copy results back, however it ended, in what is left of walltime and grace."""
        intent = self.intent
        if not self.main or not intent.stage_out:
            return
        until = self.began + intent.walltime_s + intent.grace_s
        if self._stop_at is not None:
            until = min(until, self._stop_at + max(1, intent.grace_s))
        problem = ""
        try:
            copied, missing = copy_out(intent.stage_out, intent.scratch, intent.directory, lambda: boottime() < until)
        except Stopped:
            problem = "there was no time left to bring all results back"
        except OSError as fault:
            problem = f"results could not be brought back: {fault.strerror}"
        else:
            for path in copied:
                self._give(path)
            if missing and self.cause is None and self.status == 0:
                self.cause, self.reason = "failed", f"it should have left {missing[0]} in its scratch folder"
        if problem:
            with suppress(OSError):
                os.makedirs(os.path.dirname(intent.spared), exist_ok=True)
                os.rename(intent.scratch, intent.spared)
                problem += f"; they are in {intent.spared}"
            if self.cause is None and self.status == 0:
                self.cause = "failed"
            self.reason = f"{self.reason}; {problem}" if self.reason else problem

    def _command(self) -> str:
        """What is to be started: the script with what is prepared for it, in the modules that it names."""
        command = self._prepared()
        if not self.intent.modules:
            return command
        start = self.folder / "modules"
        start.write_text(loading(self.intent.modules, command))
        start.chmod(0o700)
        return str(start)

    def _prepared(self) -> str:
        """The script as it was submitted, through its own interpreter line, after what is to be prepared."""
        script = str(self.folder / "script")
        if not self.intent.prepare:
            return script
        with open(script, errors="replace") as file:
            line = file.readline().strip()
        words = line.removeprefix("#!").split()
        shell = os.path.basename(words[1] if words[:1] == ["/usr/bin/env"] and len(words) > 1 else (words or [""])[0])
        quoted = shlex.quote(script)
        if shell in _SHELLS:
            body = [line, *self.intent.prepare, f". {quoted}"]
        else:
            body = ["#!/bin/sh", *self.intent.prepare, f'exec {quoted} "$@"']
        start = self.folder / "start"
        start.write_text("\n".join(body) + "\n")
        start.chmod(0o700)
        return str(start)

    # -- watching ----------------------------------------------------------------------------------

    def _watch(self) -> None:
        if self.main == 0:
            return
        pause = 0.02
        while True:
            self._reap()
            below = descendants(os.getpid())
            if not living(below):
                self._reap()
                if not descendants(os.getpid()):
                    return
            self._look(below)
            if self.status is not None and self._stop_at is None:
                left = living(below)
                if left:  # the script is over; what it left behind goes with it
                    self.reason = self.reason or f"{len(left)} of its processes were left behind and stopped"
                    self._stop(below)
            signal.sigtimedwait(_WAKE, min(pause, self._until_next()))
            pause = min(pause * 1.5, 0.2 if self.peak_mib * 2 < self.intent.memory_mib else 0.03)

    def _reap(self) -> None:
        while True:
            try:
                pid, status, _ = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if pid == 0:
                return
            if pid == self.main:
                self.status = status

    def _until_next(self) -> float:
        """Seconds to the next thing that must not be late."""
        now = boottime()
        times = [0.5, self.began + self.intent.walltime_s - now]
        if self._stop_at is not None:
            times.append(self._stop_at + self._patience_s - now)
            times[1] = 0.5
        return max(0.005, min(times))

    def _look(self, below: list[int]) -> None:
        intent, now = self.intent, boottime()
        memory = resident_mib(below)
        if memory > intent.memory_mib:
            memory = proportional_mib(below) or memory
        self.peak_mib = max(self.peak_mib, memory)
        if self._stop_at is None:
            if (self.folder / "stop").exists():
                self.cause = self._stop_cause()
                self._stop(below)
            elif memory > intent.memory_mib:
                self.cause = "overmemory"
                self._kill()
            elif now - self.began >= intent.walltime_s and self.status is None:
                self.cause = "overtime"
                self._stop(below)
            elif intent.warn_s and not self._warned and now - self.began >= intent.walltime_s - intent.warn_s:
                self._warned = True
                send([self.main], signal.SIGUSR1)
        elif now - self._stop_at >= self._patience_s or memory > intent.memory_mib:
            self._kill()
        if now - self._live_at >= _LIVE_EVERY_S:
            self._live_at = now
            self._write_live(below, memory, now)

    def _write_live(self, below: list[int], memory: int, now: float) -> None:
        spent = cpu_ms(below) + self._reaped_cpu_ms()
        before, spent_before = self._cpu_seen
        busy = (spent - spent_before) / 1000 / (now - before) if before else 0.0
        self._cpu_seen = (now, spent)
        self._sample(now, max(0.0, busy), memory)
        read, written = self._bytes(below)
        live: dict[str, Any] = {
            "cpu_ms": spent,
            "memory_mib": memory,
            "peak_mib": self.peak_mib,
            "busy": max(0.0, busy),
        }
        live["samples"] = self._samples
        with suppress(OSError):
            write_whole(self.folder / "live.json", json.dumps(live | {"read": read, "written": written}), durable=False)

    def _sample(self, now: float, busy: float, memory: int) -> None:
        """Keep what was measured, and when the list is full every second one, half as often from then on."""
        at = round(time.time() * 1000)
        if self._samples and at - self._samples[-1][0] < self._sample_every_ms:
            return
        self._samples.append((at, round(busy, 2), memory))
        if len(self._samples) > _MOST_SAMPLES:
            del self._samples[1::2]
            self._sample_every_ms *= 2

    @property
    def _patience_s(self) -> float:
        """Between SIGTERM and SIGKILL: the grace, half of it where results must be brought back in the rest."""
        return self.intent.grace_s / 2 if self.intent.stage_out else self.intent.grace_s

    def _stop_cause(self) -> str:
        return str((read_json(self.folder / "stop") or {}).get("cause", "cancelled"))

    def _stop(self, below: list[int]) -> None:
        """SIGTERM to every process, and SIGCONT, for those that were stopped."""
        self._stop_at = boottime()
        send(below, signal.SIGTERM)
        send(below, signal.SIGCONT)
        if self.intent.grace_s == 0:
            self._kill()

    def _kill(self) -> None:
        """SIGKILL until nothing is left: first all are frozen, so that none forks away meanwhile."""
        self._stop_at = self._stop_at if self._stop_at is not None else boottime()
        frozen: set[int] = set()
        for _ in range(50):
            fresh = set(living(descendants(os.getpid()))) - frozen
            if not fresh:
                break
            send(list(fresh), signal.SIGSTOP)
            frozen |= fresh
        while left := living(descendants(os.getpid())):
            send(left, signal.SIGKILL)
            self._reap()
            signal.sigtimedwait({signal.SIGCHLD}, 0.01)
        self._reap()

    # -- ending ------------------------------------------------------------------------------------

    def _reaped_cpu_ms(self) -> int:
        reaped = resource.getrusage(resource.RUSAGE_CHILDREN)
        return round((reaped.ru_utime + reaped.ru_stime) * 1000)

    def _bytes(self, below: list[int]) -> tuple[int, int]:
        """What the job moved: this process with all it reaped, less its own share, and those still there."""
        whole, own = bytes_moved("/proc/self/io"), bytes_moved(f"/proc/self/task/{os.getpid()}/io")
        read, written = max(0, whole[0] - own[0]), max(0, whole[1] - own[1])
        for pid in below:
            more = bytes_moved(f"/proc/{pid}/io")
            read, written = read + more[0], written + more[1]
        return read, written

    def _finish(self) -> None:
        held_ms = round((boottime() - self.began) * 1000)
        code = name = None
        if self.status is not None:
            if os.WIFSIGNALED(self.status):
                name = _signal_name(os.WTERMSIG(self.status))
            else:
                code = os.WEXITSTATUS(self.status)
        if self.cause is None and code == 0:
            self._check_promises()
        if self.main:
            largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
            if largest > resident_mib([os.getpid()]) + 4:  # below that it is this process, before its child's exec
                self.peak_mib = max(self.peak_mib, largest)
        read, written = self._bytes([])
        self.reason = self.reason[:1000]
        ended = Exit(
            round(time.time() * 1000), held_ms, code, name, self.cause, self.reason,
            self._reaped_cpu_ms(), self.peak_mib, read, written,
        )  # fmt: skip
        if self.intent.summary and self.main:
            self._write_summary(ended)
        text = json.dumps(fields_of(ended)).encode()
        os.pwrite(self.record, text.ljust(EXIT_BYTES), 0)
        os.fdatasync(self.record)

    def _check_promises(self) -> None:
        for path in self.intent.expect:
            full = path if path.startswith("/") else os.path.join(self.intent.directory, path)
            try:
                empty = os.path.getsize(full) == 0
            except OSError:
                self.cause, self.reason = "failed", f"it promised {path}, which is not there"
                return
            if empty:
                self.cause, self.reason = "failed", f"it promised {path}, which is empty"
                return
            self._give(full)

    def _write_summary(self, ended: Exit) -> None:
        intent = self.intent
        how = ended.cause or (f"exit {ended.exit}" if ended.signal is None else ended.signal)
        lines = [
            "",
            f"-- {intent.name}, job {intent.job}: {how}",
            f"-- walltime {ended.held_ms / 1000:.1f}s of {intent.walltime_s}s, cpu {ended.cpu_ms / 1000:.1f}s"
            f" on {len(intent.cores)} cores, memory {ended.memory_peak_mib} MiB of {intent.memory_mib} MiB",
        ]
        with suppress(OSError), open(intent.output, "a") as file:
            file.write("\n".join(lines) + "\n")


def _start_words(fault: OSError) -> str:
    if isinstance(fault, FileNotFoundError):
        return "the interpreter of its first line is not there"
    if fault.errno == errno.ENOEXEC:
        return "it has no interpreter line that this machine can follow"
    return fault.strerror or str(fault)


def _signal_name(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"
