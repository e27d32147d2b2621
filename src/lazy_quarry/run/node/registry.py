"""Which attempts were claimed on this node, kept apart from their folders: a job may remove its own folder.

One small file for each claimed attempt, in the folder of the locks; it goes when its end was reported.
"""

from __future__ import annotations

import json
import os
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from lazy_quarry.run.node.files import read_json, write_whole
from lazy_quarry.run.node.locks import locks_folder
from lazy_quarry.run.node.process import Identity


@dataclass(frozen=True)
class Claimed:
    """The supervisor of an attempt, and by when (seconds since boot) it must be over, come what may."""

    supervisor: Identity
    over_by: float


@cache
def _beginning(spool: str) -> str:
    """What the paths of notes on a spool's attempts begin with: the spool's own identity tells it from others."""
    base = locks_folder() / "claims"
    base.mkdir(mode=0o700, exist_ok=True)
    found = os.stat(spool)
    return f"{base}/{found.st_dev}-{found.st_ino}-"


def _path(folder: Path) -> str:
    return _beginning(os.path.dirname(folder)) + folder.name


def register(folder: Path, claimed: Claimed) -> None:
    """Note the claim of an attempt. Where that fails, its folder alone has to tell."""
    with suppress(OSError):
        text = json.dumps({"supervisor": vars(claimed.supervisor), "over_by": claimed.over_by})
        write_whole(_path(folder), text, durable=False)


def registered(folder: Path) -> Claimed | None:
    """The claim of an attempt, or None when it was never claimed since this node's start."""
    try:
        found = read_json(_path(folder))
        return None if found is None else Claimed(Identity(**found["supervisor"]), found["over_by"])
    except (OSError, KeyError, TypeError):
        return None


def forget(folder: Path) -> None:
    """The end of an attempt was reported and its folder may go."""
    with suppress(OSError):
        os.unlink(_path(folder))
