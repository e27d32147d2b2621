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
import shutil
import stat
import threading
import zlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from lazy_quarry.files import ours
from lazy_quarry.run.node.attempt import OWN, own_folder
from lazy_quarry.run.node.kept_inputs import is_room_for, keep, kept_inputs, shares_blocks

PLACE, TOLD = "place", "carried.json"
"""The folder, in the job's own of its attempt; and what is to be brought back of it, beside that."""
MOST_PIECE = 1 << 20
"""Bytes that are sent or read in one go."""
_ZEROS = memoryview(bytes(MOST_PIECE))


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
def folder_of(top: str, path: str, make: bool = False) -> Iterator[tuple[int, str]]:
    """The folder that a path below another is in, opened, and its last name; ``make``: what is missing of it is made.

    No link is followed on the way, nor is ``top`` one. Raises :class:`OSError`.
    """
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


class _Coming:
    """A file whose pieces come over this connection: how many of its bytes came, and another copy of it that is kept, if any."""

    def __init__(self, second: Path | None = None) -> None:
        self.bytes = 0
        self.second = second


_COMING: dict[str, _Coming] = {}
"""By the file that the pieces are put in."""
_COUNTING = threading.Lock()


def begin_put(folder: Path, path: str, size: int) -> int:
    """A file of so many bytes is about to come; returns how many of them are there already. What comes is counted from here on.

    Where all of it comes, and there is room, its pieces are written twice: one file for the job, another for the next that takes
    it in. To copy it afterwards would take longer, unless files share blocks there.
    """
    part, second = _part(folder, path), _second(folder, path)
    with suppress(OSError):
        second.unlink()
    there = size_put(folder, path)
    twice = not there and is_room_for(folder, size) and not shares_blocks(folder)
    with _COUNTING:
        _COMING[str(part)] = _Coming(second if twice else None)
    return there


def size_put(folder: Path, path: str) -> int:
    """Bytes of a file that are there already, though not all of it is."""
    try:
        return _part(folder, path).stat().st_size
    except OSError:
        return 0


def put_piece(folder: Path, path: str, begin: int, piece: bytes, check: int) -> None:
    """Take a piece of a file; ``check`` is its CRC-32. Raises :class:`OSError`."""
    if zlib.crc32(piece) != check:
        raise OSError(errno.EIO, "a piece was damaged on its way", path)
    part = _part(folder, path)
    with _COUNTING:
        coming = _COMING.setdefault(str(part), _Coming())
        coming.bytes += len(piece)
        second = coming.second
    if second is not None:
        try:
            _put_at(second, piece, begin)
            _put_at(part, piece, begin)
            return
        except OSError:  # without the other there may be room for the job's own
            coming.second = None
            with suppress(OSError):
                second.unlink()
    _put_at(part, piece, begin)


def _put_at(file: Path, piece: bytes, begin: int) -> None:
    fd = ours.opened(file, os.O_WRONLY | os.O_CREAT)
    try:
        view = memoryview(piece)
        while len(view):
            written = os.pwrite(fd, view, begin)
            view, begin = view[written:], begin + written
    finally:
        os.close(fd)


def put_whole(
    folder: Path, path: str, size: int, mode: int, mtime_ns: int, sent: int | None, compared: bool
) -> str | None:
    """All pieces of a file are there: move it to its place. Returns the name under which another is kept for the next job that
    takes it in, empty where there is no room for that.

    ``sent`` are the bytes of its pieces where all of them were sent in one go: each was compared by its CRC-32 then. Else, and
    where not as many came, what came before a crash may not be on the disk: None is returned, and whoever sends it compares all of
    it (:func:`put_digest`) and says so (``compared``). Raises :class:`OSError`.
    """
    part = _part(folder, path)
    with _COUNTING:
        coming = _COMING.pop(str(part), _Coming())
    fd = ours.opened(part, os.O_RDWR | os.O_CREAT)
    try:
        os.ftruncate(fd, size)
        if not compared and coming.bytes != sent:
            return None
        kept = _kept_too(folder, coming.second, size) if coming.second is not None else ""
        stays = not kept and is_room_for(folder, size)
        if not stays:
            os.fchmod(fd, mode & 0o777)
            os.utime(fd, ns=(mtime_ns, mtime_ns))
        if not kept:
            os.fsync(fd)
    finally:
        os.close(fd)
    if stays:
        kept = keep(folder, part)
        use_kept(folder, path, size, kept, mode, mtime_ns)
        return kept
    with folder_of(str(place_of(folder)), path, make=True) as (here, name):
        os.rename(part, name, dst_dir_fd=here)
    return kept


def put_digest(folder: Path, path: str, begin: int, most: int) -> str:
    """The SHA-256 of so many bytes of what came of a file. Raises :class:`OSError`."""
    part = _part(folder, path)
    return digest_of(str(part.parent), part.name, begin, most)


def drop_put(folder: Path, path: str) -> None:
    """What came of a file is not what was sent: it goes, to be sent anew."""
    _part(folder, path).unlink(missing_ok=True)


def _kept_too(folder: Path, second: Path, size: int) -> str:
    """Keep the second file that was written; returns its name there, empty where something is in the way."""
    try:
        fd = ours.opened(second, os.O_WRONLY)
        try:
            os.ftruncate(fd, size)
            os.fsync(fd)
        finally:
            os.close(fd)
        return keep(folder, second)
    except OSError:
        return ""


def kept_digest(folder: Path, kept: str, begin: int, most: int) -> str:
    """The SHA-256 of so many bytes of a file that is kept here. Raises :class:`OSError`."""
    return digest_of(str(kept_inputs(folder.parent)), kept, begin, most)


def use_kept(folder: Path, path: str, size: int, kept: str, mode: int, mtime_ns: int) -> bool:
    """Put a file into its place from those that are kept here; False where it isn't among them. Raises :class:`OSError`."""
    try:
        source = ours.opened(kept_inputs(folder.parent) / os.path.basename(kept), os.O_RDWR)
    except OSError:
        return False
    try:
        if os.fstat(source).st_size != size:
            return False
        os.utime(source)  # it is of use
        with (
            folder_of(str(place_of(folder)), path, make=True) as (here, name),
            written_beside(here, name, mode, mtime_ns) as fd,
        ):
            _copy(source, fd, size)
    finally:
        os.close(source)
    return True


def drop_place(folder: Path) -> None:
    """Nothing starts there after all, for now: what was put there is removed."""
    for each in (place_of(folder), folder / "carry"):
        shutil.rmtree(each, ignore_errors=True)


@contextmanager
def written_beside(here: int, name: str, mode: int, mtime_ns: int) -> Iterator[int]:
    """A new file in an open folder: under its name when it is whole, and gone where anything goes wrong."""
    beside = f".{name[:100]}.new"
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC
    fd = os.open(beside, flags, 0o600, dir_fd=here)
    try:
        yield fd
        os.fchmod(fd, mode & 0o777)
        os.utime(fd, ns=(mtime_ns, mtime_ns))
        os.rename(beside, name, src_dir_fd=here, dst_dir_fd=here)
    except BaseException:
        with suppress(OSError):
            os.unlink(beside, dir_fd=here)
        raise
    finally:
        os.close(fd)


def _copy(source: int, target: int, size: int) -> None:
    """Copy a file on this machine, its holes as holes. Raises :class:`OSError`."""
    os.ftruncate(target, size)
    at = 0
    while at < size:
        try:
            at = os.lseek(source, at, os.SEEK_DATA)
            end = os.lseek(source, at, os.SEEK_HOLE)
        except OSError as fault:
            if fault.errno == errno.ENXIO:
                return  # only a hole is left
            raise
        while at < end:
            try:
                copied = os.copy_file_range(source, target, end - at, at, at)
            except OSError as fault:
                if fault.errno not in (errno.EXDEV, errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP):
                    raise
                copied = os.pwrite(target, os.pread(source, min(end - at, MOST_PIECE), at), at)
            if not copied:
                raise OSError(errno.EIO, "it became shorter while it was copied")
            at += copied


def put_small(folder: Path, files: Sequence[Sequence[Any]]) -> None:
    """Take many small files at once: each with its path, content, mode and time of writing in ns. Raises :class:`OSError`."""
    place = str(place_of(folder))
    for path, content, mode, mtime_ns in files:
        with folder_of(place, path, make=True) as (here, name), written_beside(here, name, mode, mtime_ns) as fd:
            view = memoryview(content)
            while len(view):
                view = view[os.write(fd, view) :]


def put_other(folder: Path, path: str, target: str | None) -> None:
    """Make a folder, or a link to ``target``, where nothing is. Raises :class:`OSError`."""
    with folder_of(str(place_of(folder)), path, make=True) as (here, name), suppress(FileExistsError):
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


def get_piece(top: str, path: str, begin: int, most: int = MOST_PIECE) -> list[Any]:
    """A piece of a file below a folder: its bytes, their CRC-32, the file's size and time of writing in ns as they are now, and
    how many bytes of a hole begin here, in place of a piece.

    Raises :class:`OSError`.
    """
    hole = 0
    with folder_of(top, path) as (here, name):
        fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=here)
        try:
            seen = os.fstat(fd)
            if not stat.S_ISREG(seen.st_mode):
                raise Outside(path)
            if seen.st_size > MOST_PIECE and seen.st_blocks * 512 < seen.st_size:
                hole = _hole(fd, begin, seen.st_size)
            piece = b"" if hole else os.pread(fd, min(most, MOST_PIECE), begin)
        finally:
            os.close(fd)
    return [piece, zlib.crc32(piece), seen.st_size, seen.st_mtime_ns, hole]


def _hole(fd: int, begin: int, size: int) -> int:
    """Bytes of the hole that a file has at a place, 0 for none."""
    try:
        return os.lseek(fd, begin, os.SEEK_DATA) - begin
    except OSError as fault:
        return max(0, size - begin) if fault.errno == errno.ENXIO else 0


def _add_zeros(digest: Any, count: int) -> None:
    """Take the bytes of a hole into a checksum."""
    while count:
        some = min(count, MOST_PIECE)
        digest.update(_ZEROS[:some])
        count -= some


def digest_of(top: str, path: str, begin: int = 0, most: int | None = None) -> str:
    """The SHA-256 of a file below a folder, or of so many of its bytes from one on. Raises :class:`OSError`."""
    found, left = hashlib.sha256(), most
    while left is None or left > 0:
        piece, _, _, _, hole = get_piece(top, path, begin, MOST_PIECE if left is None else min(MOST_PIECE, left))
        if not piece and not hole:
            break
        hole = hole if left is None else min(hole, left)
        found.update(piece)
        _add_zeros(found, hole)
        begin += len(piece) + hole
        left = None if left is None else left - len(piece) - hole
    return found.hexdigest()


def _part(folder: Path, path: str) -> Path:
    """Where the pieces of a file are until all of it is there."""
    return folder / "carry" / hashlib.sha256(os.fsencode(path)).hexdigest()[:32]


def _second(folder: Path, path: str) -> Path:
    return _part(folder, path).with_suffix(".kept")
