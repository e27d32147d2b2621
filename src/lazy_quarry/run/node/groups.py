"""Control groups that hold one attempt's processes, so that none gets out of sight (cgroups(7)).

Where they may be written, every attempt has a group below that of the agent: in the unified hierarchy (version 2), or in that of
``pids`` or ``freezer`` (version 1). A process can leave its parent, its session and its environment behind, but not its group.
Only where root runs jobs could a job move itself. Nothing here is needed: without groups, descent and environment decide.
"""

from __future__ import annotations

import os
from contextlib import suppress
from functools import cache

_PARENT = "lazy-quarry"
_VERSION_1 = ("pids", "freezer")


@cache
def _base(root: str = "/sys/fs/cgroup", own: str = "/proc/self/cgroup") -> str | None:
    """The folder in which groups can be made, or None."""
    try:
        with open(own) as file:
            lines = [line.rstrip("\n").split(":", 2) for line in file]
    except OSError:
        return None
    candidates = []
    for _, controllers, path in lines:
        if not controllers:
            candidates += [f"{root}{path}", f"{root}/unified{path}"]
        else:
            candidates += [f"{root}/{one}{path}" for one in controllers.split(",") if one in _VERSION_1]
    for folder in candidates:
        if os.path.exists(f"{folder}/cgroup.procs") and os.access(folder, os.W_OK):
            # Nested below the own group, or beside where this process is itself in one that was made here.
            base = folder if folder.endswith(f"/{_PARENT}") else f"{folder.rstrip('/')}/{_PARENT}"
            with suppress(OSError):
                os.makedirs(base, exist_ok=True)
                return base
    return None


def _folder(name: str) -> str | None:
    base = _base()
    return None if base is None else f"{base}/{os.getuid()}-{name}"


def enter(name: str) -> bool:
    """Put this process, and all that it will start, into the group of an attempt; False where that isn't possible."""
    folder = _folder(name)
    if folder is None:
        return False
    try:
        os.makedirs(folder, exist_ok=True)
        with open(f"{folder}/cgroup.procs", "w") as file:
            file.write("0")
    except OSError:
        return False
    return True


def members(name: str) -> list[int]:
    """The processes in the group of an attempt."""
    folder = _folder(name)
    if folder is None:
        return []
    try:
        with open(f"{folder}/cgroup.procs") as file:
            return [int(line) for line in file if line.strip() != "0"]
    except (OSError, ValueError):
        return []


def kill(name: str) -> bool:
    """End everything in the group of an attempt at once, where the kernel offers that; False where it doesn't."""
    folder = _folder(name)
    if folder is None or not os.path.exists(f"{folder}/cgroup.kill"):
        return False
    try:
        with open(f"{folder}/cgroup.kill", "w") as file:
            file.write("1")
    except OSError:
        return False
    return True


def remove(name: str) -> None:
    """Remove the group of an attempt of which nothing is left."""
    folder = _folder(name)
    if folder is not None:
        with suppress(OSError):
            os.rmdir(folder)
