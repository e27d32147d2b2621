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
from typing import Any

from lazy_quarry import __version__
from lazy_quarry.files import ours
from lazy_quarry.files.file_systems import file_system, is_shared
from lazy_quarry.run.node.agent_process import end_agent, holder_named, start_agent
from lazy_quarry.run.node.groups import group_bases
from lazy_quarry.run.node.messages import NEWEST
from lazy_quarry.run.node.process import boot_id, pause
from lazy_quarry.run.node.processor import processor_name
from lazy_quarry.run.node.remote import memory_mib, say
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, dial, peer_of
from lazy_quarry.run.node.streams import Garbled, Streams

STARTS_S = 10.0
"""Seconds that a new agent may take until it listens."""
PAUSE_S = 0.02
_PROGRAM = "agent.json"
"""Of which version the agent of a spool is, beside its sockets."""
_LQ = """#!/bin/sh
case "$1" in
phase|ranks|spread)
    exec "{python}" -I -S -c \
        'import sys; sys.path.insert(0, "{archive}"); from lazy_quarry.inside.main import leave; leave()' "$@" ;;
esac
echo "lq: on a host, inside of a job, there are lq phase, ranks and spread; everything else works where it was submitted" >&2
exit 2
"""
"""The command that jobs call here."""
_NAMES = {"agent": AGENT_SOCKET, "files": FILES_SOCKET}
"""What an engine may want a stream to."""


def relay(archive: Path, journal: str) -> None:
    """Have an agent for a journal's attempts, greet whoever connected, then pass streams on until they end.

    The agent's spool is beside the archive, one for each journal.
    """
    spool = archive.parent / f"spool-{journal[:32]}"
    refused = _refused(spool, archive)
    there = {"spool": str(spool), "refused": refused, "archive": str(archive), **_this_host()}
    if not refused:
        try:
            there["commands"] = str(_commands(archive))
        except OSError as fault:
            there["refused"] = f"{archive.parent} cannot be written to: {fault.strerror}"
    say({"greeting": __version__, "messages": NEWEST, "pid": os.getpid(), **there})
    if not there["refused"]:
        streams = Streams(0, 1, lambda name: _to(spool, archive, name), odd=False)
        try:
            while True:
                streams.turn(None)
        except (EOFError, BrokenPipeError, Garbled):
            streams.close()


def _this_host() -> dict[str, Any]:
    """What an engine needs to lay attempts out here, and what their records say of where they ran."""
    found = os.uname()
    return {
        "processors": sorted(os.sched_getaffinity(0)),
        "memory_mib": memory_mib(),
        "python": ".".join(map(str, sys.version_info[:3])),
        "groups": sorted(name or "version 2" for name in group_bases()),
        "boot": boot_id(),
        "host": [found.nodename, f"{found.sysname} {found.release}", processor_name() or found.machine],
    }


def _commands(archive: Path) -> Path:
    """A folder that holds just ``lq``, for the end of a job's PATH: its helpers are in the archive. Raises :class:`OSError`."""
    folder = archive.parent / f"bin-{archive.stem}"
    folder.mkdir(mode=0o700, exist_ok=True)
    text = _LQ.format(python=sys.executable, archive=archive)
    known = ours.read_text(folder / "lq") if (folder / "lq").exists() else ""
    if known != text:
        ours.write_whole(folder / "lq", text, durable=False, mode=0o700)
    return folder


def _to(spool: Path, archive: Path, name: str) -> socket.socket | None:
    """A stream to what the agent here listens at; one that has ended meanwhile is started again."""
    if name not in _NAMES:
        return None
    found = dial(spool, _NAMES[name], 0.0)
    if found is None and not _refused(spool, archive):
        found = dial(spool, _NAMES[name])
    return found


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
            pause(PAUSE_S)
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
