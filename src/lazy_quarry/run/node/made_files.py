"""Files that were created or changed below a folder between two instants, found with ``find`` of GNU findutils.

It tells when a file was created, where the file system keeps that (statx(2)); Python before 3.12 can't.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterator
from contextlib import suppress
from typing import NamedTuple

from lazy_quarry.run.node.file_kinds import file_found

MOST_FOUND, MOST_KNOWN = 5_000, 100
"""Files that are listed at most; and the newest of them, whose kinds are looked at."""
LONGEST_S = 4.0
AFTER_MS = 2_000
"""Time (ms) after the end in which a write still counts as the job's: clocks of file systems are coarse."""


class MadeFile(NamedTuple):
    """A file that a job made: its path from the folder, size, when it was written, what it is, what is wrong with it.

    ``earlier``: it was there before the job began, so something of an earlier run was changed; None where that is unknown.
    """

    path: str
    size: int
    written_ms: int
    earlier: bool | None = None
    kind: str = ""
    problem: str = ""


class MadeFiles(NamedTuple):
    """The files made below a folder, newest first. ``more``: there may be other files; ``problem``: why nothing can be said."""

    folder: str
    files: tuple[MadeFile, ...] = ()
    more: bool = False
    problem: str = ""


def made_files(folder: str, since_ms: int, until_ms: int | None) -> MadeFiles:
    """Look for them. Never raises; what takes long is broken off."""
    if not os.path.isdir(folder):
        return MadeFiles(folder, problem=f"{folder} is not there any more")
    listed, whole = _listed(folder, since_ms)
    latest = None if until_ms is None else until_ms + AFTER_MS
    found = [one for one in listed if one.written_ms >= since_ms and (latest is None or one.written_ms <= latest)]
    found.sort(key=lambda one: (-one.written_ms, one.path))
    known = [_known(folder, one) for one in found[:MOST_KNOWN]]
    return MadeFiles(folder, (*known, *found[MOST_KNOWN:MOST_FOUND]), not whole or len(found) > MOST_FOUND)


def remove_made(folder: str, paths: list[str], since_ms: int) -> tuple[int, list[str]]:
    """Remove files that were made below a folder since an instant; returns how many, and why others were not."""
    removed, kept, base = 0, list[str](), os.path.realpath(folder)
    for path in paths:
        whole = os.path.realpath(os.path.join(base, path))
        try:
            found = os.lstat(os.path.join(base, path))
            if not whole.startswith(f"{base.rstrip('/')}/") or not stat.S_ISREG(found.st_mode):
                kept.append(f"{path} is no file below {folder}")
            elif found.st_mtime_ns // 1_000_000 < since_ms:
                kept.append(f"{path} was written before the job began")
            else:
                os.unlink(whole)
                removed += 1
        except OSError as fault:
            kept.append(f"{path}: {fault.strerror}")
    return removed, kept


def _known(folder: str, one: MadeFile) -> MadeFile:
    found = file_found(os.path.join(folder, one.path))
    return MadeFile(one.path, one.size, one.written_ms, one.earlier, found.kind, found.problem)


def _listed(folder: str, since_ms: int) -> tuple[list[MadeFile], bool]:
    """Files written since then, and whether all were looked at."""
    import subprocess  # a tenth of an agent's memory, and only the process that serves its files comes here

    new = ["-newermt", f"@{since_ms / 1000 - 0.001:.3f}"]
    words = ["find", folder, "-xdev", "-name", ".?*", "-prune", "-o", "-type", "f", *new]
    words += ["-printf", r"%T@ %B@ %s %P\0"]
    try:
        done = subprocess.run(words, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, timeout=LONGEST_S, check=False)
    except subprocess.TimeoutExpired as late:
        return list(read_listing(late.stdout or b"", since_ms)), False
    except OSError:
        return _walked(folder)
    if done.returncode and not done.stdout:
        return _walked(folder)
    return list(read_listing(done.stdout, since_ms)), True


def read_listing(listing: bytes, since_ms: int) -> Iterator[MadeFile]:
    """The files of a listing; each has when it was written and created, its size, its path, and a zero."""
    for line in listing.split(b"\0"):
        with suppress(ValueError):
            written, created, size, path = os.fsdecode(line).split(" ", 3)
            began = float(created) * 1000 if created and not created.startswith("-") else None
            earlier = began < since_ms - 1000 if began is not None else None
            yield MadeFile(path, int(size), int(float(written) * 1000), earlier)


def _walked(folder: str) -> tuple[list[MadeFile], bool]:
    """The same without ``find``."""
    found, until = list[MadeFile](), time.monotonic() + LONGEST_S
    for base, folders, names in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in names:
            path = os.path.join(base, name)
            with suppress(OSError):
                known = os.lstat(path)
                if stat.S_ISREG(known.st_mode) and not name.startswith("."):
                    at = known.st_mtime_ns // 1_000_000
                    found.append(MadeFile(os.path.relpath(path, folder), known.st_size, at))
        if time.monotonic() > until:
            return found, False
    return found, True
