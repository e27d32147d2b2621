"""Small files, by plain system calls: a supervisor handles dozens of them for each job."""

from __future__ import annotations

import json
import os
from contextlib import suppress
from typing import Any


def read_file(path: str | os.PathLike[str]) -> bytes:
    """All that a file holds. Raises :class:`OSError`."""
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        found = os.read(fd, 1 << 16)
        while more := os.read(fd, 1 << 16):
            found += more
        return found
    finally:
        os.close(fd)


def read_json(path: str | os.PathLike[str]) -> Any:
    """What a file holds, or None when it is not there or not whole."""
    try:
        return json.loads(read_file(path))
    except (OSError, ValueError):
        return None


def write_file(path: str, text: str, mode: int = 0o600, durable: bool = False) -> None:
    """Write a file in place, all of it. Raises :class:`OSError`, and then what was written is gone."""
    fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, mode)
    try:
        left = text.encode()
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


def write_whole(path: str | os.PathLike[str], text: str, durable: bool = True) -> None:
    """Write a file so that it exists with all of its text, or not at all. Raises :class:`OSError`."""
    short = f"{os.fspath(path)}.{os.getpid()}"
    # On disk before the rename: else a power cut could leave the name with nothing in it.
    write_file(short, text, durable=durable)
    os.rename(short, path)
