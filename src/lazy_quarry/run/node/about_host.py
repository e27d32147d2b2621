"""A host as it describes itself: for checks, and for the agent's greeting."""

from __future__ import annotations

import glob
import json
import os
import pwd
import shutil
import socket
import sys
import tempfile
import threading
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from lazy_quarry.files import given, system
from lazy_quarry.files.file_systems import file_system
from lazy_quarry.run.node.groups import group_bases, memory_left_mib
from lazy_quarry.run.node.locks import cores_holder, locks_folder, others_here
from lazy_quarry.run.node.process import boot_id, boottime, wall_ms

_DEVICES = ("/dev/nvidia[0-9]*", "/dev/kfd", "/dev/dri/renderD*", "/dev/accel/accel*")
"""Device files of GPUs, by their vendors' drivers and by the kernel's own."""
_INSTRUCTIONS = ("sse4_2", "avx", "avx2", "avx512f", "amx_tile", "asimd", "sve", "sve2")
"""Instruction sets that programs are built for, as /proc/cpuinfo names them."""
_LOGIN = ("/etc/systemd/logind.conf", "/etc/systemd/logind.conf.d/*.conf")
_MOST_READ = 4096
REACH_S = 3.0
"""Seconds for another host's answer."""


def facts() -> dict[str, Any]:
    """What this host is and has, for the user that this runs for. What can't be read is None, or left out of a list."""
    folder, refused = "", ""
    try:
        folder = str(locks_folder())
    except OSError as fault:
        refused = str(fault)
    cores = sorted(os.sched_getaffinity(0))
    return {
        "name": os.uname().nodename,
        "user": _user(),
        "boot": boot_id(),
        "up_s": round(boottime()),
        "python": ".".join(map(str, sys.version_info[:3])),
        "cores": len(cores),
        "sockets": _sockets(cores),
        "memory_mib": memory_mib(),
        "instructions": _instructions(),
        "gpus": devices(),
        "folder": folder,
        "folder_refused": refused,
        "unwritable": _unwritable(folder) if folder else "",
        "agents": _agents(folder) if folder else [],
        "folder_kind": file_system(folder) if folder else "",
        "free_mib": shutil.disk_usage(folder).free >> 20 if folder else 0,
        "groups": sorted(name or "version 2" for name in group_bases()),
        "holder": cores_holder(),
        "others": others_here(),
        "logout": _at_logout(),
        "home": os.path.expanduser("~"),
    }


def devices() -> list[str]:
    """The device files of its GPUs."""
    return [each for pattern in _DEVICES for each in sorted(glob.glob(pattern))]


def gpus_of(found: list[str]) -> int:
    """The number of GPUs that device files stand for: a maker's driver and the kernel may each have one for the same GPU."""
    kinds = ("/dev/nvidia", "/dev/accel", "/dev/dri/renderD")
    return max(sum(path.startswith(kind) for path in found) for kind in kinds)


def _unwritable(folder: str) -> str:
    """Why no file can be written in a folder; empty where one can."""
    try:
        with tempfile.TemporaryFile(dir=folder) as file:
            file.write(b"x" * 4096)
            file.flush()
            os.fsync(file.fileno())
    except OSError as fault:
        return fault.strerror or str(fault)
    return ""


def _agents(folder: str) -> list[str]:
    """The versions of the agents that were started here."""
    found = set()
    for path in glob.glob(f"{folder}/spool-*/agent.json"):
        with suppress(ValueError, OSError, AttributeError):
            found.add(str(json.loads(given.read(path, _MOST_READ)).get("version")))
    return sorted(found)


def reaches(others: list[list[Any]]) -> dict[str, bool]:
    """Try whether hosts, each with its name, address and port, take a connection from here."""
    found = dict.fromkeys((name for name, _, _ in others), False)

    def attempt(name: str, address: str, port: int) -> None:
        with suppress(OSError, UnicodeError):
            socket.create_connection((address, port), REACH_S).close()
            found[name] = True

    threads = [threading.Thread(target=attempt, args=each, daemon=True) for each in others]
    for each in threads:
        each.start()
    for each in threads:
        each.join(REACH_S + 1)
    return found


def clock() -> int:
    """This host's time, in ms since 1970."""
    return wall_ms()


def read(path: str) -> str:
    """The beginning of a file, as whoever wrote it elsewhere asks. Raises :class:`OSError`."""
    return given.read(path, _MOST_READ).decode(errors="replace")


def _user() -> str:
    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"user{os.getuid()}"


def _text(path: str) -> str:
    try:
        return system.read_text(path)
    except OSError:
        return ""


def memory_mib() -> int | None:
    """Memory of this host, or what a control group above this process leaves of it; None where it isn't told."""
    for line in _text("/proc/meminfo").splitlines():
        if line.startswith("MemTotal:"):
            return memory_left_mib(int(line.split()[1]) >> 10)
    return None


def _sockets(cores: list[int]) -> int:
    """In how many sockets these processors are."""
    found = set()
    for core in cores:
        found.add(_text(f"/sys/devices/system/cpu/cpu{core}/topology/physical_package_id").strip())
    return max(1, len(found - {"", "-1"}))


def _instructions() -> list[str]:
    for line in _text("/proc/cpuinfo").splitlines():
        name, _, value = line.partition(":")
        if name.strip() in ("flags", "Features"):
            known = set(value.split())
            return [each for each in _INSTRUCTIONS if each in known]
    return []


def _at_logout() -> dict[str, bool]:
    """What the system ends when somebody logs out (logind.conf(5)): processes, unless they linger, and shared memory."""
    said = {"KillUserProcesses": "no", "RemoveIPC": "yes" if os.path.exists("/run/systemd/system") else "no"}
    for pattern in _LOGIN:
        for path in sorted(glob.glob(pattern)):
            for line in _text(path).splitlines():
                name, _, value = line.strip().partition("=")
                if name in said and value:
                    said[name] = value.strip().lower()
    runs = os.path.exists("/run/systemd/system")
    lingers = os.path.exists(f"/var/lib/systemd/linger/{_user()}")
    ends = runs and said["KillUserProcesses"] in ("yes", "true", "on", "1") and not lingers
    ipc = runs and said["RemoveIPC"] in ("yes", "true", "on", "1") and os.getuid() >= 1000 and not lingers
    return {"processes": ends, "shared_memory": ipc}


ANSWERS: dict[str, Callable[..., Any]] = {"facts": facts, "clock": clock, "read": read, "reaches": reaches}
"""What is asked of the archive, by word."""
