"""Fetching a job's files: each comes whole or not at all, and goes on where a cut stopped it."""

from __future__ import annotations

import hashlib
import os
import zlib
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from lazy_quarry.core.units import format_bytes, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.run.fetching import FetchFile

_CHUNK = 1 << 20


class Fetcher:
    """Files of one job into one folder. :attr:`problems` are those that were not fetched, each with why and what to do."""

    def __init__(self, client: SiteClient, number: int, folder: Path, replace: bool) -> None:
        self.client, self.number, self.folder, self.replace = client, number, folder, replace
        self.problems: list[str] = []
        self.fetched = self.bytes = self.known = 0
        self.there = ""

    def fetch(self, patterns: list[str]) -> Iterator[str]:
        """Fetch what patterns meet; tells how far it is, again and again. Raises :class:`QuarryError`."""
        found = self.client.fetchable(self.number, patterns)
        self.there = found.there
        self.problems += [f"{pattern}: no file of the job meets it" for pattern in found.missing]
        files = [one for one in found.files if one.kind == "file"]
        whole, done = sum(one.size for one in files), 0
        for one in found.files:
            target = os.path.join(os.fsencode(self.folder), one.path)
            try:
                if one.kind == "folder":
                    os.makedirs(target, exist_ok=True)
                elif one.kind == "link":
                    self._link(one, target)
                else:
                    for size in self._file(one, target):
                        count = f"{self.fetched + self.known} of {plural(len(files), 'file')}"
                        yield f"{count}, {format_bytes(done + size)} of {format_bytes(whole)}"
                    done += one.size
            except OSError as fault:
                self.problems.append(f"{_shown(target)}: {fault.strerror or fault}")

    def _link(self, one: FetchFile, target: bytes) -> None:
        os.makedirs(os.path.dirname(target) or b".", exist_ok=True)
        with suppress(FileExistsError):
            os.symlink(one.target, target)

    def _file(self, one: FetchFile, target: bytes) -> Iterator[int]:
        if os.path.lexists(target):
            digest = _digest(target) if os.path.isfile(target) and not os.path.islink(target) else ""
            if (
                digest
                and os.stat(target).st_size == one.size
                and digest == self.client.fetch_digest(self.number, one.path)
            ):
                self.known += 1
                return
            if not self.replace:
                self.problems.append(
                    f"{_shown(target)} is there and differs; --replace writes over it, --to names another folder"
                )
                return
        os.makedirs(os.path.dirname(target) or b".", exist_ok=True)
        part = target + b".fetched-part"
        yield from self._pieces(one, part)
        if _digest(part) != self.client.fetch_digest(self.number, one.path):
            os.unlink(part)
            self.problems.append(f"{_shown(target)} changed while it was fetched; fetch it again")
            return
        os.chmod(part, one.mode & 0o777)
        os.utime(part, ns=(one.written_ns, one.written_ns))
        os.replace(part, target)
        self.fetched += 1
        self.bytes += one.size

    def _pieces(self, one: FetchFile, part: bytes) -> Iterator[int]:
        """Bring a file into another beside its place, from where an earlier fetch came to."""
        fd = given.opened(os.fsdecode(part), os.O_RDWR | os.O_CREAT, 0o600)
        try:
            begin = min(os.fstat(fd).st_size // _CHUNK * _CHUNK, one.size)
            os.ftruncate(fd, begin)
            while begin < one.size:
                piece = self.client.fetch_piece(self.number, one.path, begin)
                if not (piece.content or piece.hole) or zlib.crc32(piece.content) != piece.check:
                    raise QuarryError(f"{_shown(one.path)}: a piece was damaged on its way; fetch it again")
                os.pwrite(fd, piece.content, begin)
                begin += len(piece.content) + piece.hole
                if piece.hole:
                    os.ftruncate(fd, begin)
                yield begin
            os.fsync(fd)
        finally:
            os.close(fd)

    def words(self) -> list[str]:
        """Say in a line what was done."""
        told = []
        if self.fetched:
            source = f", from {self.there}" if self.there else ""
            told.append(f"{plural(self.fetched, 'file')} fetched, {format_bytes(self.bytes)}{source}")
        if self.known:
            told.append(f"{plural(self.known, 'file')} already there")
        return ["; ".join(told)] if told else []


def _digest(path: bytes) -> str:
    found = hashlib.sha256()
    fd = given.opened(os.fsdecode(path))
    try:
        while piece := os.read(fd, _CHUNK):
            found.update(piece)
    finally:
        os.close(fd)
    return found.hexdigest()


def _shown(path: bytes) -> str:
    return os.fsdecode(path).encode(errors="replace").decode()
