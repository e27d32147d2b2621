"""``lq phase NAME -- COMMAND``: a named part of a job, measured."""

from __future__ import annotations

import os
import resource
import signal
import time
from contextlib import suppress

from lazy_quarry.inside.helper import PASSED_ON, Refused, exit_of, passed_on, record, say, shell_code

_WAKE = {signal.SIGCHLD, *PASSED_ON}
_FIRST_LOOK_S, _LAST_LOOK_S = 0.05, 2.0


def run_phase(name: str, command: list[str]) -> int:
    """Run a command as a part of this name; returns the exit status that a shell would see. Raises :class:`Refused`."""
    if not name.strip() or not name.isprintable() or len(name) > record.MOST_NAME:
        raise Refused(f"a phase's name has 1 to {record.MOST_NAME} printable characters")
    signal.pthread_sigmask(signal.SIG_BLOCK, _WAKE)
    part = record.begin(name)
    moved, began = _moved(), time.monotonic()
    try:
        pid = os.posix_spawnp(
            command[0],
            command,
            {**os.environ, "LQ_PHASE": part},
            setsigmask=[],
            setsigdef=[*PASSED_ON, signal.SIGPIPE, signal.SIGXFSZ],
        )
    except (OSError, ValueError) as fault:
        code = 127 if isinstance(fault, FileNotFoundError) else 126
        record.end(part, time.monotonic() - began, 0.0, 0, (0, 0), code)
        say("phase", f"{command[0]} can't be started: {getattr(fault, 'strerror', None) or fault}")
        return code
    status, peak = _watched(pid)
    used, now = resource.getrusage(resource.RUSAGE_CHILDREN), _moved()
    code_, name_ = exit_of(status)
    record.end(
        part,
        time.monotonic() - began,
        used.ru_utime + used.ru_stime,
        max(peak, used.ru_maxrss // 1024),
        (max(0, now[0] - moved[0]), max(0, now[1] - moved[1])),
        code_,
        name_,
    )
    return shell_code(status)


def _watched(pid: int) -> tuple[int, int]:
    """Wait for a child, pass signals on, and look now and then how much memory all below it have together."""
    peak, pause = 0, _FIRST_LOOK_S
    while True:
        told = signal.sigtimedwait(_WAKE, pause)
        if told is not None and told.si_signo in PASSED_ON and passed_on(told):
            os.kill(pid, told.si_signo)
        found, status = os.waitpid(pid, os.WNOHANG)
        if found:
            return status, peak
        if told is None:
            from lazy_quarry.run.node.process import descendants, resident_mib  # short parts need none of it

            pause = min(pause * 2, _LAST_LOOK_S)
            with suppress(OSError):
                peak = max(peak, resident_mib(descendants(os.getpid())))


def _moved() -> tuple[int, int]:
    """Bytes read and written by this process and those that it has waited for, less its own thread's."""
    whole, own = (record.moved(path) for path in ("/proc/self/io", f"/proc/self/task/{os.getpid()}/io"))
    return whole[0] - own[0], whole[1] - own[1]
