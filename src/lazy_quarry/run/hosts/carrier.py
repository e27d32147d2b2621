"""Carries a job's files to a host that doesn't see the folder where it was submitted, and what it made back from there.

The job's header says what travels: what ``stage`` takes in and brings out, and with it the output and the errors. On the host a
folder stands for the one that it was submitted in; to the job that is where it starts.
"""

from __future__ import annotations

import errno
import hashlib
import os
import posixpath
import zlib
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import Any

from lazy_quarry.core.job.file_mark import FileMark
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.paths import fill_in
from lazy_quarry.files import given
from lazy_quarry.run.node.attempt import Intent, IntentTooLong, Paths
from lazy_quarry.run.node.carried import MOST_PIECE, get_piece, listing
from lazy_quarry.run.node.file_service import FileService

Told = Callable[[int, int], None]
"""Is told how many bytes of all were copied."""
SMALL, MOST_AT_ONCE = 256 << 10, 4 << 20
"""Bytes of a file that is sent together with others, and of all that are sent at once."""
PATH_BYTES = 200
"""About what a file takes beside its content."""
IN_FLIGHT = 4
"""Pieces of a file that are under way at a time."""
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


def carry_in(service: FileService, name: str, job: Job, told: Told = lambda done, total: None) -> None:
    """Put what a job takes in into its place. Raises :class:`CannotTravel` for what isn't here, :class:`OSError` else."""
    words, top = job.paths.words, job.paths.folder
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
    small: list[list[Any]] = []
    held = 0
    done, total = 0, sum(one[2] for one in found)
    told(0, total)
    for path, kind, size, mode, mtime_ns, target in found:
        if kind != "file":
            service.put_other(name, path, target if kind == "link" else None)
        elif size <= SMALL:
            content, _, now, _ = get_piece(top, path, 0)
            if now != size:
                raise CannotTravel(f"{path} in {top} changed while it was read")
            small.append([path, content, mode, mtime_ns])
            held += size + PATH_BYTES
            if held > MOST_AT_ONCE:
                service.put_small(name, small)
                small, held = [], 0
        else:
            _carry_file(service, name, top, path, (size, mode, mtime_ns), partial(_told_more, told, done, total))
        done += size
        told(done, total)
    if small:
        service.put_small(name, small)


def _told_more(told: Told, before: int, total: int, sent: int) -> None:
    told(before + sent, total)


def _carry_file(
    service: FileService, name: str, top: str, path: str, seen: tuple[int, int, int], told: Callable[[int], None]
) -> None:
    """Send a large file, from where an earlier try came to; ``seen`` are its size, mode and time of writing."""
    size, mode, mtime_ns = seen
    # Pieces are under way together: of the last ones that came, earlier ones may be missing.
    there = max(0, service.size_put(name, path) - IN_FLIGHT * MOST_PIECE)
    whole, begin, under_way = hashlib.sha256(), 0, deque[Future[None]]()
    with ThreadPoolExecutor(IN_FLIGHT) as pool:
        while begin < size:
            piece, check, now, written = get_piece(top, path, begin)
            if not piece or now != size or written != mtime_ns:
                raise CannotTravel(f"{path} in {top} changed while it was read")
            if begin + len(piece) > there:
                under_way.append(pool.submit(service.put_piece, name, path, begin, piece, check))
            whole.update(piece)
            begin += len(piece)
            if len(under_way) >= IN_FLIGHT:
                under_way.popleft().result()
            told(begin)
        for one in under_way:
            one.result()
    service.put_whole(name, path, size, whole.hexdigest(), mode, mtime_ns)


# -- back -----------------------------------------------------------------------------------------


def bring_back(
    service: FileService, name: str, told: dict[str, Any], progress: Told = lambda done, total: None
) -> None:
    """Bring back what a job made, as it was told when it was sent; what is here already as it is there is not brought again.

    Raises :class:`OSError`: :class:`ConnectionError` when the host is gone, else what is in the way here or there.
    """
    folder, files = str(told["folder"]), dict(told["files"])
    found = service.place_files(name, [*told["out"], *files])
    done, total = 0, sum(one[2] for one in found)
    progress(0, total)
    for path, kind, size, mode, mtime_ns, target in found:
        here = files.get(path) or _below(folder, path)
        if kind == "folder":
            os.makedirs(here, exist_ok=True)
        elif kind == "link":
            with suppress(FileExistsError):
                os.makedirs(os.path.dirname(here), exist_ok=True)
                os.symlink(target, here)
        elif not _is_here(here, size, mtime_ns):
            os.makedirs(os.path.dirname(here), exist_ok=True)
            with given.replacing(here, mode) as out:
                for piece in _pieces(service, name, path, size, mtime_ns):
                    out.write(piece)
                    done += len(piece)
                    progress(done, total)
            os.utime(here, ns=(mtime_ns, mtime_ns))


def _below(folder: str, path: str) -> str:
    """A path of a place, in the folder that it stands for. Raises :class:`OSError` for one that leads out of that."""
    full = os.path.normpath(f"{folder}/{path}")
    if not full.startswith(f"{folder.rstrip('/')}/") or os.path.realpath(os.path.dirname(full)) != os.path.normpath(
        os.path.join(os.path.realpath(folder), os.path.dirname(path))
    ):
        raise OSError(errno.EINVAL, "it would lead out of the folder where it was submitted", path)
    return full


def _is_here(path: str, size: int, mtime_ns: int) -> bool:
    try:
        seen = os.lstat(path)
    except OSError:
        return False
    return seen.st_size == size and seen.st_mtime_ns == mtime_ns


def _pieces(service: FileService, name: str, path: str, size: int, mtime_ns: int) -> Iterator[bytes]:
    begin = 0
    while begin < size:
        piece, check, now, written = service.get_piece(name, path, begin)
        if not piece or zlib.crc32(piece) != check:
            raise OSError(errno.EIO, "a piece was damaged on its way", path)
        if (now, written) != (size, mtime_ns):
            raise OSError(errno.EBUSY, "it changed while it was brought back", path)
        yield piece
        begin += len(piece)


def marks_here(told: dict[str, Any]) -> tuple[FileMark, ...]:
    """Mark the output and the errors of a job, now that they were brought back."""
    found = []
    for which, path in dict(told["printed"]).items():
        with suppress(OSError):
            seen = os.stat(path)
            if which in ("output", "errors"):
                found.append(FileMark(which, seen.st_dev, seen.st_ino, seen.st_size, seen.st_mtime_ns))
    return tuple(found)
