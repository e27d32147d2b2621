"""Large files that came for jobs, beside the attempts: the next job that takes one in has it from there.

They are removed when nobody has taken them for long, and sooner where the room is needed.
"""

from __future__ import annotations

import fcntl
import os
import secrets
import shutil
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

KEPT_INPUTS = "inputs"
KEPT_S = 7 * 86_400
"""Seconds after which one is removed that nobody has taken meanwhile."""
_NAME_BYTES = 32
_CLONE = 0x40049409
"""FICLONE (ioctl_ficlone(2)): a file has the same blocks as another from then on, each its own when it is written."""
_PART = 4
"""A file is kept where at least so many times its size is free."""


def kept_inputs(spool: Path) -> Path:
    """The folder that they are in."""
    return spool.parent / KEPT_INPUTS


def is_room_for(folder: Path, size: int) -> bool:
    """True where a file of so many bytes that comes for an attempt may be kept too."""
    return shutil.disk_usage(folder).free >= _PART * size


def shares_blocks(folder: Path) -> bool:
    """True where a copy of a file costs nothing: it has the same blocks until one of both is written."""
    try:
        one, other = (os.open(folder, os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600) for _ in range(2))
    except OSError:
        return False
    try:
        os.write(one, bytes(4096))
        fcntl.ioctl(other, _CLONE, one)
    except OSError:
        return False
    finally:
        os.close(one)
        os.close(other)
    return True


def keep(folder: Path, file: Path) -> str:
    """Move a file of an attempt to those that are kept; returns its name there. Raises :class:`OSError`."""
    kept, name = kept_inputs(folder.parent), secrets.token_hex(_NAME_BYTES)
    kept.mkdir(0o700, exist_ok=True)
    os.rename(file, kept / name)
    return name


def kept_files(spool: Path) -> Iterator[tuple[str, int, float]]:
    """Each with its name there, size, and instant of its last use in seconds."""
    with suppress(OSError):
        for each in kept_inputs(spool).iterdir():
            with suppress(OSError):
                seen = each.stat()
                yield each.name, seen.st_size, seen.st_mtime


def drop_kept(spool: Path, name: str) -> None:
    """Remove one of them. Raises :class:`OSError`."""
    (kept_inputs(spool) / os.path.basename(name)).unlink()


def make_room(folder: Path, wanted: int) -> int:
    """Bytes that are free for an attempt, after as many were removed as are in the way, beginning with those unused for longest."""
    for name, _, _ in sorted(kept_files(folder.parent), key=lambda one: one[2]):
        if shutil.disk_usage(folder).free >= wanted:
            break
        with suppress(OSError):
            drop_kept(folder.parent, name)
    return shutil.disk_usage(folder).free


def sweep_kept(spool: Path) -> None:
    """Remove what nobody has taken for long."""
    for name, _, used in list(kept_files(spool)):
        if time.time() - used > KEPT_S:
            with suppress(OSError):
                drop_kept(spool, name)
