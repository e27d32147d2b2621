"""The files of a node's attempts and jobs: asked by the engine in its own process, or by others through a file server.

Nobody else reads or removes them by path. Arguments and results are plain values and bytes, so that both ways are the same.
"""

from __future__ import annotations

import json
import os
import shutil
import stat
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

from lazy_quarry.files import given, ours
from lazy_quarry.run.node import carried
from lazy_quarry.run.node.attempt import lay_out, own_folder, read_claim
from lazy_quarry.run.node.file_kinds import FileFound, file_found
from lazy_quarry.run.node.kept_here import drop_here, kept_here, left_here
from lazy_quarry.run.node.kept_inputs import kept_files, make_room, sweep_kept
from lazy_quarry.run.node.made_files import MadeFiles, made_files, remove_made
from lazy_quarry.run.node.process import TICKS, boottime
from lazy_quarry.run.node.usable import tried, unusable

LOOKING_S = 60.0
"""Looking through all that is in a folder may take so long."""
CHUNK = 256 * 1024
"""Most bytes of output read in one go."""
MOST_TOLD = 4 << 20
"""Bytes of what an attempt told of its parts; the helpers stop well before."""
MOST_TASKS = 10_000_000
"""Tasks of a spread: a byte each."""
Mark = tuple[int, int]
"""When a file was written last in ns, and its size: what was read stays true while both stay the same."""


class Piece(NamedTuple):
    """A piece of a file: its bytes from ``begin`` on, and the file's size, inode and time of its last change in ns."""

    raw: bytes
    begin: int
    size: int
    inode: int
    mtime_ns: int


class InsideRaw(NamedTuple):
    """The records that an attempt's helpers wrote. ``lines`` is None where it is as it was at the mark that was given."""

    mark: Mark
    lines: bytes | None
    fields: dict[str, bytes]
    """A byte for each task of each spread, by the spread's name."""


class FileService:
    """The files of one node. ``spool`` has the folders of its attempts, each under its name.

    Methods raise :class:`OSError`; those about a job's own files give up on a disk that doesn't answer (:class:`TimeoutError`).
    A method stands here alone: a file server answers all of them to engines. A first argument that is called ``name`` is an
    attempt's, which becomes a path.
    """

    def __init__(self, spool: Path) -> None:
        self.spool = spool

    # -- what an attempt does ----------------------------------------------------------------------

    def live(self, name: str) -> Any:
        """Read its supervisor's last note: use so far, cores busy, samples; None where that is unknown."""
        return ours.glance_json(self.spool / name / "live.json")

    def ran_ms(self, name: str) -> int | None:
        """Time that its supervisor has run, by a clock that nobody can set; None where that is not known."""
        try:
            claim = read_claim(self.spool / name)
            lives = claim is not None and claim.alive()
        except OSError:
            return None
        return round(1000 * (boottime() - claim.ticks / TICKS)) if claim is not None and lives else None

    def inside(self, name: str, known: Mark | None, spreads: Sequence[str]) -> InsideRaw | None:
        """Read what its helpers wrote; None for nothing. ``known`` is the mark of what was read before, with its spreads."""
        folder = own_folder(self.spool / name) / "inside"
        path = folder / "parts.jsonl"
        try:
            found = path.stat()
        except OSError:
            return None
        mark, lines = (found.st_mtime_ns, found.st_size), None
        if known is None or tuple(known) != mark:
            with suppress(OSError):
                lines = given.read(path, MOST_TOLD)
            spreads = _spreads(lines or b"")
        fields = {}
        for spread in spreads:
            with suppress(OSError):
                if os.sep not in spread:
                    fields[spread] = given.read(folder / f"field-{spread}", MOST_TASKS)
        return InsideRaw(mark, lines, fields)

    # -- a job's own files -------------------------------------------------------------------------

    def piece(self, path: str, begin: int) -> Piece:
        """A piece of a file from a byte on, a negative one counted from its end."""
        return given.in_time(lambda: _piece(path, begin), path)

    def look_at(self, paths: Sequence[str]) -> list[FileFound]:
        """Look at files by their content: the kind of each, and what is wrong with it."""
        try:
            return given.in_time(lambda: [file_found(path) for path in paths], paths[0] if paths else "")
        except TimeoutError as fault:
            return [FileFound(path, problem=f"not readable: {fault.strerror}") for path in paths]

    def made(self, folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
        """The files below a folder that were created or changed between two instants; until now for None."""
        try:
            return given.in_time(lambda: made_files(folder, since_ms, until_ms), folder, LOOKING_S)
        except TimeoutError as fault:
            return MadeFiles(folder, problem=f"cannot be looked through: {fault.strerror}")

    def remove(self, folder: str, paths: Sequence[str], since_ms: int) -> tuple[int, list[str]]:
        """Remove files made below a folder since an instant; returns how many, and why others were not."""
        try:
            return given.in_time(lambda: remove_made(folder, list(paths), since_ms), folder, LOOKING_S)
        except TimeoutError as fault:
            return 0, [f"{folder}: {fault.strerror}; look there what is gone"]

    def folder_mark(self, path: str) -> list[int] | None:
        """The mark that tells a folder from others, also on another machine: inode, times of change and writing in ns;
        None where there is none.
        """
        try:
            found = given.in_time(lambda: os.stat(path), path)
        except (FileNotFoundError, NotADirectoryError, PermissionError):
            return None
        return [found.st_ino, found.st_ctime_ns, found.st_mtime_ns] if stat.S_ISDIR(found.st_mode) else None

    def unusable(self, folder: str, written: dict[str, str], input_path: str) -> dict[str, str]:
        """Why a job could not start in its folder, write its files or read its input: by header key, what is wrong."""
        try:
            return given.in_time(lambda: unusable(folder, written, input_path, tried), folder)
        except TimeoutError as fault:
            return {"directory": f"{folder} cannot be used: {fault.strerror}"}

    # -- files that travel -------------------------------------------------------------------------

    def is_claimed(self, name: str) -> bool:
        """True when somebody has taken an attempt: what it starts with is not touched any more."""
        return read_claim(self.spool / name) is not None

    def make_place(self, name: str, told: dict[str, Any]) -> str:
        """Make the folder that stands for the one that this node doesn't see; see :mod:`~lazy_quarry.run.node.carried`."""
        return carried.make_place(self.spool / name, told)

    def put_piece(self, name: str, path: str, begin: int, piece: bytes, check: int) -> None:
        """Take a piece of a file."""
        carried.put_piece(self.spool / name, path, begin, piece, check)

    def size_put(self, name: str, path: str) -> int:
        """Bytes of a file that came before."""
        return carried.size_put(self.spool / name, path)

    def begin_put(self, name: str, path: str, size: int) -> int:
        """A file of so many bytes is about to come; returns how many came before."""
        return carried.begin_put(self.spool / name, path, size)

    def put_whole(
        self, name: str, path: str, size: int, mode: int, mtime_ns: int, sent: int | None, compared: bool
    ) -> str | None:
        """All of a file has come; returns the name under which it is kept too, or None where it is to be compared before."""
        return carried.put_whole(self.spool / name, path, size, mode, mtime_ns, sent, compared)

    def put_digest(self, name: str, path: str, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of what came of a file."""
        return carried.put_digest(self.spool / name, path, begin, most)

    def drop_put(self, name: str, path: str) -> None:
        """Remove what came of a file."""
        carried.drop_put(self.spool / name, path)

    def kept_of_size(self, name: str, size: int) -> list[str]:
        """The names of the files of so many bytes that are kept for the next job, those used last first."""
        found = [(used, kept) for kept, each, used in kept_files(self.spool) if each == size]
        return [kept for _, kept in sorted(found, reverse=True)]

    def kept_digest(self, name: str, kept: str, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of one of them."""
        return carried.kept_digest(self.spool / name, kept, begin, most)

    def use_kept(self, name: str, path: str, size: int, kept: str, mode: int, mtime_ns: int) -> bool:
        """Put a file into its place from those that came for an earlier job; False where it isn't among them."""
        return carried.use_kept(self.spool / name, path, size, kept, mode, mtime_ns)

    def make_room(self, name: str, wanted: int) -> int:
        """Bytes that are free for an attempt's files, of those wanted; what is kept for the next job gives way."""
        return make_room(self.spool / name, wanted)

    def drop_place(self, name: str) -> None:
        """Remove what was put into an attempt's place."""
        carried.drop_place(self.spool / name)

    def put_small(self, name: str, files: Sequence[Sequence[Any]]) -> None:
        """Take many small files at once."""
        carried.put_small(self.spool / name, files)

    def put_other(self, name: str, path: str, target: str | None) -> None:
        """Make a folder or a link."""
        carried.put_other(self.spool / name, path, target)

    def carried(self, name: str) -> dict[str, Any] | None:
        """Read what is still to be brought back of an attempt; None for nothing."""
        return carried.told_of(self.spool / name)

    def place_files(self, name: str, patterns: Sequence[str]) -> list[list[Any]]:
        """List what paths and patterns meet in an attempt's place."""
        return carried.listing(str(carried.place_of(self.spool / name)), patterns)[0]

    def get_piece(self, name: str, path: str, begin: int, most: int) -> list[Any]:
        """A piece of a file of an attempt's place, at most so many bytes."""
        return carried.get_piece(str(carried.place_of(self.spool / name)), path, begin, most)

    def place_digest(self, name: str, path: str, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of a file of an attempt's place."""
        return carried.digest_of(str(carried.place_of(self.spool / name)), path, begin, most)

    def kept(self) -> list[list[Any]]:
        """What stays here for later, each with its name, bytes, instant of the last change in seconds, and the attempt or file
        that it is of: results that are still to be brought back, scratch folders that jobs keep, inputs for the next job.
        """
        return given.in_time(lambda: kept_here(self.spool), str(self.spool), LOOKING_S)

    def drop(self, item: str) -> None:
        """Remove one of them, by its name."""
        given.in_time(lambda: drop_here(self.spool, item), str(self.spool), LOOKING_S)

    def was_brought(self, name: str) -> None:
        """All of it is safe where it was submitted."""
        (self.spool / name / carried.TOLD).unlink(missing_ok=True)

    def left(self) -> list[str]:
        """Attempts that are over, of which something is still to be brought back."""
        return left_here(self.spool)

    # -- folders of attempts -----------------------------------------------------------------------

    def prepare(self, names: Sequence[str]) -> None:
        """Make the folders of attempts that are about to be recorded as started."""
        for name in names:
            (self.spool / name).mkdir(mode=0o700, exist_ok=True)

    def lay_out(self, name: str, intent: str, script: str) -> None:
        """Write what an attempt is to run, unless somebody has claimed it; see :func:`lazy_quarry.run.node.attempt.lay_out`."""
        lay_out(self.spool / name, intent, script)

    def is_laid_out(self, name: str) -> bool:
        """True when that is written."""
        return (self.spool / name / "intent.json").exists()

    def write_stop(self, name: str, cause: str) -> None:
        """Write that an attempt should end, for its supervisor to find."""
        ours.write_whole(self.spool / name / "stop", json.dumps({"cause": cause}))

    def forget(self, name: str) -> None:
        """Remove the folder of an attempt that was settled, unless something is still to be brought back."""
        if carried.told_of(self.spool / name) is not None:
            return
        shutil.rmtree(self.spool / name, ignore_errors=True)

    def sweep(self, running: Sequence[str], kept_s: int) -> None:
        """Remove what attempts have left that ended so long ago."""
        kept = set(running)
        for folder in self.spool.iterdir():
            # A supervisor that is alive keeps its folder, whatever the journal says: it still writes there.
            if (folder / carried.TOLD).exists():
                continue
            if folder.is_dir() and folder.name not in kept and time.time() - folder.stat().st_mtime >= kept_s:
                with suppress(OSError):  # where that can't be told now, it stays until the next start
                    claim = read_claim(folder)
                    if claim is None or not claim.alive():
                        shutil.rmtree(folder, ignore_errors=True)
        sweep_kept(self.spool)


METHODS = frozenset(name for name in vars(FileService) if name[0] != "_")
"""What may be asked of a file service."""
NAMED = frozenset(name for name in METHODS if getattr(FileService, name).__code__.co_varnames[1:2] == ("name",))
"""Methods whose first argument is the name of an attempt."""


def _piece(path: str, begin: int) -> Piece:
    fd = given.opened(path, os.O_RDONLY | os.O_NONBLOCK)
    try:
        there = os.fstat(fd)
        at = max(0, there.st_size + begin) if begin < 0 else begin
        raw = given.read_range(fd, CHUNK, at)
    finally:
        os.close(fd)
    return Piece(raw, at, there.st_size, there.st_ino, there.st_mtime_ns)


def _spreads(lines: bytes) -> list[str]:
    """The names of the spreads that are told of."""
    found: dict[str, None] = {}
    for line in lines.splitlines():
        with suppress(ValueError, KeyError, TypeError, AttributeError, RecursionError):
            entry = json.loads(line)
            if entry.get("kind") == "spread":
                found[str(entry["id"])] = None
    return list(found)
