"""The agent's process, for whoever starts and ends it: an engine on its own machine, a relay on a host."""

from __future__ import annotations

import os
import select
import signal
import subprocess
from collections.abc import Sequence
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.files.logs import opened_log

REFUSED = "agent.refused"
"""A file in its spool, in which an agent says why it leaves at once."""


def start_agent(words: Sequence[str], spool: Path) -> subprocess.Popen[bytes]:
    """Start an agent by its command line, apart from this process and its terminal, with a log beside the spool.

    Raises :class:`OSError`.
    """
    (spool / REFUSED).unlink(missing_ok=True)
    log = opened_log(spool.parent / "agent.log")
    try:
        return subprocess.Popen(
            words, start_new_session=True, stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd="/"
        )
    finally:
        os.close(log)


def holder_named(spool: Path) -> str:
    """The spool whose jobs have the cores, as an agent said that left; empty when it said nothing."""
    return str((ours.glance_json(spool / REFUSED) or {}).get("by") or "")


def end_agent(pid: int, within_s: float) -> None:
    """End an agent, whose jobs go on, and wait for that at most so long."""
    try:
        handle = os.pidfd_open(pid)
    except OSError:
        return
    try:
        signal.pidfd_send_signal(handle, signal.SIGTERM)
        select.select([handle], [], [], within_s)
    except OSError:
        pass
    finally:
        os.close(handle)
