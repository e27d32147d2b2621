"""Carries a job's files to a host that doesn't see the folder where it was submitted, and what it made back from there.

The job's header says what travels: what ``stage`` takes in and brings out, and with it the output and the errors. On the host a
folder stands for the one that it was submitted in; to the job that is where it starts.
"""

from __future__ import annotations

import errno
import os
import posixpath
import stat
import threading
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from typing import Any, NamedTuple

from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.paths import fill_in
from lazy_quarry.core.units import format_bytes
from lazy_quarry.core.values import replace
from lazy_quarry.run.fetching import IN_FLIGHT, FetchPiece, is_same, pieces_in_order
from lazy_quarry.run.hosts.pace import Pace
from lazy_quarry.run.node.attempt import Intent, IntentTooLong, Paths
from lazy_quarry.run.node.carried import MOST_PIECE, folder_of, get_piece, listing, written_beside
from lazy_quarry.run.node.file_service import FileService

Told = Callable[[int, int], None]
"""Is told how many bytes of all were copied."""
SMALL, MOST_AT_ONCE = 256 << 10, 4 << 20
"""Bytes of a file that is sent together with others, and of all that are sent at once."""
PATH_BYTES = 200
"""About what a file takes beside its content."""
_PIECES_PACKED = 4
"""Small files are packed until they have about so many times the bytes of a piece."""
_ASIDE = ".lazy-quarry-"
"""Before the name of an output that isn't below the folder where the job was submitted."""


class CannotTravel(IntentTooLong):
    """Something that should travel can't; the message says what."""


def travels(job: Job) -> bool:
    """True for a job whose header says what travels."""
    return bool(job.request.stage.into or job.request.stage.out)


def told_of(job: Job) -> dict[str, Any]:
    """Note what is to be brought back of a job: patterns from its folder, and files by names there, each with its path here."""
    paths, words = job.paths, job.paths.words
    files = {_place(job, path, key): path for key, path in (("output", paths.output), ("errors", paths.errors))}
    patterns = [fill_in(path, words) for path in job.request.stage.out]
    printed = {"output": paths.output, **({"errors": paths.errors} if paths.errors != paths.output else {})}
    found = {name: path for name, path in files.items() if name}
    return {"folder": paths.folder, "out": patterns, "files": found, "printed": printed}


def _place(job: Job, path: str, key: str) -> str:
    """Where in the place something of a job's is that here has this path; empty for what isn't a file of a job's."""
    if not path or path.startswith("/dev/"):
        return ""
    below = posixpath.relpath(path, job.paths.folder)
    return below if not below.startswith("..") else _ASIDE + key


def moved(intent: Intent, job: Job, place: str) -> Intent:
    """An intent whose job starts, reads and prints in its place."""

    def there(path: str, key: str) -> str:
        return f"{place}/{name}" if (name := _place(job, path, key)) else path

    paths = intent.paths
    return replace(
        intent,
        paths=Paths(place, there(paths.output, "output"), there(paths.errors, "errors"), there(paths.input, "input")),
    )


# -- there ----------------------------------------------------------------------------------------


def carry_in(
    service: FileService, name: str, job: Job, told: Told = lambda done, total: None, carrying: Carrying | None = None
) -> None:
    """Put what a job takes in into its place. Raises :class:`CannotTravel` for what isn't here, :class:`OSError` else, also
    where there is no room for it: nothing is there then.
    """
    carrying = carrying or Carrying()
    words, top = job.paths.words, os.path.realpath(job.paths.folder)
    wanted = [fill_in(path, words) for path in job.request.stage.into]
    if job.paths.input and (place := _place(job, job.paths.input, "input")):
        if place.startswith(_ASIDE):
            raise CannotTravel(f"its input {job.paths.input} is outside of {top}, and only what is below that travels")
        wanted.append(place)
    for path in wanted:
        if os.path.isabs(path) or os.path.normpath(path).startswith(".."):
            raise CannotTravel(f"{path} is outside of {top}, and only what is below that travels")
    found, missing = listing(top, wanted)
    if missing:
        raise CannotTravel(f"{missing[0]} is not in {top}, and it should travel with the job")
    _has_room(service, name, top, found)
    try:
        _put_all(service, name, top, found, told, carrying)
    except OSError as fault:
        if fault.errno in (errno.ENOSPC, errno.EDQUOT):
            service.drop_place(name)
        raise


def _has_room(service: FileService, name: str, top: str, found: list[list[Any]]) -> None:
    """Raise :class:`OSError` where there isn't room for all of it."""
    large = [path for path, kind, size, *_ in found if kind == "file" and size > SMALL]
    held = {path: os.lstat(f"{top}/{path}").st_blocks * 512 for path in large}
    wanted = sum(min(size, held.get(path, size)) + PATH_BYTES for path, _, size, *_ in found)
    wanted -= sum(service.size_put(name, path) for path in large)
    free = service.make_room(name, wanted)
    if free < wanted:
        service.drop_place(name)
        missing = format_bytes(wanted - free)
        raise OSError(f"its files need {format_bytes(wanted)} there, and {missing} of that are missing")


def _put_all(service: FileService, name: str, top: str, found: list[list[Any]], told: Told, carrying: Carrying) -> None:
    small: list[list[Any]] = []
    held = 0
    done, total = 0, sum(one[2] for one in found)
    told(0, total)
    for path, kind, size, mode, mtime_ns, target in found:
        if kind != "file":
            service.put_other(name, path, target if kind == "link" else None)
        elif size <= SMALL:
            content, _, now, _, _ = get_piece(top, path, 0)
            if now != size:
                raise CannotTravel(f"{path} in {top} changed while it was read")
            small.append([path, content, mode, mtime_ns])
            held += size + PATH_BYTES
            if held > min(MOST_AT_ONCE, _PIECES_PACKED * carrying.pace.piece):
                with carrying.pace.turn(held):
                    service.put_small(name, small)
                small, held = [], 0
        else:
            out = _Out(service, name, top, path, size, mode, mtime_ns)
            carrying.file(out, partial(_told_more, told, done, total))
        done += size
        told(done, total)
    if small:
        with carrying.pace.turn(held):
            service.put_small(name, small)


def _told_more(told: Told, before: int, total: int, sent: int) -> None:
    told(before + sent, total)


class _Out(NamedTuple):
    """A large file that is to be in an attempt's place, as it was when it was listed."""

    service: FileService
    name: str
    top: str
    path: str
    size: int
    mode: int
    mtime_ns: int

    def which(self) -> tuple[int, int, int, int]:
        """What tells it from others now: device, inode, size and time of writing in ns. Raises :class:`OSError`."""
        found = os.lstat(f"{self.top}/{self.path}")
        return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns

    def is_kept(self, kept: str, pool: ThreadPoolExecutor) -> bool:
        """True when a file of its size that is kept there has the same bytes. Raises :class:`OSError`."""
        return is_same(self.top, self.path, self.size, partial(self.service.kept_digest, self.name, kept), pool)

    def use(self, kept: str) -> bool:
        """Have it in its place from a file that is kept there; False where that is gone. Raises :class:`OSError`."""
        return self.service.use_kept(self.name, self.path, self.size, kept, self.mode, self.mtime_ns)

    def finish(self, sent: int | None, pool: ThreadPoolExecutor) -> str:
        """All of it was sent, so many bytes in one go, or None where there were more; returns the name that it is kept under.

        Raises :class:`OSError`, also where not all came as it was sent: what came is gone then.
        """
        service, name, path, rest = self.service, self.name, self.path, (self.size, self.mode, self.mtime_ns)
        kept = service.put_whole(name, path, *rest, sent, False)
        if kept is None:
            if not is_same(self.top, path, self.size, partial(service.put_digest, name, path), pool):
                service.drop_put(name, path)
                raise OSError(errno.EIO, "it was damaged on its way", path)
            kept = service.put_whole(name, path, *rest, None, True)
        return kept or ""


class Carrying:
    """Large files on their way to one host, by any of its copies: what is there already, or is just being sent, isn't sent again.

    A file is known by its inode, size and time of writing; others of its size that are kept there are compared with it.
    """

    MOST_KNOWN = 10_000

    def __init__(self, pace: Pace | None = None) -> None:
        self.pace = pace or Pace()
        self._kept: dict[tuple[int, ...], str] = {}
        """The names of files that are kept there."""
        self._sending: dict[tuple[int, ...], threading.Lock] = {}
        self._lock = threading.Lock()

    def file(self, out: _Out, told: Callable[[int], None]) -> None:
        """Have a file there. Raises :class:`CannotTravel`, :class:`OSError`."""
        which = out.which()
        with self._lock:
            sending = self._sending.setdefault(which, threading.Lock())
        with sending:  # of two jobs that take it in the second one waits for the first, and has it then
            kept = self._kept.get(which) or self._same(out, which)
            if not kept or not out.use(kept):
                kept = self._send(out, told)
            if len(self._kept) > self.MOST_KNOWN:
                self._kept.clear()
            self._kept[which] = kept
        with self._lock:
            self._sending.pop(which, None)

    @staticmethod
    def _same(out: _Out, which: tuple[int, ...]) -> str:
        """The name of a file that is kept there and has the same bytes; empty for none."""
        with ThreadPoolExecutor(1) as pool:
            for kept in out.service.kept_of_size(out.name, out.size):
                with suppress(FileNotFoundError):  # it gave way meanwhile
                    if out.is_kept(kept, pool):
                        return kept if out.which() == which else ""
        return ""

    def _send(self, out: _Out, told: Callable[[int], None]) -> str:
        """Send a file, from where an earlier try came to; returns the name under which it is kept there, empty where it isn't."""
        # Pieces are under way together: of the last ones that came, earlier ones may be missing.
        there = max(0, out.service.begin_put(out.name, out.path, out.size) - IN_FLIGHT * MOST_PIECE)
        begin, sent, under_way = 0, 0, deque[Future[None]]()

        def put(at: int, piece: bytes, check: int) -> None:
            with self.pace.turn(len(piece)):
                out.service.put_piece(out.name, out.path, at, piece, check)

        with ThreadPoolExecutor(IN_FLIGHT) as pool:
            while begin < out.size:
                piece, check, now, written, hole = get_piece(out.top, out.path, begin, self.pace.piece)
                if not (piece or hole) or now != out.size or written != out.mtime_ns:
                    raise CannotTravel(f"{out.path} in {out.top} changed while it was read")
                if piece and begin + len(piece) > there:
                    under_way.append(pool.submit(put, begin, piece, check))
                    sent += len(piece)
                begin += len(piece) + hole
                while len(under_way) >= 2 * IN_FLIGHT:
                    under_way.popleft().result()
                told(begin)
            for one in under_way:
                one.result()
            return out.finish(None if there else sent, pool)


# -- back -----------------------------------------------------------------------------------------


def bring_back(
    service: FileService,
    name: str,
    told: dict[str, Any],
    progress: Told = lambda done, total: None,
    pace: Pace | None = None,
) -> None:
    """Bring back what a job made, as it was told when it was sent; what is here already as it is there is not brought again.

    Raises :class:`OSError`: :class:`ConnectionError` when the host is gone, else what is in the way here or there.
    """
    folder, files, pace = str(told["folder"]), dict(told["files"]), pace or Pace()
    found = service.place_files(name, [*told["out"], *files])
    done, total = 0, sum(one[2] for one in found)
    progress(0, total)
    with ThreadPoolExecutor(IN_FLIGHT) as pool:
        for path, kind, size, mode, mtime_ns, target in found:
            top, name_here = folder, path
            if path.startswith(_ASIDE) and path in files:
                top, name_here = os.path.split(files[path])
                os.makedirs(top, exist_ok=True)
            try:
                with folder_of(os.path.realpath(top), name_here, make=True) as (here, last):
                    if kind == "folder":
                        with suppress(FileExistsError):
                            os.mkdir(last, dir_fd=here)
                    elif kind == "link":
                        with suppress(FileExistsError):
                            os.symlink(target, last, dir_fd=here)
                    elif not _is_here(last, here, size, mtime_ns):
                        with written_beside(here, last, mode, mtime_ns) as out:
                            for piece, hole in _pieces(service, name, path, size, mtime_ns, pace, pool):
                                _write(out, piece, hole)
                                done += len(piece) + hole
                                progress(done, total)
            except OSError as fault:
                if fault.errno in (errno.ELOOP, errno.ENOTDIR):
                    words = "it would lead out of the folder where it was submitted"
                    raise OSError(errno.EINVAL, words, path) from None
                raise


def _write(out: int, piece: bytes, hole: int) -> None:
    """Write a piece at the end of a file, or leave a hole there."""
    view = memoryview(piece)
    while len(view):
        view = view[os.write(out, view) :]
    if hole:
        os.ftruncate(out, os.lseek(out, hole, os.SEEK_CUR))


def _is_here(name: str, folder: int, size: int, mtime_ns: int) -> bool:
    try:
        seen = os.lstat(name, dir_fd=folder)
    except OSError:
        return False
    return stat.S_ISREG(seen.st_mode) and seen.st_size == size and seen.st_mtime_ns == mtime_ns


def _pieces(
    service: FileService, name: str, path: str, size: int, mtime_ns: int, pace: Pace, pool: ThreadPoolExecutor
) -> Iterator[tuple[bytes, int]]:
    """The pieces of a file in their order, each with the bytes of the hole that begins there in its place."""

    def get(at: int, most: int) -> FetchPiece:
        with pace.turn(most):
            return FetchPiece(*service.get_piece(name, path, at, most))

    for _, piece in pieces_in_order(path, get, 0, size, lambda: pace.piece, pool):
        if (piece.size, piece.written_ns) != (size, mtime_ns):
            raise OSError(errno.EBUSY, "it changed while it was brought back", path)
        yield piece.content, piece.hole


def marks_here(told: dict[str, Any]) -> tuple[FileMark, ...]:
    """Mark the output and the errors of a job, now that they were brought back."""
    found = []
    for which, path in dict(told["printed"]).items():
        with suppress(OSError):
            seen = os.stat(path)
            if which in ("output", "errors"):
                found.append(FileMark(which, seen.st_dev, seen.st_ino, seen.st_size, seen.st_mtime_ns))
    return tuple(found)
