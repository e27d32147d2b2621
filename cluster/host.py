"""A host: namespaces, a root and control groups of its own, with a first process that outlives its SSH server."""

from __future__ import annotations

import os
import select
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from cluster import kernel
from cluster.control_groups import enter
from cluster.errors import ClusterError
from cluster.folder import Folder
from cluster.hosts import DISK, HostKind
from cluster.roots import build_host

_SSHD = "/usr/sbin/sshd"
_CONFIG = Path("/run/sshd_config")
_CLOCK = Path("/run/clock")
_LOG = Path("/var/log/sshd.log")
_FILLING = DISK / "filling"
_PATIENCE_S = 5.0
_FAKE = ("/usr/lib/*/faketime/libfaketime.so.1", "/usr/lib/faketime/libfaketime.so.1")


@dataclass
class Host:
    """A host that runs, as the outer process knows it."""

    kind: HostKind
    pid: int
    """Of its first process, by the numbers of the outer namespace."""
    _asked: socket.socket
    groups: tuple[Path, ...]
    faults: set[str] = field(default_factory=set)

    def ask(self, word: str, value: str = "") -> None:
        """Have the host's first process do something there. Raises ClusterError with what it says when it can't."""
        self._asked.sendall(f"{word} {value}\n".encode())
        answer = self._asked.recv(4096).decode()
        if answer != "done":
            raise ClusterError(f"{self.kind.name}: {answer or 'its first process is gone'}")


def start_host(
    kind: HostKind, folder: Folder, groups: Mapping[Path, Path], up_s: int, boot: str, *, sshd: bool
) -> Host:
    """Start a host: it has an address as soon as its end of a cable, ``eth0``, is there.

    ``groups`` are its control groups by where they are mounted, ``up_s`` the seconds since its boot. Raises ClusterError.
    """
    ours, theirs = socket.socketpair()
    made, tell = os.pipe()
    first = os.fork()
    if first == 0:  # it only makes the namespaces: the host's first process is what it starts in them
        try:
            for group in groups.values():
                enter(group)
            os.sched_setaffinity(0, kind.cores)
            new = kernel.NEW_MOUNTS | kernel.NEW_PIDS | kernel.NEW_NETWORK | kernel.NEW_NAME | kernel.NEW_IPC
            kernel.unshare(new | kernel.NEW_TIME | (kernel.NEW_GROUPS if groups else 0))
            _count_from_boot(up_s)
            pid = os.fork()
            if pid == 0:
                kernel.keep_only(theirs.fileno())
                _be_host(kind, folder, groups, boot, theirs, sshd=sshd)
            os.write(tell, b"%d" % pid)
            os._exit(0)
        except BaseException as wrong:
            os.write(tell, f"no host {kind.name}: {wrong}".encode())
            os._exit(1)
    os.close(tell)
    theirs.close()
    with open(made, "rb") as told:
        answer = told.read().decode()
    os.waitpid(first, 0)
    if not answer.isdigit():
        raise ClusterError(answer)
    return Host(kind, int(answer), ours, tuple(groups.values()))


def _count_from_boot(up_s: int) -> None:
    """Let the clocks that count from the boot say that it was so many seconds ago (time_namespaces(7))."""
    offsets = ""
    for name, clock in (("monotonic", time.CLOCK_MONOTONIC), ("boottime", time.CLOCK_BOOTTIME)):
        offsets += f"{name} {up_s - int(time.clock_gettime(clock))} 0\n"
    Path("/proc/self/timens_offsets").write_text(offsets)


def _be_host(
    kind: HostKind, folder: Folder, groups: Mapping[Path, Path], boot: str, asked: socket.socket, *, sshd: bool
) -> None:
    """Be the first process of a host until it is killed."""
    try:
        build_host(kind, folder, groups, boot)
        socket.sethostname(kind.name)
        init = _Init(kind, asked, sshd=sshd)
    except BaseException as wrong:
        print(f"host {kind.name}: {wrong!r}", file=sys.stderr, flush=True)
        os._exit(1)
    init.serve()


class _Init:
    """The first process: it has the SSH server, ends what nobody waits for, and does what the outer process asks."""

    def __init__(self, kind: HostKind, asked: socket.socket, *, sshd: bool) -> None:
        self._kind = kind
        self._asked = asked
        self._sshd: int | None = None
        self._may_sshd = sshd
        self._does: dict[str, Callable[[str], None]] = {
            "address": self._address,
            "clock": self._clock,
            "true-clock": self._true_clock,
            "fill": self._fill,
            "empty": self._empty,
            "sshd": self._serve_ssh,
        }

    def serve(self) -> None:
        """Until this process is killed; whatever goes wrong is the answer to what was asked."""
        woken = kernel.wakes_by(signal.SIGCHLD)
        while True:
            ready = select.select([self._asked.fileno(), woken], [], [])[0]
            if self._sshd in kernel.calmed(woken):
                self._sshd = None
            if self._asked.fileno() in ready:
                word, _, value = self._asked.recv(4096).decode().strip().partition(" ")
                if not word:
                    signal.pause()  # the outer process is gone, and takes this one along
                try:
                    self._does[word](value)
                    answer = "done"
                except Exception as wrong:
                    answer = str(wrong) or repr(wrong)
                self._asked.sendall(answer.encode())

    def _address(self, value: str) -> None:
        """Name the interfaces' addresses; the cable is in by now."""
        lines = ["link set lo up", f"addr add {self._kind.address}/24 dev eth0", "link set eth0 up"]
        done = subprocess.run(["ip", "-batch", "-"], input="\n".join(lines), text=True, capture_output=True)
        if done.returncode:
            raise ClusterError(done.stderr.strip())
        self._serve_ssh(value)

    def _serve_ssh(self, value: str) -> None:
        """Have an SSH server, if there is none that lives; wait until it answers."""
        if self._may_sshd and self._sshd is None:
            self._configure("")
            with self._listening(), open(_LOG, "ab") as log:
                started = subprocess.Popen(
                    [_SSHD, "-D", "-e", "-f", _CONFIG], stdin=subprocess.DEVNULL, stdout=log, stderr=log
                )
            self._sshd = started.pid
            started.returncode = 0  # it is waited for with all others

    @contextmanager
    def _listening(self) -> Iterator[None]:
        """Wait, after what is done within, until the SSH server has said once more that it listens."""
        before = _LOG.stat().st_size if _LOG.exists() else 0
        yield
        end = time.monotonic() + _PATIENCE_S
        while b"Server listening" not in (said := _LOG.read_bytes()[before:]):
            if time.monotonic() > end:
                raise ClusterError(f"its SSH server doesn't answer: {said[-300:].decode(errors='replace')}")
            time.sleep(0.01)

    def _configure(self, environment: str) -> None:
        lines = [
            f"ListenAddress {self._kind.address}",
            "HostKey /run/host_key",
            "PidFile none",
            "UsePAM no",
            "PasswordAuthentication no",
            "KbdInteractiveAuthentication no",
            "PermitRootLogin prohibit-password",
            "KexAlgorithms curve25519-sha256",
            "PrintMotd no",
            "UseDNS no",
            f"SetEnv {environment}" if environment else "",
        ]
        _CONFIG.write_text("\n".join(lines) + "\n")

    def _clock(self, value: str) -> None:
        """Give what is started here from now on another clock; what has it already sees it jump."""
        library = next((found for each in _FAKE for found in sorted(Path("/").glob(each.lstrip("/")))), None)
        if library is None:
            raise ClusterError("a wrong clock needs libfaketime: apt-get install libfaketime")
        beside = _CLOCK.with_suffix(".new")
        beside.write_text(f"{int(value):+d}\n")
        os.replace(beside, _CLOCK)
        self._reload(
            f"LD_PRELOAD={library} FAKETIME_TIMESTAMP_FILE={_CLOCK} FAKETIME_NO_CACHE=1 FAKETIME_DONT_FAKE_MONOTONIC=1"
        )

    def _true_clock(self, value: str) -> None:
        if _CLOCK.exists():
            _CLOCK.write_text("+0\n")
            self._reload("")

    def _reload(self, environment: str) -> None:
        if self._sshd is not None:
            self._configure(environment)
            with self._listening():
                os.kill(self._sshd, signal.SIGHUP)

    def _fill(self, value: str) -> None:
        """Leave no room on the disk, and no place for another file."""
        with open(_FILLING, "ab") as file:
            size, step = os.fstat(file.fileno()).st_size, 16 << 20
            while step >= 4096:
                try:
                    os.posix_fallocate(file.fileno(), size, step)
                    size += step
                except OSError:
                    step //= 2

    def _empty(self, value: str) -> None:
        _FILLING.unlink(missing_ok=True)
