"""The common parts of phase, ranks and spread: the record, a job's cores, words on standard error, how a child ended."""

from __future__ import annotations

import os
import signal
from functools import lru_cache

from lazy_quarry.inside.python import lq_inside as record

__all__ = ["Refused", "cores_here", "exit_of", "passed_on", "record", "say", "signal_name"]
PASSED_ON = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2)
"""Signals that what was started is told of."""


class Refused(Exception):
    """It can't be done; the message says why."""


def say(helper: str, words: str) -> None:
    """A line on standard error."""
    os.write(2, f"lq {helper}: {words}\n".encode(errors="replace"))


def cores_here() -> list[int]:
    """The processors of this node that the job was given."""
    return sorted(os.sched_getaffinity(0))


def exit_of(status: int) -> tuple[int | None, str | None]:
    """Exit status or signal of a wait status."""
    if os.WIFSIGNALED(status):
        return None, signal_name(os.WTERMSIG(status))
    return os.WEXITSTATUS(status), None


def shell_code(status: int) -> int:
    """The exit status by which a shell would tell it."""
    return 128 + os.WTERMSIG(status) if os.WIFSIGNALED(status) else os.WEXITSTATUS(status)


def signal_name(number: int) -> str:
    """Its name, or its number where it has none."""
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


@lru_cache(maxsize=1)
def supervisor() -> int:
    """The process above this job's session; 0 where that can't be told. Its signals reach every process of the job."""
    try:
        with open(f"/proc/{os.getsid(0)}/stat", "rb") as file:
            return int(file.read().rpartition(b")")[2].split()[1])
    except (OSError, ValueError, IndexError):
        return 0


def passed_on(told: signal.struct_siginfo) -> bool:
    """True when a signal has to be passed on: one from the supervisor has reached everybody already."""
    return supervisor() == 0 or told.si_pid != supervisor()
