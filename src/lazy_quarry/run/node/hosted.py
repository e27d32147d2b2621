"""A host's agent, for an engine that is elsewhere: started apart from the connection, which carries only streams to its sockets.

So jobs outlive the connection: it ends, the agent and its supervisors don't.
"""

from __future__ import annotations

import json
import os
import socket
import sys
import time
from pathlib import Path

from lazy_quarry import __version__
from lazy_quarry.files import ours
from lazy_quarry.files.file_systems import file_system, is_shared
from lazy_quarry.run.node.agent_process import end_agent, holder_named, start_agent
from lazy_quarry.run.node.messages import NEWEST
from lazy_quarry.run.node.remote import say
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, dial, peer_of
from lazy_quarry.run.node.streams import Garbled, Streams

STARTS_S = 10.0
"""Seconds that a new agent may take until it listens."""
PAUSE_S = 0.02
_PROGRAM = "agent.json"
"""Of which version the agent of a spool is, beside its sockets."""
_NAMES = {"agent": AGENT_SOCKET, "files": FILES_SOCKET}
"""What an engine may want a stream to."""


def relay(archive: Path, journal: str) -> None:
    """Have an agent for a journal's attempts, greet whoever connected, then pass streams on until they end.

    The agent's spool is beside the archive, one for each journal.
    """
    spool = archive.parent / f"spool-{journal[:32]}"
    refused = _refused(spool, archive)
    say({"greeting": __version__, "messages": NEWEST, "pid": os.getpid(), "spool": str(spool), "refused": refused})
    if not refused:
        streams = Streams(0, 1, lambda name: _to(spool, name), odd=False)
        try:
            while True:
                streams.turn(None)
        except (EOFError, BrokenPipeError, Garbled):
            streams.close()


def _to(spool: Path, name: str) -> socket.socket | None:
    return dial(spool, _NAMES[name]) if name in _NAMES else None


def _refused(spool: Path, archive: Path) -> str:
    """Start an agent where none listens; why there is none then, empty when there is."""
    try:
        if is_shared(spool.parent):
            return f"{spool.parent} is on a network file system ({file_system(spool.parent)})"
        spool.mkdir(mode=0o700, exist_ok=True)
        spool.chmod(0o700)
        if (pid := _listener(spool)) is not None:
            known = ours.glance_json(spool / _PROGRAM) or {}
            if known.get("archive") == archive.name:
                return ""
            if _newer(known.get("version")):
                return f"the agent there is of a newer version, {known['version']}; start the engine anew with that program"
            end_agent(pid, STARTS_S)  # its jobs go on, and the next agent finds them
        started = start_agent([sys.executable, "-I", "-S", str(archive), "agent", str(spool)], spool)
        until = time.monotonic() + STARTS_S
        while not _listens(spool):
            if started.poll() is not None:
                if _listens(spool):  # that of another connection was quicker
                    return ""
                by = holder_named(spool)
                holds = f"its cores are in use by the jobs of {by}; jobs here start when those have ended"
                return holds if by else f"the agent does not start; see {spool.parent / 'agent.log'} there"
            if time.monotonic() > until:
                return f"the agent does not answer; see {spool.parent / 'agent.log'} there"
            time.sleep(PAUSE_S)
        ours.write_whole(spool / _PROGRAM, json.dumps({"version": __version__, "archive": archive.name}), durable=False)
        return ""
    except OSError as fault:
        return f"the agent cannot be started: {fault.filename or spool}: {fault.strerror}"


def _listens(spool: Path) -> bool:
    return _listener(spool) is not None


def _listener(spool: Path) -> int | None:
    """The process that listens there; None when there is none."""
    link = dial(spool, AGENT_SOCKET, 0.0)
    if link is None:
        return None
    with link:
        return peer_of(link).pid


def _newer(version: object) -> bool:
    """True for a version of a program after this one's."""
    try:
        return _numbers(str(version)) > _numbers(__version__)
    except ValueError:
        return False


def _numbers(version: str) -> list[int]:
    return [int(each) for each in version.split(".")]
