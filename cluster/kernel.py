"""The calls of the kernel that make a host: namespaces(7), mount(2), pivot_root(2), prctl(2), by the C library."""

from __future__ import annotations

import ctypes
import itertools
import os
import signal
from contextlib import suppress
from pathlib import Path

_LIBC = ctypes.CDLL(None, use_errno=True)

NEW_TIME = 0x00000080
NEW_MOUNTS = 0x00020000
NEW_GROUPS = 0x02000000
NEW_NAME = 0x04000000
NEW_IPC = 0x08000000
NEW_USERS = 0x10000000
NEW_PIDS = 0x20000000
NEW_NETWORK = 0x40000000

READ_ONLY = 1
BIND = 4096
ALL_BELOW = 16384
PRIVATE = 1 << 18
_REMOUNT = 32
_DETACH = 2
_DEATH_SIGNAL = 1


def _checked(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{what}: {os.strerror(number)}")


def unshare(what: int) -> None:
    """Leave these namespaces for new ones: what this process starts is in those of processes and of time, it itself in the rest.

    Raises OSError where the kernel has none, allows no more of them, or we may not.
    """
    _checked(_LIBC.unshare(what), "no new namespaces")


def mount(source: str | Path, target: str | Path, kind: str = "", flags: int = 0, options: str = "") -> None:
    """Mount a file system, or with ``BIND`` a file or folder over another. Raises OSError, naming the target."""
    arguments = (os.fsencode(source), os.fsencode(target), kind.encode(), ctypes.c_ulong(flags), options.encode())
    _checked(_LIBC.mount(*arguments), f"mounting {target}")


def bind(source: str | Path, target: str | Path) -> None:
    """Show a file or folder, and all that is mounted below it, at another place."""
    mount(source, target, flags=BIND | ALL_BELOW)


def make_read_only(target: str | Path) -> None:
    """Let nothing be written through what is mounted there. Raises PermissionError without root."""
    mount("none", target, flags=BIND | _REMOUNT | READ_ONLY)


def unmount(target: str | Path) -> None:
    """Take away what is mounted there, with all below it, as soon as nobody uses it any more."""
    _checked(_LIBC.umount2(os.fsencode(target), _DETACH), f"unmounting {target}")


def change_root(root: Path) -> None:
    """Make a mounted folder the root of this mount namespace, and take the old root away."""
    os.chdir(root)
    _checked(_LIBC.pivot_root(b".", b"."), f"a new root at {root}")
    unmount(".")
    os.chdir("/")


def keep_only(*open_files: int) -> None:
    """Close all that is open in this process, but for the three streams and these: others wait for the ends of pipes."""
    bounds = [2, *sorted(open_files), os.sysconf("SC_OPEN_MAX")]
    for before, after in itertools.pairwise(bounds):
        os.closerange(before + 1, after)


def wakes_by(*numbers: signal.Signals) -> int:
    """Have these signals only wake this process: the end of a pipe to wait on, which they write to."""
    woken, wake = os.pipe()
    for end in (woken, wake):
        os.set_blocking(end, False)
    signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
    for number in numbers:
        signal.signal(number, lambda number, frame: None)
    return woken


def calmed(woken: int) -> list[int]:
    """Wait for no more of what has woken this process; returns the children that have ended."""
    with suppress(BlockingIOError):
        os.read(woken, 4096)
    ended = []
    with suppress(ChildProcessError):
        while pid := os.waitpid(-1, os.WNOHANG)[0]:
            ended.append(pid)
    return ended


def end_with_parent() -> None:
    """Be killed when the process that started this one ends, however that ends."""
    _checked(_LIBC.prctl(_DEATH_SIGNAL, ctypes.c_ulong(signal.SIGKILL), 0, 0, 0), "a signal at the parent's death")
