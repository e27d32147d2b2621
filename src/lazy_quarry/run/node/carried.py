"""Files of a job on a host that doesn't see the folder where it was submitted: a folder stands there in its place.

What is put there comes in pieces into a file beside it, and is moved to its place when all of it is there. Nothing outside of that
folder is written or read, whatever names say and whatever stands there: every part of a path is opened by itself, and no link is
followed.
"""

from __future__ import annotations

import errno
import glob
import hashlib
import json
import os
import stat
import zlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from lazy_quarry.files import ours
from lazy_quarry.run.node.attempt import OWN, own_folder

PLACE, TOLD = "place", "carried.json"
"""The folder, in the job's own of its attempt; and what is to be brought back of it, beside that."""
MOST_PIECE = 1 << 20
"""Bytes that are sent or read in one go."""


def place_of(folder: Path) -> Path:
    """The place of an attempt's files."""
    return own_folder(folder) / PLACE


def make_place(folder: Path, told: dict[str, Any]) -> str:
    """Make it; ``told`` is kept beside, for whoever brings back what is made there. Raises :class:`OSError`."""
    for each in (folder / OWN, folder / OWN / PLACE, folder / "carry"):
        with suppress(FileExistsError):
            each.mkdir(0o700)
    ours.write_whole(folder / TOLD, json.dumps(told))
    return str(folder / OWN / PLACE)


def told_of(folder: Path) -> dict[str, Any] | None:
    """Read what is still to be brought back of an attempt; None for nothing."""
    found: dict[str, Any] | None = ours.glance_json(folder / TOLD)
    return None if found is None else {**found, "place": str(place_of(folder))}


class Outside(OSError):
    """A path that leads out of a folder, or is none."""

    def __init__(self, path: str) -> None:
        super().__init__(errno.EINVAL, "it leads out of the folder, or is no name", path)


@contextmanager
def _folder_of(top: str, path: str, make: bool = False) -> Iterator[tuple[int, str]]:
    """The folder that a path below another is in, opened, and its last name; ``make``: what is missing of it is made."""
    parts = path.split("/")
    if not all(part not in ("", ".", "..") and "\0" not in part for part in parts):
        raise Outside(path)
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
    here = os.open(top, flags)
    try:
        for part in parts[:-1]:
            try:
                below = os.open(part, flags, dir_fd=here)
            except FileNotFoundError:
                if not make:
                    raise
                os.mkdir(part, 0o700, dir_fd=here)
                below = os.open(part, flags, dir_fd=here)
            os.close(here)
            here = below
        yield here, parts[-1]
    finally:
        os.close(here)


def put_piece(folder: Path, path: str, begin: int, piece: bytes, check: int) -> None:
    """Take a piece of a file; ``check`` is its CRC-32. Raises :class:`OSError`."""
    if zlib.crc32(piece) != check:
        raise OSError(errno.EIO, "a piece was damaged on its way", path)
    fd = ours.opened(_part(folder, path), os.O_WRONLY | os.O_CREAT)
    try:
        os.pwrite(fd, piece, begin)
    finally:
        os.close(fd)


def size_put(folder: Path, path: str) -> int:
    """Bytes of a file that are there already, though not all of it is."""
    try:
        return _part(folder, path).stat().st_size
    except OSError:
        return 0


def put_whole(folder: Path, path: str, size: int, digest: str, mode: int, mtime_ns: int) -> None:
    """All pieces of a file are there: look whether they are what was sent (SHA-256), and move it to its place.

    Raises :class:`OSError`; what was damaged is gone then, to be sent anew.
    """
    part = _part(folder, path)
    fd = ours.opened(part, os.O_RDWR | os.O_CREAT)
    try:
        os.ftruncate(fd, size)
        found = hashlib.sha256()
        at = 0
        while at < size and (piece := os.pread(fd, MOST_PIECE, at)):
            found.update(piece)
            at += len(piece)
        if found.hexdigest() != digest:
            os.unlink(part)
            raise OSError(errno.EIO, "it was damaged on its way", path)
        os.fchmod(fd, mode & 0o777)
        os.utime(fd, ns=(mtime_ns, mtime_ns))
        os.fsync(fd)
    finally:
        os.close(fd)
    with _folder_of(str(place_of(folder)), path, make=True) as (here, name):
        os.rename(part, name, dst_dir_fd=here)


def put_small(folder: Path, files: Sequence[Sequence[Any]]) -> None:
    """Take many small files at once: each with its path, content, mode and time of writing in ns. Raises :class:`OSError`."""
    place = str(place_of(folder))
    for path, content, mode, mtime_ns in files:
        with _folder_of(place, path, make=True) as (here, name):
            beside = f".{name[:100]}.new"
            fd = os.open(
                beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=here
            )
            try:
                view = memoryview(content)
                while len(view):
                    view = view[os.write(fd, view) :]
                os.fchmod(fd, mode & 0o777)
                os.utime(fd, ns=(mtime_ns, mtime_ns))
            finally:
                os.close(fd)
            os.rename(beside, name, src_dir_fd=here, dst_dir_fd=here)


def put_other(folder: Path, path: str, target: str | None) -> None:
    """Make a folder, or a link to ``target``, where nothing is. Raises :class:`OSError`."""
    with _folder_of(str(place_of(folder)), path, make=True) as (here, name), suppress(FileExistsError):
        if target is None:
            os.mkdir(name, 0o700, dir_fd=here)
        else:
            os.symlink(target, name, dir_fd=here)


def listing(top: str, patterns: Sequence[str]) -> tuple[list[list[Any]], list[str]]:
    """List what paths and patterns below a folder meet: kinds, sizes, modes, times in ns, targets of links; and those
    that meet nothing. Folders come with all that is in them. What is neither file, folder nor link is left out, no link followed.
    """
    found: dict[str, list[Any]] = {}
    missing = []
    for pattern in patterns:
        met = _met(top, pattern)
        if not met:
            missing.append(pattern)
        for path in met:
            for each in _with_all_below(top, path):
                found.setdefault(each[0], each)
    return [found[path] for path in sorted(found)], missing


def _met(top: str, pattern: str) -> list[str]:
    plain = os.path.normpath(pattern)
    if os.path.isabs(plain) or plain.startswith(".."):
        raise Outside(pattern)
    if not glob.has_magic(plain):
        return [plain] if os.path.lexists(f"{top}/{plain}") else []
    return sorted(os.path.relpath(each, top) for each in glob.glob(f"{glob.escape(top)}/{plain}", recursive=True))


def _with_all_below(top: str, path: str) -> Iterator[list[Any]]:
    entry = _entry(top, path)
    if entry is not None:
        yield entry
    if entry is not None and entry[1] == "folder":
        for folder, below, names in os.walk(f"{top}/{path}"):
            here = os.path.relpath(folder, top)
            for name in [*below, *names]:
                inner = _entry(top, f"{here}/{name}")
                if inner is not None:
                    yield inner


def _entry(top: str, path: str) -> list[Any] | None:
    try:
        seen = os.lstat(f"{top}/{path}")
        if stat.S_ISREG(seen.st_mode):
            return [path, "file", seen.st_size, seen.st_mode & 0o777, seen.st_mtime_ns, ""]
        if stat.S_ISDIR(seen.st_mode):
            return [path, "folder", 0, seen.st_mode & 0o777, seen.st_mtime_ns, ""]
        if stat.S_ISLNK(seen.st_mode):
            return [path, "link", 0, 0, seen.st_mtime_ns, os.readlink(f"{top}/{path}")]
    except OSError:
        pass
    return None


def get_piece(top: str, path: str, begin: int) -> list[Any]:
    """A piece of a file below a folder: its bytes, their CRC-32, and the file's size and time of writing in ns as they are now.

    Raises :class:`OSError`.
    """
    with _folder_of(top, path) as (here, name):
        fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=here)
        try:
            seen = os.fstat(fd)
            if not stat.S_ISREG(seen.st_mode):
                raise Outside(path)
            piece = os.pread(fd, MOST_PIECE, begin)
        finally:
            os.close(fd)
    return [piece, zlib.crc32(piece), seen.st_size, seen.st_mtime_ns]


def digest_of(top: str, path: str) -> str:
    """The SHA-256 of a file below a folder. Raises :class:`OSError`."""
    found, begin = hashlib.sha256(), 0
    while piece := get_piece(top, path, begin)[0]:
        found.update(piece)
        begin += len(piece)
    return found.hexdigest()


def _part(folder: Path, path: str) -> Path:
    """Where the pieces of a file are until all of it is there."""
    return folder / "carry" / hashlib.sha256(os.fsencode(path)).hexdigest()[:32]
