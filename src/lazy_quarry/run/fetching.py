"""The files of a job for whoever wants to have them elsewhere: where it was submitted, or in its place on a host."""

import errno
import os
import zlib
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple, Protocol

from msgspec import Struct

from lazy_quarry.run.node.carried import MOST_PIECE, digest_of, get_piece, listing
from lazy_quarry.run.node.file_service import FileService


class FetchFile(NamedTuple):
    """A file, folder or link of a job's, by its path from the job's folder; names are bytes, as the system has them."""

    path: bytes
    kind: str
    size: int
    mode: int
    written_ns: int
    target: bytes


def _file(entry: Sequence[Any]) -> FetchFile:
    path, kind, size, mode, written_ns, target = entry
    return FetchFile(os.fsencode(path), kind, size, mode, written_ns, os.fsencode(target))


class FetchPiece(NamedTuple):
    """A piece of a file, with its CRC-32, and the file's size and time of writing as they are now."""

    content: bytes
    check: int
    size: int
    written_ns: int
    hole: int = 0
    """Bytes of a hole that begins here, in place of content."""


IN_FLIGHT = 4
"""Pieces of a file that are under way at a time."""


def pieces_in_order(
    path: str,
    get: Callable[[int, int], FetchPiece],
    begin: int,
    end: int,
    most: Callable[[], int],
    pool: ThreadPoolExecutor,
) -> Iterator[tuple[int, FetchPiece]]:
    """The pieces of a file, or the holes in their place, each with where it begins; several are asked for before they are wanted.

    ``get`` gives a piece from a byte on, at most so many bytes, which ``most`` says for each. Raises :class:`OSError` for one that
    was damaged, and what ``get`` raises.
    """
    asked_to = begin
    under_way = deque[tuple[int, Future[FetchPiece]]]()
    try:
        while begin < end:
            while len(under_way) < IN_FLIGHT and asked_to < end:
                some = min(most(), end - asked_to)
                under_way.append((asked_to, pool.submit(get, asked_to, some)))
                asked_to += some
            piece = under_way.popleft()[1].result()
            length = len(piece.content) + piece.hole
            if not length or zlib.crc32(piece.content) != piece.check:
                raise OSError(errno.EIO, "a piece was damaged on its way; try again", path)
            yield begin, piece
            begin += length
            if not under_way or under_way[0][0] != begin:  # a hole, or less than was asked for
                under_way.clear()
                asked_to = begin
    finally:
        for _, coming in under_way:
            coming.cancel()


_FIRST, _LARGEST = 1 << 20, 1 << 30
"""Bytes of which one checksum is asked for: files that differ mostly do so early, and an answer must come within its patience."""


def is_same(top: str, name: str, size: int, there: Callable[[int, int], str], pool: ThreadPoolExecutor) -> bool:
    """True when a file here begins with the same bytes as another, of which ``there`` says the SHA-256 of so many bytes from one
    on. It is compared in parts, each at both ends at once. Raises :class:`OSError`.
    """
    begin, most = 0, _FIRST
    while begin < size:
        some = min(most, size - begin)
        asked = pool.submit(there, begin, some)
        if digest_of(top, name, begin, some) != asked.result():
            return False
        begin, most = begin + some, min(_LARGEST, most * 2)
    return True


class Fetchable(Struct, frozen=True):
    """Files of a job that patterns meet. ``missing`` are those that meet nothing, ``there`` the host; empty for this machine."""

    files: tuple[FetchFile, ...] = ()
    missing: tuple[str, ...] = ()
    there: str = ""


class FilesToFetch(Protocol):
    """A job's files. All of it raises :class:`OSError`."""

    def found(self, patterns: Sequence[str]) -> Fetchable:
        """List the files that patterns meet."""
        ...

    def piece(self, path: str, begin: int) -> FetchPiece:
        """A piece of a file."""
        ...

    def digest(self, path: str, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of a file from one on."""
        ...


class FilesHere(Struct, frozen=True):
    """Files in a folder of this machine."""

    folder: str

    def found(self, patterns: Sequence[str]) -> Fetchable:
        """List the files that patterns meet."""
        found, missing = listing(self.folder, patterns)
        return Fetchable(tuple(map(_file, found)), tuple(missing))

    def piece(self, path: str, begin: int) -> FetchPiece:
        """A piece of a file."""
        return FetchPiece(*get_piece(self.folder, path, begin))

    def digest(self, path: str, begin: int, most: int) -> str:
        """The SHA-256 of some of a file."""
        return digest_of(self.folder, path, begin, most)


class FilesThere(Struct, frozen=True):
    """Files in the place of an attempt on a host."""

    service: FileService
    name: str
    host: str

    def found(self, patterns: Sequence[str]) -> Fetchable:
        """List the files that patterns meet."""
        found: list[list[Any]] = []
        missing = []
        for pattern in patterns:
            met = self.service.place_files(self.name, [pattern])
            missing += [] if met else [pattern]
            found += [one for one in met if one not in found]
        return Fetchable(tuple(map(_file, found)), tuple(missing), self.host)

    def piece(self, path: str, begin: int) -> FetchPiece:
        """A piece of a file."""
        return FetchPiece(*self.service.get_piece(self.name, path, begin, MOST_PIECE))

    def digest(self, path: str, begin: int, most: int) -> str:
        """The SHA-256 of some of a file."""
        return self.service.place_digest(self.name, path, begin, most)


class NoFiles:
    """A rehearsal's jobs have none."""

    def found(self, patterns: Sequence[str]) -> Fetchable:
        """Nothing."""
        return Fetchable(missing=tuple(patterns))

    def piece(self, path: str, begin: int) -> FetchPiece:
        """Nothing."""
        raise OSError(errno.ENOENT, "a rehearsal has no files")

    def digest(self, path: str, begin: int, most: int) -> str:
        """Nothing."""
        raise OSError(errno.ENOENT, "a rehearsal has no files")
