"""Fetching a job's files: each comes whole or not at all, and goes on where a cut stopped it."""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lazy_quarry.core.units import format_bytes, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import given
from lazy_quarry.run.fetching import IN_FLIGHT, is_same, pieces_in_order

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.run.fetching import FetchFile, FetchPiece

_CHUNK = 1 << 20


class Fetcher:
    """Files of one job into one folder. :attr:`problems` are those that were not fetched, each with why and what to do."""

    def __init__(self, client: SiteClient, number: int, folder: Path, replace: bool) -> None:
        self.client, self.number, self.folder, self.replace = client, number, folder, replace
        self.problems: list[str] = []
        self.differ: list[bytes] = []
        """Files that are there and differ, and were left."""
        self.fetched = self.bytes = self.known = 0
        self.there = ""
        self._asking = ThreadPoolExecutor(IN_FLIGHT)
        """Who asks for pieces: a thread is there as soon as there is something for it."""

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
        yield 0  # comparing what is there may take a while
        if os.path.lexists(target):
            if _is_file(target) and os.stat(target).st_size == one.size and self._same(one.path, target, one.size):
                self.known += 1
                return
            if not self.replace:
                self._differs(target)
                return
        os.makedirs(os.path.dirname(target) or b".", exist_ok=True)
        part = target + b".fetched-part"
        fd = given.opened(os.fsdecode(part), os.O_RDWR | os.O_CREAT, 0o600)
        try:
            begin = min(os.fstat(fd).st_size // _CHUNK * _CHUNK, one.size)
            os.ftruncate(fd, begin)
            steady = yield from self._pieces(fd, one, begin)
            os.fsync(fd)
        finally:
            os.close(fd)
        if not (begin == 0 and steady) and not self._same(one.path, part, one.size):
            os.unlink(part)
            self.problems.append(f"{_shown(target)} changed while it was fetched; fetch it again")
            return
        os.chmod(part, one.mode & 0o777)
        os.utime(part, ns=(one.written_ns, one.written_ns))
        os.replace(part, target)
        self.fetched += 1
        self.bytes += one.size

    def _differs(self, target: bytes) -> None:
        self.differ.append(target)
        advice = "--replace writes over it, --to names another folder"
        self.problems.append(f"{_shown(target)} is there and differs; {advice}")

    def _pieces(self, fd: int, one: FetchFile, begin: int) -> Generator[int, None, bool]:
        """Bring a file into an open one, from where an earlier fetch came to; tells how far it is, and at its end whether the
        file was all the time what it was when it was listed.
        """
        steady = True
        get = partial(self._piece, one.path)
        for at, piece in pieces_in_order(_shown(one.path), get, begin, one.size, lambda: _CHUNK, self._asking):
            steady = steady and (piece.size, piece.written_ns) == (one.size, one.written_ns)
            os.pwrite(fd, piece.content[: one.size - at], at)
            if piece.hole:
                os.ftruncate(fd, min(at + piece.hole, one.size))
            yield min(at + len(piece.content) + piece.hole, one.size)
        return steady

    def _piece(self, path: bytes, begin: int, most: int) -> FetchPiece:
        return self.client.fetch_piece(self.number, path, begin)

    def _same(self, path: bytes, here: bytes, size: int) -> bool:
        """True when a file here begins with the bytes that one of the job has."""
        top, name = os.path.split(os.fsdecode(os.path.abspath(here)))
        return is_same(top, name, size, partial(self.client.fetch_digest, self.number, path), self._asking)

    # -- files that grow ---------------------------------------------------------------------------

    def follow(self, patterns: list[str], wait: Callable[[], object]) -> Iterator[str]:
        """Fetch what patterns meet as it grows, until the job has ended; between two looks it waits. Raises :class:`QuarryError`.

        What is there already goes on where it ends, if it is how the job's begins.
        """
        begun: dict[bytes, int] = {}
        while True:
            over = self.client.detail(self.number).view.phase.final
            found = self.client.fetchable(self.number, patterns)
            self.there = found.there or self.there
            for one in found.files:
                if one.kind == "file" and os.path.join(os.fsencode(self.folder), one.path) not in self.differ:
                    try:
                        yield from self._grown(one, begun)
                    except OSError as fault:
                        raise QuarryError(f"{_shown(one.path)}: {fault.strerror or fault}") from None
            if over:
                self.problems += [f"{pattern}: no file of the job meets it" for pattern in found.missing]
                self.fetched, self.bytes = len(begun), sum(begun.values())
                return
            wait()

    def _grown(self, one: FetchFile, begun: dict[bytes, int]) -> Iterator[str]:
        target = os.path.join(os.fsencode(self.folder), one.path)
        os.makedirs(os.path.dirname(target) or b".", exist_ok=True)
        fd = given.opened(os.fsdecode(target), os.O_RDWR | os.O_CREAT, 0o666)
        try:
            begin = os.fstat(fd).st_size
            known = one.path in begun
            if begin > one.size or not (known or not begin or self._same(one.path, target, begin)):
                if not known and not self.replace:
                    self._differs(target)
                    return
                os.ftruncate(fd, 0)
                begin = 0
            for size in self._pieces(fd, one, begin):
                yield f"{_shown(one.path)}, {format_bytes(size)}"
            begun[one.path] = one.size
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


def _is_file(path: bytes) -> bool:
    return os.path.isfile(path) and not os.path.islink(path)


def _shown(path: bytes) -> str:
    return os.fsdecode(path).encode(errors="replace").decode()
