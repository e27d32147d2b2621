"""Files of ours, below a folder that was checked: the spool, locks, logs, the journal, mail.

Each is a regular file that belongs to this process's user and is no link, whatever somebody has put in its place; opening never
waits. Their modes are what is said here, whatever the umask is. Plain system calls, for a supervisor handles dozens of them for
each job.
"""

from __future__ import annotations

import errno
import os
import stat
from contextlib import suppress

from lazy_quarry.files.kinds import NotAFile, kind_of

TYPE_CHECKING = False  # typing takes longer to load than a relay has
if TYPE_CHECKING:
    from typing import Any

MOST_READ = 256 * 2**20
_CHUNK = 2**20


def opened(path: str | os.PathLike[str], flags: int = os.O_RDONLY, mode: int = 0o600) -> int:
    """Open a file of ours. Raises :class:`NotAFile` for anything else that stands there, or :class:`OSError`."""
    name = os.fspath(path)
    try:
        fd = os.open(
            name,
            (flags & ~os.O_TRUNC) | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY,
            mode,
        )
    except OSError as fault:
        if fault.errno in (errno.ELOOP, errno.ENXIO):
            raise NotAFile("a link" if fault.errno == errno.ELOOP else "a pipe or a socket", name) from None
        raise
    try:
        found = os.fstat(fd)
        if what := kind_of(found):
            raise NotAFile(what, name)
        if found.st_uid != os.geteuid():
            raise PermissionError(errno.EPERM, "it belongs to somebody else", name)
        if flags & os.O_CREAT and stat.S_IMODE(found.st_mode) != mode:
            os.fchmod(fd, mode)
        if flags & os.O_TRUNC:
            os.ftruncate(fd, 0)
    except BaseException:
        os.close(fd)
        raise
    return fd


def read(path: str | os.PathLike[str], most: int = MOST_READ) -> bytes:
    """All that a file of ours holds. Raises :class:`OSError`, also for one of more bytes than ``most``."""
    fd = opened(path)
    try:
        return read_from(fd, most, os.fspath(path))
    finally:
        os.close(fd)


def read_from(fd: int, most: int, name: str) -> bytes:
    """The rest of an open file. Raises :class:`OSError` for more bytes than ``most``."""
    pieces, left = list[bytes](), most + 1
    while left > 0 and (piece := os.read(fd, min(left, _CHUNK))):
        pieces.append(piece)
        left -= len(piece)
    if left <= 0:
        raise OSError(errno.EFBIG, f"it has more than {most:,} bytes", name)
    return pieces[0] if len(pieces) == 1 else b"".join(pieces)


def read_text(path: str | os.PathLike[str]) -> str:
    """The text of a file of ours; what isn't UTF-8 in it is replaced. Raises :class:`OSError`."""
    return read(path).decode(errors="replace")


def read_json(path: str | os.PathLike[str]) -> Any:
    """The value in a file of ours, or None when it is not there or not whole.

    Raises :class:`OSError` when that can't be told, as without a free file descriptor: that it is not there decides about jobs.
    """
    import json  # a relay, which reads none, is begun for every connection

    try:
        return json.loads(read(path))
    except (FileNotFoundError, NotADirectoryError, NotAFile, ValueError, RecursionError):
        return None


def glance_json(path: str | os.PathLike[str]) -> Any:
    """As :func:`read_json`, but None whatever is in the way: for what is only shown."""
    try:
        return read_json(path)
    except OSError:
        return None


def write(path: str | os.PathLike[str], text: str | bytes, mode: int = 0o600, durable: bool = False) -> None:
    """Write a file in place, all of it. Raises :class:`OSError`, and then what was written is gone."""
    fd = opened(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode)
    try:
        left = memoryview(text.encode() if isinstance(text, str) else text)
        while left:  # a write may be short, as when the disk is nearly full: the next one then fails
            left = left[os.write(fd, left) :]
        if durable:
            os.fsync(fd)
    except OSError:
        with suppress(OSError):
            os.unlink(path)
        raise
    finally:
        os.close(fd)


def write_whole(path: str | os.PathLike[str], text: str | bytes, durable: bool = True, mode: int = 0o600) -> None:
    """Write a file so that it exists with all of its text, or not at all. Raises :class:`OSError`."""
    short = f"{os.fspath(path)}.{os.getpid()}"
    # On disk before the rename: else a power cut could leave the name with nothing in it.
    write(short, text, mode, durable)
    os.rename(short, path)
