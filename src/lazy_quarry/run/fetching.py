"""The files of a job for whoever wants to have them elsewhere: where it was submitted, or in its place on a host."""

import errno
import os
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

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


@dataclass(frozen=True, slots=True)
class Fetchable:
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


@dataclass(frozen=True, slots=True)
class FilesHere:
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


@dataclass(frozen=True, slots=True)
class FilesThere:
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
