"""A control group for each host (cgroups(7)), nested below the one that this process is in, as a job's is below the host's."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

_ROOT = Path("/sys/fs/cgroup")
_USED = ("pids", "freezer", "memory", "cpuset", "")
"""Hierarchies by name; the last is that of version 2."""


@dataclass(frozen=True)
class Hierarchy:
    """A hierarchy of control groups in which groups may be made."""

    name: str
    place: Path
    """Where it is mounted, below /sys/fs/cgroup."""
    own: Path
    """The group of this process."""


def hierarchies() -> tuple[Hierarchy, ...]:
    """Those that are there and may be written; none without root, or in a container that shows none."""
    found = []
    for line in Path("/proc/self/cgroup").read_text().splitlines():
        _, controllers, path = line.split(":", 2)
        name = next((each for each in controllers.split(",") if each in _USED), None)
        if name is None:
            continue
        for place in [_ROOT / name] if name else [_ROOT / "unified", _ROOT]:
            own = place / path.lstrip("/")
            if (own / "cgroup.procs").exists() and os.access(own, os.W_OK):
                found.append(Hierarchy(name, place, own))
                break
    return tuple(found)


def make_group(each: Hierarchy, name: str) -> Path:
    """Make a group below the own one; of version 1, processors and memory as there, since else nothing may enter it."""
    group = each.own
    for part in name.split("/"):
        group /= part
        group.mkdir(exist_ok=True)
        if each.name == "cpuset":
            for file in ("cpuset.mems", "cpuset.cpus"):
                (group / file).write_text((group.parent / file).read_text())
    return group


def enter(group: Path) -> None:
    """Put this process into a group."""
    (group / "cgroup.procs").write_text("0")


def freeze(groups: Iterable[Path], *, frozen: bool) -> bool:
    """Stop all that runs in a host's groups, or let it go on; False where the kernel offers neither way.

    By version 2 where it is: what is stopped by that can be killed.
    """
    groups = list(groups)
    for file, words in (("cgroup.freeze", ("0", "1")), ("freezer.state", ("THAWED", "FROZEN"))):
        for group in groups:
            if (group / file).exists():
                with suppress(OSError):
                    (group / file).write_text(words[frozen])
                    return True
    return False


def remove_groups(folders: Iterable[str | Path]) -> None:
    """Remove groups and those below them: of a cluster whose processes have ended."""
    for folder in folders:
        for below in _from_below(Path(folder)):
            with suppress(OSError):
                below.rmdir()


def thaw(folders: Iterable[str | Path]) -> None:
    """Let all go on that was stopped: what is stopped by version 1 can't even be killed."""
    for folder in folders:
        for below in _from_below(Path(folder)):
            freeze([below], frozen=False)


def _from_below(folder: Path) -> Iterator[Path]:
    """A group and all below it, these first; some may be gone meanwhile."""
    for below, *_ in os.walk(folder, topdown=False):
        yield Path(below)
