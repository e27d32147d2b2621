"""A host's agent, for an engine that is elsewhere: started apart from the connection, which carries only streams to its sockets.

So jobs outlive the connection: it ends, the agent and its supervisors don't. Where an agent is there already, nothing more is
loaded than what passes streams on: connections are made anew whenever a network was away, to many hosts at once.
"""

from __future__ import annotations

import os
import socket
import sys
import time

from lazy_quarry import __version__
from lazy_quarry.files import ours
from lazy_quarry.run.node.pause import pause
from lazy_quarry.run.node.remote import plain_json, say_line
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, dial, peer_of
from lazy_quarry.run.node.streams import Garbled, Streams
from lazy_quarry.run.node.versions import NEWEST

TYPE_CHECKING = False  # typing takes longer to load than a relay has
if TYPE_CHECKING:
    from typing import Any

STARTS_S = 10.0
"""Seconds that a new agent may take until it listens."""
PAUSE_S = 0.02
_PROGRAM = "agent.json"
"""Of which archive the agent of a spool is, beside its sockets, and what it found of its host."""
_LQ = """#!/bin/sh
case "$1" in
phase|ranks|spread)
    exec "{python}" -I -S -c \\
        'import sys; sys.path.insert(0, "{archive}"); from lazy_quarry.inside.main import leave; leave()' "$@" ;;
esac
echo "lq: on a host, inside of a job, there are lq phase, ranks and spread; everything else works where it was submitted" >&2
exit 2
"""
"""The command that jobs call here."""
_NAMES = {"agent": AGENT_SOCKET, "files": FILES_SOCKET}
"""The things that an engine may want a stream to."""


def relay(archive: str, journal: str) -> None:
    """Have an agent for a journal's attempts, greet whoever connected, then pass streams on until they end.

    The agent's spool is beside the archive, one for each journal.
    """
    spool = f"{os.path.dirname(archive)}/spool-{journal[:32]}"
    known = _listening(spool, archive)
    refused = "" if known else _refused(spool, archive)
    known = known or _listening(spool, archive) or "{}"
    there = {"spool": spool, "refused": refused, "archive": archive, "found": known}
    now_ms = time.time_ns() // 1_000_000
    say_line(plain_json({"greeting": __version__, "messages": NEWEST, "pid": os.getpid(), "clock_ms": now_ms, **there}))
    if not refused:
        streams = Streams(0, 1, lambda name: _to(spool, archive, name), odd=False)
        try:
            while True:
                streams.turn(None)
        except (EOFError, BrokenPipeError, Garbled):
            streams.close()


def _to(spool: str, archive: str, name: str) -> socket.socket | None:
    """A stream to what the agent here listens at; one that has ended meanwhile is started again."""
    if name not in _NAMES:
        return None
    found = dial(spool, _NAMES[name], 0.0)
    if found is None and not _refused(spool, archive):
        found = dial(spool, _NAMES[name])
    return found


def _listening(spool: str, archive: str) -> str:
    """What an agent of this archive that listens there found of its host, as it wrote it (JSON); empty where none does."""
    try:
        known = ours.read_text(f"{spool}/{_PROGRAM}")
        if known.startswith("{") and known.endswith("}") and _of(archive) in known and _listener(spool):
            return known
    except OSError:
        pass
    return ""


def _of(archive: str) -> str:
    """The words by which an agent's file tells of which archive it is."""
    return f'"archive": "{os.path.basename(archive)}"'


def _refused(spool: str, archive: str) -> str:
    """Start an agent where none listens; why there is none then, empty when there is."""
    import json
    from pathlib import Path

    from lazy_quarry.files.file_systems import file_system, is_shared
    from lazy_quarry.run.node.agent_process import end_agent, holder_named, start_agent
    from lazy_quarry.run.node.compiled import compile_apart

    place = Path(spool)
    try:
        if is_shared(place.parent):
            return f"{place.parent} is on a network file system ({file_system(place.parent)})"
        place.mkdir(mode=0o700, exist_ok=True)
        place.chmod(0o700)
        known = ours.glance_json(place / _PROGRAM) or {}
        if (pid := _listener(spool)) is not None:
            if known.get("archive") == os.path.basename(archive):
                return ""
            if _newer(known.get("version")):
                return f"the agent there is of a newer version, {known['version']}; start the engine anew with that program"
            end_agent(pid, STARTS_S)  # its jobs go on, and the next agent finds them
        started = start_agent([sys.executable, "-I", "-S", archive, "agent", spool], place)
        until = time.monotonic() + STARTS_S
        while _listener(spool) is None:
            if started.poll() is not None:
                if _listener(spool) is not None:  # that of another connection was quicker
                    return ""
                by = holder_named(place)
                holds = f"its cores are in use by the jobs of {by}; jobs here start when those have ended"
                return holds if by else f"the agent does not start; see {place.parent / 'agent.log'} there"
            if time.monotonic() > until:
                return f"the agent does not answer; see {place.parent / 'agent.log'} there"
            pause(PAUSE_S)
        host = _this_host(archive)
        host["gpus_once"] = max(host["gpus"], known.get("host", {}).get("gpus_once", 0))
        found = {"version": __version__, "archive": os.path.basename(archive), "host": host}
        ours.write_whole(place / _PROGRAM, json.dumps(found), durable=False)  # as :func:`_listening` reads it
        compile_apart(Path(archive))
        return ""
    except OSError as fault:
        return f"the agent cannot be started: {fault.filename or spool}: {fault.strerror}"


def _this_host(archive: str) -> dict[str, Any]:
    """Tell what an engine needs to lay attempts out here, and what their records say of where they ran. Raises :class:`OSError`."""
    from lazy_quarry.run.node.about_host import devices, gpus_of, memory_mib
    from lazy_quarry.run.node.groups import group_bases
    from lazy_quarry.run.node.processor import processor_name

    found = os.uname()
    return {
        "processors": sorted(os.sched_getaffinity(0)),
        "memory_mib": memory_mib(),
        "gpus": gpus_of(devices()),
        "python": ".".join(map(str, sys.version_info[:3])),
        "groups": sorted(name or "version 2" for name in group_bases()),
        "host": [found.nodename, f"{found.sysname} {found.release}", processor_name() or found.machine],
        "commands": _commands(archive),
    }


def _commands(archive: str) -> str:
    """A folder that holds just ``lq``, for the end of a job's PATH: its helpers are in the archive. Raises :class:`OSError`."""
    folder = f"{archive.removesuffix('.pyz').replace('/agent-', '/bin-')}"
    os.makedirs(folder, mode=0o700, exist_ok=True)
    ours.write_whole(f"{folder}/lq", _LQ.format(python=sys.executable, archive=archive), durable=False, mode=0o700)
    return folder


def _listener(spool: str) -> int | None:
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
