"""A cluster, for those who use it: tests, the command, and whoever tries something on it by hand."""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cluster.control_groups import remove_groups, thaw
from cluster.errors import ClusterError
from cluster.folder import CHECKOUT, CLUSTERS, Folder, Kept, Process
from cluster.hosts import HOMES, HOSTS

_PATIENCE_S = 30.0
_NOT_TAKEN_ALONG = re.compile(r"(LQ|XDG|SSH|TMUX)_?|(TMPDIR|HOME|OLDPWD|PWD|MAKE\w*|MFLAGS)$")
"""Names of variables that the head has no use for, or has its own."""
_SPACES = ("--mount", "--net", "--pid", "--uts", "--ipc")
"""What nsenter(1) is to enter, of the head and of a host alike."""
_NEEDED = {"ip": "iproute2", "ssh": "openssh-client", "ssh-keygen": "openssh-client", "nsenter": "util-linux"}
_NEEDED_AS_ROOT = {"/usr/sbin/sshd": "openssh-server"}


@dataclass(frozen=True)
class HostProcess:
    """A process of a host, as somebody who is logged in there sees it."""

    pid: int
    user: int
    state: str
    """The kernel's letter (proc(5)): R, S, D, T stopped, Z ended."""
    command: str


class Cluster:
    """A cluster that is there. `made` makes one and removes it after; `found` is one that was left."""

    def __init__(self, folder: Folder, kept: Kept, owned: int | None = None) -> None:
        """``owned`` is the end of the pipe that says that this process owns it, while that is open."""
        self._folder, self._owned = folder, owned
        self.kept = kept
        """Who keeps it."""

    @classmethod
    def start(cls, path: Path = CLUSTERS / "made", *, kept: bool = False) -> Cluster:
        """Make the cluster of a folder, which is new or the leftover of a run that crashed.

        It ends with this process, unless ``kept``. Raises ClusterError where there is one, or none can be made.
        """
        folder = Folder(path)
        with _locked(folder):
            if cls.found(path) is not None:
                raise ClusterError(f"there is a cluster in {path} already")
            _remove(folder)
            _check_programs()
            return cls(folder, *_start(folder, kept=kept))

    @classmethod
    @contextmanager
    def made(cls, path: Path) -> Iterator[Cluster]:
        """Make a cluster, and remove it after."""
        cluster = cls.start(path)
        try:
            yield cluster
        finally:
            cluster.down()

    @classmethod
    def found(cls, path: Path = CLUSTERS / "made") -> Cluster | None:
        """The cluster of a folder, if one runs there and all its hosts answer."""
        folder = Folder(path)
        kept = folder.kept()
        alive = (
            folder.ready.exists()
            and kept is not None
            and kept.watcher.lives
            and kept.outer is not None
            and kept.outer.lives
        )
        return cls(folder, kept) if kept is not None and alive else None

    @property
    def shared(self) -> Path:
        """The folder that is /shared on the head and on all hosts, as it is seen from outside."""
        return self._folder.shared

    @property
    def outer(self) -> int:
        """The number of the process with which all of the cluster ends."""
        assert self.kept.outer is not None
        return self.kept.outer.pid

    @property
    def groups(self) -> tuple[Path, ...]:
        """The control groups that were made for it, one in each hierarchy."""
        return tuple(map(Path, self.kept.groups))

    def on_head(self, command: Sequence[str], variables: Mapping[str, str] | None = None) -> list[str]:
        """The command that runs a command on the head, in the folder that this is called in where the head sees it."""
        entered = ["nsenter", "--target", str(self.outer), *_SPACES]
        if os.geteuid() != 0:
            entered += ["--user", "--preserve-credentials"]
        kept = {name: value for name, value in os.environ.items() if not _NOT_TAKEN_ALONG.match(name)}
        own = {"HOME": str(HOMES / "root"), "USER": "root", "LOGNAME": "root", "SHELL": "/bin/bash"}
        path = f"{Path(sys.prefix) / 'bin'}:{os.environ.get('PATH', os.defpath)}"
        told = {**kept, **own, "PATH": path, **(variables or {})}
        return [
            *entered,
            "env",
            "-i",
            *(f"{name}={value}" for name, value in told.items()),
            "sh",
            "-c",
            _HERE,
            "sh",
            os.getcwd(),
            *command,
        ]

    def at(self, host: str, command: Sequence[str]) -> list[str]:
        """The command that runs a command on a host without SSH, as root, as if somebody sat there. Raises ClusterError."""
        first = str(self._ask("first", host))
        return self.on_head(
            ["nsenter", "--target", first, *_SPACES, "--time", "env", "-i", f"PATH={os.defpath}", *command]
        )

    def run(
        self, command: str | Sequence[str], *, timeout: float = 60.0, text: str = ""
    ) -> subprocess.CompletedProcess[str]:
        """Run a command on the head, by its shell if it is a text, and give back how it ended and what it printed."""
        words = ["sh", "-c", command] if isinstance(command, str) else list(command)
        return subprocess.run(self.on_head(words), input=text, text=True, capture_output=True, timeout=timeout)

    def cut(self, host: str) -> None:
        """Pull the host's cable out."""
        self._ask("cut", host)

    def slow(self, host: str, seconds: float = 0.2) -> None:
        """Let all that goes to and from a host take so many seconds more each way."""
        self._ask("slow", host, str(seconds))

    def lose(self, host: str, share: float = 0.3) -> None:
        """Let a share of what goes to and from a host get lost."""
        self._ask("lose", host, str(share))

    def half(self, host: str) -> None:
        """Let what the host says get lost, while what is said to it arrives."""
        self._ask("half", host)

    def stop(self, host: str) -> None:
        """Let nothing run on a host, though its network still answers for it."""
        self._ask("stop", host)

    def reboot(self, host: str) -> None:
        """Switch a host off and on: all that runs there is gone, its disk stays but for /tmp, and it has another boot id."""
        self._ask("reboot", host)

    def clock(self, host: str, seconds: int) -> None:
        """Set a host's clock so many seconds ahead, or behind when negative, for what is started by SSH from now on.

        What was started so before sees its clock jump when this is called again.
        """
        self._ask("clock", host, str(seconds))

    def full(self, host: str) -> None:
        """Fill a host's disk to the last page."""
        self._ask("full", host)

    def mend(self, host: str) -> None:
        """Take away all that is wrong with a host: its cable, network, clock, disk, and its SSH server where that was ended."""
        self._ask("mend", host)

    def processes(self) -> dict[str, list[HostProcess]]:
        """What runs on each host."""
        told = self._ask("ps", "")
        return {host: [HostProcess(**each) for each in processes] for host, processes in told.items()}

    def down(self) -> None:
        """End it, with all that runs there, and remove what was made for it, /shared too."""
        with _locked(self._folder):
            _remove(self._folder)
        if self._owned is not None:
            os.close(self._owned)
            self._owned = None

    def _ask(self, word: str, host: str, by: str = "") -> Any:
        with socket.socket(socket.AF_UNIX) as asking:
            asking.settimeout(_PATIENCE_S)
            with _short_path(self._folder.socket) as path:
                try:
                    asking.connect(path)
                except OSError as wrong:
                    raise ClusterError(f"the cluster in {self._folder.path} doesn't answer: {wrong}") from wrong
            with asking.makefile("rwb") as both:
                both.write(json.dumps({"word": word, "host": host, "by": by}).encode() + b"\n")
                both.flush()
                line = both.readline()
        answer = json.loads(line or b'{"problem": "the cluster ended"}')
        if "problem" in answer:
            raise ClusterError(answer["problem"])
        return answer["answer"]


_HERE = 'cd "$1" 2>/dev/null || cd; shift; exec "$@"'


def remove_leftovers(clusters: Path = CLUSTERS) -> tuple[list[Path], list[Path]]:
    """Remove the clusters of a folder that were kept, and what crashed runs left.

    Returns the folders that are gone, and those that were left to a living command that owns them. Raises ClusterError where
    somebody else's can't be removed.
    """
    removed, used = [], []
    for path in sorted(clusters.iterdir()) if clusters.is_dir() else ():
        folder = Folder(path)
        if path.is_dir() and not path.is_symlink():
            with _locked(folder):
                kept = folder.kept()
                if kept is not None and kept.owned and kept.watcher.lives:
                    used.append(path)
                else:
                    _remove(folder)
                    removed.append(path)
    return removed, used


@contextmanager
def _locked(folder: Folder) -> Iterator[None]:
    """Nobody else makes or removes this cluster meanwhile."""
    try:
        folder.lock.parent.mkdir(parents=True, exist_ok=True)
        lock = open(folder.lock, "w")
    except OSError as wrong:
        raise ClusterError(f"no cluster can be made there: {wrong}") from wrong
    with lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


@contextmanager
def _short_path(path: Path) -> Iterator[str]:
    """A path of a socket by an open folder: the whole one may be longer than a socket's name may be."""
    held = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{held}/{path.name}"
    finally:
        os.close(held)


def _check_programs() -> None:
    needed = _NEEDED | (_NEEDED_AS_ROOT if os.geteuid() == 0 else {})
    missing = {package for program, package in needed.items() if shutil.which(program) is None}
    if missing:
        raise ClusterError(f"it needs {', '.join(sorted(missing))}: apt-get install {' '.join(sorted(missing))}")


def _start(folder: Folder, *, kept: bool) -> tuple[Kept, int | None]:
    """Start the watcher, which makes all else; returns when the hosts answer, with what says who owns them, unless ``kept``."""
    folder.shared.mkdir(parents=True)
    folder.shared.chmod(0o1777)
    _make_keys(folder)
    owner, owned = os.pipe()
    tell, told = os.pipe()
    begin = f"import sys; sys.path.insert(0, {str(CHECKOUT)!r}); from cluster.watcher import main; sys.exit(main())"
    words = [sys.executable, "-I", "-S", "-c", begin, str(folder.path), "-" if kept else str(owner), str(told)]
    with open(folder.log, "wb") as log:
        subprocess.Popen(
            words, pass_fds=(told,) if kept else (told, owner), stdin=subprocess.DEVNULL, stdout=log, stderr=log
        )
    os.close(owner)
    os.close(told)
    with open(tell, "rb") as file:
        answer = file.read().decode()
    made = folder.kept()
    if kept or answer != "made":
        os.close(owned)
    if answer != "made" or made is None or made.outer is None:
        said = folder.log.read_text(errors="replace").strip() if folder.log.exists() else ""
        hint = "; in a container root needs CAP_SYS_ADMIN" if "not permitted" in answer and os.geteuid() == 0 else ""
        raise ClusterError(f"no cluster can be made here: {answer or said or 'its watcher ended without a word'}{hint}")
    return made, None if kept else owned


def _make_keys(folder: Folder) -> None:
    folder.keys.mkdir()
    for name in ("id", *(each.name for each in HOSTS)):
        words = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", str(folder.keys / name)]
        subprocess.run(words, check=True, stdin=subprocess.DEVNULL, capture_output=True)
    known = []
    for each in HOSTS:
        kind, key, *_ = (folder.keys / f"{each.name}.pub").read_text().split()
        known.append(f"{each.name},{each.address} {kind} {key}\n")
    (folder.keys / "known_hosts").write_text("".join(known))


def _remove(folder: Folder) -> None:
    """End and remove what a folder's file tells of; nothing is found by a name."""
    kept = folder.kept()
    if kept is not None:
        for process in filter(None, (kept.watcher, kept.outer)):
            _end(process, kept.groups)
        remove_groups(kept.groups)
    folder.remove()
    if folder.path.exists():
        raise ClusterError(f"{folder.path} can't be removed: is it somebody else's?")


def _end(process: Process, groups: tuple[str, ...]) -> None:
    """End a process: first by asking, which lets the watcher clean up, then by killing."""
    end = time.monotonic() + _PATIENCE_S
    number = signal.SIGTERM
    while process.lives:
        with suppress(ProcessLookupError):
            os.kill(process.pid, number)
        if time.monotonic() > end:
            if number == signal.SIGKILL:
                raise ClusterError(f"process {process.pid} of the cluster can't be ended")
            number, end = signal.SIGKILL, time.monotonic() + _PATIENCE_S
        thaw(groups)
        time.sleep(0.01)
