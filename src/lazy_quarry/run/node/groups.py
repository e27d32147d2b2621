"""Control groups that hold one attempt's processes: none gets out of sight, or takes more than was asked for (cgroups(7)).

Where they may be written, every attempt has a group below that of the agent: one that contains it (the unified hierarchy,
version 2, else that of ``pids`` or ``freezer``), and those of ``memory`` and ``cpuset``, which hold it to what it asked for.
A process can leave its parent, its session and its environment behind, but not its group. Only where root runs jobs could
a job move itself. Nothing here is needed: without groups, descent and environment decide, and memory and cores are kept by
watching and by affinity.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from contextlib import contextmanager, suppress
from functools import cache

from lazy_quarry.files import system

_PARENT = "lazy-quarry"
_UNIFIED = ""
"""The name of the hierarchy of version 2, as /proc/self/cgroup has it."""
_CONTAINING = ("pids", "freezer", _UNIFIED)
"""Where both are, one of version 1: to enter a group of version 2 takes milliseconds, though only that can end all at once."""
_LIMITING = ("memory", "cpuset")
_RESERVE_MIB = 32
"""MiB by which the kernel's limit is above the request: for its own tables of the processes, and for the supervisor."""
_JOBS_FIRST = 500
"""Added to the score by which the kernel picks what to end when memory is short, so that a job goes before its supervisor."""


@cache
def group_bases(root: str = "/sys/fs/cgroup", own: str = "/proc/self/cgroup") -> dict[str, str]:
    """The folders in which groups can be made, by the name of their hierarchy."""
    bases: dict[str, str] = {}
    for line in _read(own).splitlines():
        _, controllers, path = line.split(":", 2)
        for one in controllers.split(","):
            if one in (*_CONTAINING, *_LIMITING):
                places = [f"{root}/{one}{path}"] if one else [f"{root}{path}", f"{root}/unified{path}"]
                base = next(filter(None, map(_made_below, places)), None)
                if base is not None:
                    bases[one] = base
    return bases


def _made_below(folder: str) -> str | None:
    """A group of ours nested below the own one, or the own one where that was made here already."""
    folder = folder.rstrip("/")
    if not os.path.exists(f"{folder}/cgroup.procs") or not os.access(folder, os.W_OK):
        return None
    base = folder if folder.endswith(f"/{_PARENT}") else f"{folder}/{_PARENT}"
    try:
        os.makedirs(base, exist_ok=True)
    except OSError:
        return None
    for each in (folder, base):  # version 2: what is below may have limits; refused where processes are beside
        for controller in _LIMITING:
            _write(f"{each}/cgroup.subtree_control", f"+{controller}")
    for name in ("cpuset.mems", "cpuset.cpus"):  # version 1: nothing may enter before these are filled
        _write(f"{base}/{name}", _read(f"{folder}/{name}").strip())
    return base


def _read(path: str) -> str:
    try:
        return system.read(path).decode()
    except OSError:
        return ""


_constant = cache(_read)
"""Text of a file of the kernel's that doesn't change while an agent lives. Supervisors have it from their agent."""


def _write(path: str, text: str) -> bool:
    """Write into a file of the kernel's; False where it isn't there or refuses."""
    try:
        fd = os.open(path, os.O_WRONLY | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        os.write(fd, text.encode())
    except OSError:
        return False
    finally:
        os.close(fd)
    return True


def memory_left_mib(total_mib: int) -> int:
    """The part of a machine's memory that a control group above this process leaves."""
    for path in ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"):
        with suppress(ValueError):
            total_mib = min(total_mib, int(_read(path)) >> 20)
    return total_mib


def _folder(hierarchy: str, name: str) -> str | None:
    base = group_bases().get(hierarchy)
    return None if base is None else f"{base}/{os.getuid()}-{name}"


def _container(name: str) -> str | None:
    return next((_folder(each, name) for each in _CONTAINING if each in group_bases()), None)


def _unified(name: str) -> str | None:
    """The group of version 2 that contains an attempt, and limits it too."""
    folder = _container(name)
    return folder if folder == _folder(_UNIFIED, name) else None


def _enter(folder: str) -> bool:
    # This process has one thread. In version 1 that may be moved as such, which is far quicker.
    return _write(f"{folder}/tasks", "0") or _write(f"{folder}/cgroup.procs", "0")


def enter(name: str) -> bool:
    """Put this process, and all that it will start, into the group of an attempt; False where that isn't possible."""
    folder = _container(name)
    if folder is None:
        return False
    with suppress(OSError):
        os.mkdir(folder)
    return _enter(folder)


def look_up() -> None:
    """Find out once, in the agent, what each supervisor would else find out again."""
    _constant("/proc/self/oom_score_adj")
    for base in group_bases().values():
        _constant(f"{base}/cpuset.mems")


@contextmanager
def limits(name: str, memory_mib: int, cores: Collection[int]) -> Iterator[None]:
    """Hold what is started within, and all that it starts, to so much memory and to these cores, where groups can do that.

    This process itself is outside again afterwards: it must live when the job is ended for its memory.
    """
    score = _constant("/proc/self/oom_score_adj").strip() or "0"
    _write("/proc/self/oom_score_adj", str(min(1000, int(score) + _JOBS_FIRST)))
    entered = []
    for hierarchy in _LIMITING:
        folder = _folder(hierarchy, name)
        if folder is None:
            continue
        with suppress(OSError):
            os.mkdir(folder)
        if hierarchy == "cpuset":
            _write(f"{folder}/cpuset.mems", _constant(f"{os.path.dirname(folder)}/cpuset.mems").strip())
            _write(f"{folder}/cpuset.cpus", ",".join(map(str, cores)))
        if _enter(folder):
            entered.append(folder)
    unified = _unified(name)
    if unified is not None:  # where the controllers were let through
        _write(f"{unified}/cpuset.cpus", ",".join(map(str, cores)))
    try:
        yield
    finally:
        for folder in entered:
            _enter(os.path.dirname(folder))
        _write("/proc/self/oom_score_adj", score)
        # Not before this process has left: it could be the one that is picked.
        most = str(memory_mib + _RESERVE_MIB << 20)
        if (memory := _folder("memory", name)) in entered:
            _write(f"{memory}/memory.limit_in_bytes", most)
        if unified is not None:
            _write(f"{unified}/memory.max", most)


def overfilled(name: str) -> bool:
    """True when the kernel has ended a process of an attempt because its group was at its limit of memory."""
    counts = [(_folder("memory", name), "memory.oom_control"), (_unified(name), "memory.events")]
    # The kernel counts for good, so an end in the last moment is seen too, after all processes have gone.
    for folder, file in counts:
        for line in _read(f"{folder}/{file}").splitlines() if folder else ():
            word, _, number = line.partition(" ")
            if word == "oom_kill" and number != "0":
                return True
    return False


def members(name: str) -> list[int]:
    """The processes in the group of an attempt."""
    listed = _read(f"{_container(name)}/cgroup.procs").split()
    return [int(each) for each in listed if each != "0"]


def kill(name: str) -> bool:
    """End everything in the group of an attempt at once, where the kernel offers that; False where it doesn't."""
    return _write(f"{_container(name)}/cgroup.kill", "1")


def remove(name: str) -> None:
    """Remove the groups of an attempt of which nothing is left."""
    for hierarchy in group_bases():
        folder = _folder(hierarchy, name)
        if folder is not None:
            with suppress(OSError):
                os.rmdir(folder)
