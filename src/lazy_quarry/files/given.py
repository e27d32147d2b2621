"""Files that a person names: scripts, inputs, sweeps, what is staged, what a job prints.

Links are followed and anybody may own them. Opening never waits: what is neither a regular file nor /dev/null is refused before
it is opened, so a pipe, a device or a socket can hold nobody up. Reads take a range at most, for a file may grow while it is read.
"""

from __future__ import annotations

import errno
import os
import shutil
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from io import BufferedReader, BufferedWriter
from typing import TypeVar

from lazy_quarry.files.kinds import NotAFile, is_null, kind_of

WITHIN_S = 2.0
SILENT_S = 60.0
"""A folder with something that did not answer in time is not asked again for so long."""
MOST_TEXT = 16 * 2**20
"""Bytes of a script, a chain, a list of values."""
MOST_STUCK = 32
"""Reads that may hang at once before no more are begun."""
_T = TypeVar("_T")


def _look(found: os.stat_result, path: str) -> None:
    if (what := kind_of(found)) and not is_null(found):
        raise NotAFile(what, path)


def opened(path: str | os.PathLike[str], flags: int = os.O_RDONLY, mode: int = 0o640) -> int:
    """Open a file that a person named. Raises :class:`NotAFile` for anything else, or :class:`OSError`."""
    name, flags = os.fspath(path), flags | os.O_CLOEXEC | os.O_NOCTTY
    try:
        seen = os.open(name, os.O_PATH | os.O_CLOEXEC)
    except FileNotFoundError:
        if not flags & os.O_CREAT:
            raise
        return _made(name, flags, mode)
    try:
        _look(os.fstat(seen), name)
        # What was looked at is what is opened, whoever changes the name meanwhile.
        return os.open(f"/proc/self/fd/{seen}", flags & ~(os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW))
    except OSError as fault:
        if isinstance(fault, NotAFile):
            raise
        raise OSError(fault.errno, fault.strerror, name) from None
    finally:
        os.close(seen)


def _made(name: str, flags: int, mode: int) -> int:
    """A file that was not there a moment ago; whatever has come meanwhile is looked at."""
    try:
        fd = os.open(name, (flags & ~os.O_TRUNC) | os.O_NONBLOCK, mode)
    except OSError as fault:
        if fault.errno == errno.ENXIO:
            raise NotAFile("a pipe or a socket", name) from None
        raise
    try:
        _look(os.fstat(fd), name)
        os.set_blocking(fd, True)
    except BaseException:
        os.close(fd)
        raise
    return fd


def fresh(path: str | os.PathLike[str], mode: int = 0o600) -> int:
    """A new file for writing: what stands under the name is removed first, and a link there is never followed."""
    with suppress(FileNotFoundError):
        os.unlink(path)
    return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW, mode)


@contextmanager
def replacing(
    path: str | os.PathLike[str], mode: int = 0o644, like: str = "", durable: bool = False
) -> Iterator[BufferedWriter]:
    """Yield a file to write: it takes the place of ``path`` when it is whole; where anything goes wrong it is gone.

    ``mode`` is that of a new file; with ``like`` it gets that file's mode and times. ``durable`` waits for the disk. Raises
    :class:`OSError`.
    """
    short = f"{os.fspath(path)}.{os.getpid()}.part"
    try:
        with open(fresh(short, mode), "wb") as file:
            yield file
            if durable:  # on disk before the rename: else a power cut could leave the name with nothing in it
                file.flush()
                os.fsync(file.fileno())
        if like:
            shutil.copystat(like, short)
        os.replace(short, path)
    except BaseException:
        with suppress(OSError):
            os.unlink(short)
        raise


def read(path: str | os.PathLike[str], most: int, begin: int = 0) -> bytes:
    """At most so many bytes of a file from one on, a negative ``begin`` counted from its end. Raises :class:`OSError`."""
    fd = opened(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        return read_range(fd, most, begin)
    finally:
        os.close(fd)


def read_range(fd: int, most: int, begin: int = 0) -> bytes:
    """At most so many bytes of an open file; what isn't there without waiting is left out."""
    pieces, left = list[bytes](), most
    at = max(0, os.fstat(fd).st_size + begin) if begin < 0 else begin
    with suppress(BlockingIOError):
        while left > 0 and (piece := os.pread(fd, min(left, 2**20), at)):
            pieces.append(piece)
            at, left = at + len(piece), left - len(piece)
    return b"".join(pieces)


def read_whole(path: str | os.PathLike[str], most: int = MOST_TEXT) -> bytes:
    """All of a file. Raises :class:`OSError`, also for one of more bytes than ``most``."""
    raw = read(path, most + 1)
    if len(raw) > most:
        raise _too_long(path, most)
    return raw


def read_by_command(path: str | os.PathLike[str], most: int = MOST_TEXT) -> bytes:
    """All of what a command was told to read by the person who waits for it: it may be a pipe, as a shell's ``<(...)`` is.

    Raises :class:`OSError`, also for more bytes than ``most``.
    """
    with opened_by_command(path) as file:
        raw = file.read(most + 1)
    if len(raw) > most:
        raise _too_long(path, most)
    return raw


def opened_by_command(path: str | os.PathLike[str]) -> BufferedReader:
    """Open a file that a command was told to read; reading waits for whoever writes it. Raises :class:`OSError`."""
    return open(path, "rb")


def _too_long(path: str | os.PathLike[str], most: int) -> OSError:
    return OSError(errno.EFBIG, f"it has more than {most:,} bytes", os.fspath(path))


_free = threading.BoundedSemaphore(MOST_STUCK)
_silent: dict[str, float] = {}
"""The beginnings of paths that did not answer, and until when they are not asked."""


def in_time(work: Callable[[], _T], path: str, within_s: float = WITHIN_S) -> _T:
    """Do something with files on a disk that may not answer, in a thread of its own, waited for so long at most.

    Raises what it raises, or :class:`TimeoutError`; then it may still go on, as a system call can't be called off.
    """
    tree = "/".join(path.split("/", 3)[:3])
    if time.monotonic() < _silent.get(tree, 0.0) or not _free.acquire(blocking=False):
        raise TimeoutError(errno.ETIMEDOUT, "its disk does not answer", path)
    found, faults = list[_T](), list[BaseException]()

    def run() -> None:
        try:
            found.append(work())
        except BaseException as fault:
            faults.append(fault)
        finally:
            _free.release()

    thread = threading.Thread(target=run, daemon=True, name="files")
    try:
        thread.start()
    except RuntimeError:  # no more threads can be made
        _free.release()
        return work()
    thread.join(within_s)
    if faults:
        raise faults[0]
    if not found:
        _silent[tree] = time.monotonic() + SILENT_S
        raise TimeoutError(errno.ETIMEDOUT, f"its disk did not answer within {within_s:g} seconds", path)
    return found[0]
