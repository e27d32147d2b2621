"""Starting processes on the nodes of a job: one protocol, whatever starts them.

Here they are children of this process, so that the supervisor above sees, measures and stops them as parts of the job.
"""

from __future__ import annotations

import os
import signal
import time
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Protocol

from lazy_quarry.inside.helper import cores_here, exit_of

_QUIET = (signal.SIGPIPE, signal.SIGXFSZ, signal.SIGINT, signal.SIGHUP, signal.SIGTERM, signal.SIGUSR1, signal.SIGUSR2)


@dataclass(frozen=True)
class Cores:
    """Processors of one node that go to one process."""

    node: str
    numbers: tuple[int, ...]


@dataclass(frozen=True)
class Over:
    """The end of a process, and the use of it and of those that it waited for. ``memory_peak_mib`` is that of the largest one."""

    handle: int
    exit: int | None
    signal: str | None
    code: int
    seconds: float
    cpu_s: float
    memory_peak_mib: int


class Launcher(Protocol):
    """Starts processes and says how they ended."""

    def nodes(self) -> list[Cores]:
        """The nodes of the job with the cores on each that it was given."""
        ...

    def start(
        self,
        cores: Cores,
        command: list[str],
        environment: dict[str, str],
        output: int | None = None,
        group: bool = False,
    ) -> int:
        """Start a command on these cores; returns a handle. ``output``: a descriptor for what it prints, errors too;
        ``group``: in a process group of its own. Raises :class:`OSError`."""
        ...

    def ended(self, patience_s: float) -> tuple[list[Over], list[signal.struct_siginfo]]:
        """Take the processes that have ended, and signals that came meanwhile; waits for one of both, no longer than this."""
        ...

    def send(self, handle: int, number: int, group: bool = False) -> None:
        """Send a signal to one; with ``group`` to its process group."""
        ...


class HereLauncher:
    """Starts children of this process. From its making on the signals that it hands out are blocked here."""

    def __init__(self, node: str = "") -> None:
        self.node = node or os.uname().nodename
        self._whole = tuple(cores_here())
        self._bound = self._whole
        self._began: dict[int, float] = {}
        self._wake = {signal.SIGCHLD, signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2}
        signal.pthread_sigmask(signal.SIG_BLOCK, self._wake)

    def nodes(self) -> list[Cores]:
        """This node."""
        return [Cores(self.node, self._whole)]

    def start(
        self,
        cores: Cores,
        command: list[str],
        environment: dict[str, str],
        output: int | None = None,
        group: bool = False,
    ) -> int:
        """Start a child on these cores: it inherits them, so they are taken on for a moment."""
        if cores.numbers != self._bound:
            os.sched_setaffinity(0, cores.numbers)
            self._bound = cores.numbers
        actions = [(os.POSIX_SPAWN_DUP2, output, 1), (os.POSIX_SPAWN_DUP2, output, 2)] if output is not None else []
        more: dict[str, Any] = {"setpgroup": 0} if group else {}
        pid = os.posix_spawnp(
            command[0], command, environment, file_actions=actions, setsigmask=[], setsigdef=_QUIET, **more
        )
        self._began[pid] = time.monotonic()
        return pid

    def ended(self, patience_s: float) -> tuple[list[Over], list[signal.struct_siginfo]]:
        """Reap what has ended; where nothing has, wait for a signal first."""
        over, told = self._reaped(), []
        if not over:
            woken = signal.sigtimedwait(self._wake, patience_s)
            while woken is not None:
                if woken.si_signo != signal.SIGCHLD:
                    told.append(woken)
                woken = signal.sigtimedwait(self._wake, 0)
            over = self._reaped()
        return over, told

    def _reaped(self) -> list[Over]:
        found = []
        while self._began:
            try:
                pid, status, used = os.wait4(-1, os.WNOHANG)
            except ChildProcessError:
                break
            if pid == 0:
                break
            began = self._began.pop(pid, None)
            if began is None:
                continue
            code, name = exit_of(status)
            found.append(
                Over(
                    pid,
                    code,
                    name,
                    code if code is not None else 128 + os.WTERMSIG(status),
                    time.monotonic() - began,
                    used.ru_utime + used.ru_stime,
                    used.ru_maxrss // 1024,
                )
            )
        return found

    def send(self, handle: int, number: int, group: bool = False) -> None:
        """Send a signal; who is gone needs none."""
        with suppress(ProcessLookupError, PermissionError):
            (os.killpg if group else os.kill)(handle, number)
