"""``lq ranks -- COMMAND``: a command once for each rank of this node, without MPI."""

from __future__ import annotations

import os
import selectors
import signal
import threading
import time

from lazy_quarry.inside.helper import Refused, passed_on, record, say
from lazy_quarry.inside.launcher import Cores, HereLauncher, Launcher, Over

PATIENCE_S = 5.0
"""Between SIGTERM and SIGKILL for ranks that are ended because another failed."""
_STOPS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)


def ranks_here() -> tuple[int, int, int]:
    """The first rank of this node, how many it has, and how many there are in all."""
    total = int(os.environ.get("LQ_RANKS") or 1)
    try:
        with open(os.environ.get("LQ_NODES", "")) as file:
            nodes = [line.strip() for line in file if line.strip()]
    except OSError:
        nodes = []
    own = os.uname().nodename
    if own in nodes and len(set(nodes)) > 1:
        return nodes.index(own), nodes.count(own), total
    return 0, total, total


class Ranks:
    """The ranks of one command: bound to their cores, ended together unless they are to go on."""

    def __init__(self, command: list[str], output: str, keep_going: bool, launcher: Launcher) -> None:
        self.command, self.output, self.keep_going, self.launcher = command, output, keep_going, launcher
        self.first, self.count, self.total = ranks_here()
        self.under_way: dict[int, tuple[int, str]] = {}
        self.code, self.failed = 0, ""
        self._kill_at: float | None = None
        self._lines = _Prefixed() if not output else None

    def run(self) -> int:
        """Run them; 0, or the exit status of the first that failed. Raises :class:`Refused`."""
        if "{rank}" not in self.output and self.output not in ("", "plain") and self.count > 1:
            raise Refused('--output is "plain", or a path with {rank} in it')
        node = self.launcher.nodes()[0]
        threads = int(os.environ.get("LQ_THREADS") or 1)
        enough = len(node.numbers) >= self.count * threads
        for local in range(self.count):
            numbers = node.numbers[local * threads : (local + 1) * threads] if enough else node.numbers
            self._start(self.first + local, local, Cores(node.node, numbers))
        while self.under_way:
            over, told = self.launcher.ended(0.5)
            for signalled in told:
                self._signalled(signalled)
            for one in over:
                self._ended(one)
            if self._kill_at is not None and time.monotonic() >= self._kill_at:
                self._send(signal.SIGKILL)
        if self._lines is not None:
            self._lines.close()
        if self.failed:
            say("ranks", self.failed)
        return self.code

    def _start(self, rank: int, local: int, cores: Cores) -> None:
        part = record.begin(f"rank {rank}", "rank")
        environment = {
            **os.environ,
            "LQ_RANK": str(rank),
            "LQ_RANKS": str(self.total),
            "LQ_RANK_HERE": str(local),
            "LQ_PHASE": part,
        }
        descriptor = self._lines.pipe(f"[{rank}] ") if self._lines is not None else self._file(rank)
        try:
            handle = self.launcher.start(cores, self.command, environment, descriptor, group=True)
        except (OSError, ValueError) as fault:
            self._send(signal.SIGKILL)
            raise Refused(f"{self.command[0]} can't be started: {getattr(fault, 'strerror', None) or fault}") from None
        finally:
            if descriptor is not None:
                os.close(descriptor)
        self.under_way[handle] = rank, part

    def _file(self, rank: int) -> int | None:
        if self.output == "plain":
            return None
        path = self.output.replace("{rank}", str(rank))
        try:
            return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o640)
        except OSError as fault:
            raise Refused(f"{path} cannot be written: {fault.strerror}") from None

    def _ended(self, over: Over) -> None:
        rank, part = self.under_way.pop(over.handle)
        record.end(part, over.seconds, over.cpu_s, over.memory_peak_mib, (0, 0), over.exit, over.signal)
        if over.exit == 0 or self._kill_at is not None:
            return
        if not self.failed:
            self.code = over.code
            self.failed = f"rank {rank} ended with {over.signal or f'exit {over.exit}'}"
        if not self.keep_going and self.under_way:
            self.failed += f"; the other {len(self.under_way)} were ended with it"
            self._kill_at = time.monotonic() + PATIENCE_S
            self._send(signal.SIGTERM)

    def _signalled(self, told: signal.struct_siginfo) -> None:
        if passed_on(told):
            self._send(told.si_signo)
        if told.si_signo in _STOPS:
            self.code = self.code or 128 + told.si_signo

    def _send(self, number: int) -> None:
        for handle in self.under_way:
            self.launcher.send(handle, number, group=True)


class _Prefixed:
    """Prints what several write, whole lines at a time, each behind its own words. In a thread, since signals are waited for."""

    def __init__(self) -> None:
        self._selector = selectors.DefaultSelector()
        self._wake, self._waker = os.pipe()
        self._selector.register(self._wake, selectors.EVENT_READ, None)
        self._rests: dict[int, bytes] = {}
        self._closing = False
        self._lock = threading.Lock()
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def pipe(self, prefix: str) -> int:
        """A descriptor to write to, which is closed here once it was handed on."""
        reader, writer = os.pipe()
        with self._lock:
            self._rests[reader] = b""
            self._selector.register(reader, selectors.EVENT_READ, prefix.encode())
        os.write(self._waker, b".")
        return writer

    def _read(self) -> None:
        while not (self._closing and not self._rests):
            for key, _ in self._selector.select(1.0):
                raw = os.read(key.fd, 1 << 16)
                if key.data is None:
                    continue
                self._print(key.fd, key.data, raw)

    def _print(self, reader: int, prefix: bytes, raw: bytes) -> None:
        text = self._rests[reader] + raw
        lines = text.split(b"\n")
        rest = lines.pop()
        if not raw or len(rest) > 1 << 16:
            lines, rest = [*lines, *([rest] if rest else [])], b""
        out = b"".join(prefix + line + b"\n" for line in lines)
        while out:
            out = out[os.write(1, out) :]
        self._rests[reader] = rest
        if not raw:
            with self._lock:
                self._selector.unregister(reader)
                del self._rests[reader]
            os.close(reader)

    def close(self) -> None:
        """All have ended; what is left in the pipes is printed. Something that holds one open longer is not waited for."""
        self._closing = True
        os.write(self._waker, b".")
        self._thread.join(2.0)


def run_ranks(command: list[str], output: str, keep_going: bool) -> int:
    """Run a command on every rank of this node. Raises :class:`Refused`."""
    return Ranks(command, output, keep_going, HereLauncher()).run()
