"""The attempts that were claimed on this node, kept apart from their folders: a job may remove its own folder.

One small file for each claimed attempt, in the folder of the locks; it goes when its end was reported.
"""

from __future__ import annotations

import json
import os
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.run.node.locks import former_folder, locks_folder
from lazy_quarry.run.node.process import Identity


@dataclass(frozen=True)
class Claimed:
    """The supervisor of an attempt, and by when (seconds since boot) it must be over, come what may."""

    supervisor: Identity
    over_by: float


@cache
def _beginnings(spool: str) -> tuple[str, ...]:
    """Beginnings of the paths of notes on a spool's attempts: the spool's own identity tells it from others.

    The first is where they are written; an earlier version may have left some in the others.
    """
    base, former, found = locks_folder() / "claims", former_folder(), os.stat(spool)
    with suppress(FileExistsError):
        os.mkdir(base, 0o700)
    bases = [base, *([former / "claims"] if former else [])]
    return tuple(f"{each}/{found.st_dev}-{found.st_ino}-" for each in bases)


def _paths(folder: Path) -> list[str]:
    return [beginning + folder.name for beginning in _beginnings(os.path.dirname(folder))]


def register(folder: Path, claimed: Claimed) -> None:
    """Note the claim of an attempt. Where that fails, its folder alone has to tell."""
    with suppress(OSError):
        text = json.dumps({"supervisor": vars(claimed.supervisor), "over_by": claimed.over_by})
        ours.write_whole(_paths(folder)[0], text, durable=False)


def registered(folder: Path) -> Claimed | None:
    """The claim of an attempt, or None when it was never claimed since this node's start. Raises :class:`OSError`."""
    try:
        found = next(filter(None, map(ours.read_json, _paths(folder))), None)
        return None if found is None else Claimed(Identity(**found["supervisor"]), found["over_by"])
    except (KeyError, TypeError):
        return None


def begun(spool: Path) -> dict[int, int]:
    """By job, the newest attempt of it that somebody claimed, as the spool and the registry still tell."""
    names = list[str]()
    with suppress(OSError):
        names += [folder.name for folder in spool.iterdir() if (folder / "claim.json").exists()]
    with suppress(OSError):
        for beginning in _beginnings(str(spool)):
            base, mark = os.path.split(beginning)
            names += [name[len(mark) :] for name in os.listdir(base) if name.startswith(mark)]
    found = dict[int, int]()
    for job, attempt, *_ in (name.split("-") for name in names if name.count("-")):
        if job.isdecimal() and attempt.isdecimal():
            found[int(job)] = max(found.get(int(job), 0), int(attempt))
    return found


def noted_at(folder: Path) -> str:
    """Where the claim of an attempt is noted."""
    return _paths(folder)[0]


def forget(folder: Path) -> None:
    """The end of an attempt was reported and its folder may go."""
    with suppress(OSError):
        for path in _paths(folder):
            with suppress(FileNotFoundError):
                os.unlink(path)
