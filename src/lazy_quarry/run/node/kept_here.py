"""What stays on a host after its jobs: results that are still to be brought back, scratch folders that jobs keep for the next run
of their name, and files that came for a job and are there for the next one that takes them in.
"""

from __future__ import annotations

import errno
import os
import shutil
from contextlib import suppress
from pathlib import Path
from typing import Any

from lazy_quarry.run.node import carried
from lazy_quarry.run.node.attempt import read_claim
from lazy_quarry.run.node.kept_inputs import drop_kept, kept_files
from lazy_quarry.run.node.measure import folder_mib

RESULTS, SCRATCH, INPUT = "results-", "scratch-", "input-"
"""What the names of these begin with."""
_DIGITS = 12
"""Digits of a kept file's name that it is called by."""


def left_here(spool: Path) -> list[str]:
    """Attempts that are over, of which something is still to be brought back."""
    found = []
    for path in sorted(spool.glob(f"*/{carried.TOLD}")):
        claim = read_claim(path.parent)
        if claim is not None and not claim.alive():
            found.append(path.parent.name)
    return found


def kept_here(spool: Path) -> list[list[Any]]:
    """List all of it: names, bytes, when it was used last in seconds, and the attempt, job or file that it is of."""
    found: list[list[Any]] = []
    for name in left_here(spool):
        with suppress(OSError):
            place = carried.place_of(spool / name)
            found.append(
                [RESULTS + name, folder_mib(str(place)) << 20, (spool / name / carried.TOLD).stat().st_mtime, name]
            )
    for each in sorted(_below(spool.parent / "scratch")):
        with suppress(OSError):
            found.append([SCRATCH + each.name, folder_mib(str(each)) << 20, each.stat().st_mtime, each.name])
    for kept, size, used in kept_files(spool):
        found.append([INPUT + kept[:_DIGITS], size, used, kept])
    return found


def drop_here(spool: Path, item: str) -> None:
    """Remove one of these. Raises :class:`OSError`, also where there is none of that name."""
    for name, _, _, what in kept_here(spool):
        if name != item:
            continue
        if name.startswith(RESULTS):
            (spool / what / carried.TOLD).unlink()
            shutil.rmtree(spool / what)
        elif name.startswith(SCRATCH):
            shutil.rmtree(spool.parent / "scratch" / what)
        else:
            drop_kept(spool, what)
        return
    raise FileNotFoundError(errno.ENOENT, f"nothing of the name {item} is kept there")


def _below(folder: Path) -> list[Path]:
    with suppress(OSError):
        return [Path(each.path) for each in os.scandir(folder) if each.is_dir(follow_symlinks=False)]
    return []
