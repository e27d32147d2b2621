"""Named parts of a running job, for Python programs::

    import lq_inside

    with lq_inside.phase("solve"):
        ...

One file, nothing needed beside it, Python 3.6 or newer. Time, CPU, peak memory, bytes and outcome of the part go into the
job's record. Outside of a job nothing is recorded, and all goes on as it would.
"""

import json
import os
import resource
import time
from collections.abc import Iterator
from contextlib import contextmanager

MOST_BYTES = 1 << 20
"""Bytes of the record of one attempt; what comes later is not recorded."""
MOST_NAME = 64
_count = 0
_open: "list[dict[str, int]]" = []
_parts: "dict[int | None, str]" = {}


def folder() -> "str | None":
    """Where the parts of this attempt are recorded; made when it is needed. None outside of a job."""
    attempt = os.environ.get("LQ_ATTEMPT_FOLDER")
    if not attempt or not os.path.isdir(attempt):
        return None
    path = os.path.join(attempt, "inside")
    try:
        os.makedirs(path, exist_ok=True)
    except OSError:
        return None
    return path


def note(line: "dict[str, object]") -> None:
    """Add a line to the record; one that can't be written is left out, for a job goes on without it."""
    path = folder()
    if path is None:
        return
    try:
        fd = os.open(os.path.join(path, "parts.jsonl"), os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        try:
            if os.fstat(fd).st_size < MOST_BYTES:
                os.write(fd, (json.dumps(line) + "\n").encode())
        finally:
            os.close(fd)
    except OSError:
        pass


def begin(name: str, kind: str = "phase", above: "str | None" = None) -> str:
    """Note that a part begins; returns what names it."""
    global _count
    _count += 1
    part = f"{os.getpid()}.{int(time.time() * 1000 % 1e9)}.{_count}"
    above = os.environ.get("LQ_PHASE", "") if above is None else above
    note({"id": part, "name": str(name)[:MOST_NAME], "kind": kind, "above": above, "began_ms": int(time.time() * 1000)})
    return part


def end(
    part: str,
    seconds: float,
    cpu_s: float,
    memory_peak_mib: int,
    bytes_moved: "tuple[int, int]" = (0, 0),
    exit: "int | None" = None,
    signal: "str | None" = None,
) -> None:
    """Note that it is over, and what it used."""
    note(
        {
            "id": part,
            "seconds": round(seconds, 3),
            "cpu_s": round(cpu_s, 3),
            "memory_peak_mib": memory_peak_mib,
            "read": bytes_moved[0],
            "written": bytes_moved[1],
            "exit": exit,
            "signal": signal,
        }
    )


def _spent() -> float:
    own, below = resource.getrusage(resource.RUSAGE_SELF), resource.getrusage(resource.RUSAGE_CHILDREN)
    return own.ru_utime + own.ru_stime + below.ru_utime + below.ru_stime


def moved(path: str = "/proc/self/io") -> "tuple[int, int]":
    """Bytes read and written so far, from a file of the kernel's (proc(5), io)."""
    found: dict[str, int] = {}
    try:
        with open(path) as file:
            for line in file:
                name, _, value = line.partition(":")
                found[name] = int(value)
    except (OSError, ValueError):
        pass
    return found.get("rchar", 0), found.get("wchar", 0)


def _peak_mib() -> int:
    """The greatest memory of this process since the peak was last set back."""
    try:
        with open("/proc/self/status") as file:
            for line in file:
                if line.startswith("VmHWM:"):
                    return int(line.split()[1]) // 1024
    except (OSError, ValueError):
        pass
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024


def _look_at_peak() -> None:
    """Count the peak so far for all that is open, and set it back (proc(5), clear_refs)."""
    peak = _peak_mib()
    for one in _open:
        one["peak"] = max(one["peak"], peak)
    try:
        with open("/proc/self/clear_refs", "w") as file:
            file.write("5")
    except OSError:
        pass


@contextmanager
def phase(name: str) -> "Iterator[None]":
    """A named part: with lq_inside.phase("solve"): ..."""
    import threading

    thread = threading.current_thread()
    above = _parts.get(thread.ident)
    _look_at_peak()
    part = begin(name, "phase", above)
    state = {"peak": 0}
    _open.append(state)
    _parts[thread.ident] = part
    before = os.environ.get("LQ_PHASE")
    if thread is threading.main_thread():
        os.environ["LQ_PHASE"] = part  # what is started meanwhile is part of it
    began, spent, before_moved = time.monotonic(), _spent(), moved()
    code = 1
    try:
        yield
        code = 0
    finally:
        _look_at_peak()
        _open.remove(state)
        if above is None:
            _parts.pop(thread.ident, None)
        else:
            _parts[thread.ident] = above
        if os.environ.get("LQ_PHASE") == part:
            if before is None:
                del os.environ["LQ_PHASE"]
            else:
                os.environ["LQ_PHASE"] = before
        now = moved()
        seconds = time.monotonic() - began
        end(part, seconds, _spent() - spent, state["peak"], (now[0] - before_moved[0], now[1] - before_moved[1]), code)
