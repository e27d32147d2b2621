"""Processes as /proc shows them. A process is identified by boot, number, and start in raw clock ticks.

Whether a process lives decides about jobs: what tells it raises :class:`OSError` when that can't be known, as without a free file
descriptor. What only measures passes over what it can't read.
"""

from __future__ import annotations

import ctypes
import os
import signal
import time
from contextlib import suppress
from dataclasses import dataclass
from functools import cache

from lazy_quarry.files import system

PAGE = os.sysconf("SC_PAGE_SIZE")
TICKS = os.sysconf("SC_CLK_TCK")
_LIBC = ctypes.CDLL(None, use_errno=True)
_SET_CHILD_SUBREAPER = 36
_SET_NAME = 15
_SET_PDEATHSIG = 1
_GONE = (FileNotFoundError, ProcessLookupError)


@dataclass(frozen=True)
class Identity:
    """One process, told from every other that had or will have its number."""

    boot: str
    pid: int
    ticks: int

    def alive(self) -> bool:
        """True while the process runs; a zombie counts as gone."""
        return self.boot == boot_id() and self.ticks == start_ticks(self.pid)


@cache
def boot_id() -> str:
    """The machine's identity as long as it runs: this boot of it. ``LQ_BOOT`` stands in for it, for trying things out."""
    if given := os.environ.get("LQ_BOOT"):
        return given
    return system.read("/proc/sys/kernel/random/boot_id").decode().strip()


def _stat(pid: int | str) -> list[str] | None:
    """Fields of /proc/PID/stat from the state on, or None when there is no such process."""
    try:
        raw = system.read(f"/proc/{pid}/stat").decode(errors="replace")
    except _GONE:
        return None
    return raw[raw.rindex(")") + 2 :].split()


def start_ticks(pid: int) -> int | None:
    """When the process began, in clock ticks since boot; None when it is gone or a zombie."""
    fields = _stat(pid)
    return None if fields is None or fields[0] in "ZX" else int(fields[19])


def is_stopped(pid: int) -> bool:
    """True when a signal or a debugger has stopped a process."""
    fields = _stat(pid)
    return fields is not None and fields[0] in "Tt"


def identify(pid: int) -> Identity:
    """The identity of a process that runs now."""
    return Identity(boot_id(), pid, start_ticks(pid) or 0)


def children(pid: int) -> list[int]:
    """Children of all threads of a process."""
    found: list[int] = []
    with suppress(*_GONE):
        for thread in os.listdir(f"/proc/{pid}/task"):
            with suppress(*_GONE):
                found += map(int, system.read(f"/proc/{pid}/task/{thread}/children").split())
    return found


def descendants(pid: int) -> list[int]:
    """Every process below one, zombies too. Under a subreaper that is all it ever started."""
    found, rest = [], children(pid)
    while rest:
        process = rest.pop()
        found.append(process)
        rest += children(process)
    return found


def living(pids: list[int]) -> list[int]:
    """Processes of these that are no zombies."""
    return [pid for pid in pids if start_ticks(pid) is not None]


def resident_mib(pids: list[int]) -> int:
    """Sum of resident memory; pages that several share are counted for each."""
    pages = 0
    for pid in pids:
        try:
            pages += int(system.read(f"/proc/{pid}/statm").split()[1])
        except (OSError, IndexError):
            continue
    return pages * PAGE // 2**20


def peak_mib(pid: int) -> int:
    """The most memory that a process has had resident at a time (``VmHWM``); 0 when it is gone."""
    try:
        status = system.read(f"/proc/{pid}/status")
    except OSError:
        return 0
    _, found, rest = status.partition(b"\nVmHWM:")
    return int(rest.split(None, 1)[0]) // 1024 if found else 0


def proportional_mib(pids: list[int]) -> int:
    """Sum of memory with shared pages counted once; slower, and exact."""
    kib = 0
    for pid in pids:
        try:
            lines = system.read(f"/proc/{pid}/smaps_rollup").splitlines()
            kib += next(int(line.split()[1]) for line in lines if line.startswith(b"Pss:"))
        except (OSError, StopIteration):
            continue
    return kib // 1024


def cpu_ms(pids: list[int]) -> int:
    """CPU time of these processes and of their children that were waited for."""
    ticks = 0
    for pid in pids:
        with suppress(OSError):
            ticks += sum(int(field) for field in (_stat(pid) or [])[11:15])
    return ticks * 1000 // TICKS


def bytes_moved(path: str) -> tuple[int, int]:
    """Bytes read and written, from a /proc ``io`` file."""
    read = written = 0
    try:
        for line in system.read(path).splitlines():
            name, _, count = line.partition(b":")
            if name == b"rchar":
                read = int(count)
            elif name == b"wchar":
                written = int(count)
    except OSError:
        pass
    return read, written


def of_attempt(marks: tuple[str, ...], session: int | None) -> list[int]:
    """Processes of this user whose environment holds a mark of these, or that are in a session, wherever they have gone."""
    found = []
    own = os.getuid()
    needles = {mark.encode() for mark in marks}
    for name in os.listdir("/proc"):
        if not name.isdecimal() or int(name) == os.getpid():
            continue
        try:
            if os.stat(f"/proc/{name}").st_uid != own:
                continue
            fields = _stat(name)
            if fields and session is not None and int(fields[3]) == session:
                found.append(int(name))
                continue
            if not needles.isdisjoint(system.read(f"/proc/{name}/environ").split(b"\0")):
                found.append(int(name))
        except (*_GONE, PermissionError):
            continue
    return found


def send(pids: list[int], number: signal.Signals) -> None:
    """Signal each process; those that are gone are passed over."""
    for pid in pids:
        try:
            os.kill(pid, number)
        except (ProcessLookupError, PermissionError):
            continue


def become_subreaper() -> None:
    """Orphans below this process become its children, not init's (prctl(2))."""
    if _LIBC.prctl(_SET_CHILD_SUBREAPER, 1, 0, 0, 0):
        raise OSError(ctypes.get_errno(), "prctl")


def end_with_parent() -> None:
    """Have this process killed when the one that forked it ends (prctl(2))."""
    _LIBC.prctl(_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)


def call_itself(name: str, instead: str = "", given: str = "") -> None:
    """Give this process a name of up to 15 letters (prctl(2), PR_SET_NAME).

    ``instead`` of a ``given`` word of its command line another of the same length is written. So a fork is told from the process
    that it comes from, in ps, top and pgrep -f.
    """
    _LIBC.prctl(_SET_NAME, name.encode()[:15], 0, 0, 0)
    if len(instead) != len(given) or not given:
        return
    begin, end = map(
        int, system.read_text("/proc/self/stat").rpartition(")")[2].split()[45:47]
    )  # proc(5): arg_start, arg_end
    if 0 < begin < end:
        line = ctypes.string_at(begin, end - begin)
        ctypes.memmove(begin, line.replace(given.encode(), instead.encode()), len(line))


def wall_ms() -> int:
    """The clock that people set, in ms since 1970. ``LQ_CLOCK`` names a file that says how many ms it is ahead, to try that out."""
    ahead = os.environ.get("LQ_CLOCK")
    return time.time_ns() // 1_000_000 + (int(system.read(ahead)) if ahead else 0)


def boottime() -> float:
    """Seconds since boot, sleep included; no one can set this clock."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def busy_s() -> float:
    """Seconds of work of all processors of this machine since its start, whoever's; 0 where that isn't told."""
    try:
        numbers = [int(each) for each in system.read_text("/proc/stat").splitlines()[0].split()[1:9]]
    except (OSError, ValueError, IndexError):
        return 0.0
    return (sum(numbers) - sum(numbers[3:5])) / TICKS  # without those of idling, and of waiting for a disk
