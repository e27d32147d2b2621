"""What a host is like for jobs, found by going there: what it has, which folders it sees, and what is in the way."""

from __future__ import annotations

import os
import secrets
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import Any

from msgspec import Struct, field

from lazy_quarry.core.units import format_size, off_words
from lazy_quarry.core.values import replace
from lazy_quarry.files import given
from lazy_quarry.files.file_systems import is_of_network
from lazy_quarry.run.hosts.reach import OPENED_AT_ONCE, Talk, Unreached, reach
from lazy_quarry.run.hosts.transport import Route, Ssh, Transport

LATE_MS = 5_000
"""A clock that is off by less troubles nobody."""
MOST_OTHERS = 16
"""Other hosts that each is asked whether it reaches."""
LITTLE_MIB = 8
"""Room on a host's disk below which jobs may not be recorded there."""


class HostCheck(Struct, frozen=True):
    """All that was found of a host."""

    host: str
    reached_ms: int | None = None
    """Milliseconds until our program answered there; None when it didn't."""
    problems: tuple[str, ...] = ()
    """What is in the way of jobs there, each with what to do."""
    notes: tuple[str, ...] = ()
    """Other things that are good to know."""
    facts: dict[str, Any] = field(default_factory=dict)
    """What the host says of itself: see :func:`~lazy_quarry.run.node.remote.facts`."""
    offset_ms: int | None = None
    """Milliseconds that its clock is ahead of ours; negative when it is behind. Exact to half the time that asking took."""
    folders: dict[str, bool] = field(default_factory=dict)
    """Folders of this machine: whether the host sees the same one there."""
    reaches: dict[str, bool] = field(default_factory=dict)
    """The other hosts that were asked for: whether it reaches them, by the address that is used from here."""


class HostAsked(Struct, frozen=True):
    """A host to check: as SSH knows it, the Python to use there, and where our files are to be."""

    host: str
    python: str = "python3"
    spool: str = ""


def check_hosts(
    hosts: Sequence[HostAsked], folders: Sequence[str], transport_of: Callable[[str], Transport] = Ssh
) -> list[HostCheck]:
    """Check hosts, some at a time, in their order. ``folders`` are those of this machine that hosts may see too."""
    ways = {one.host: transport_of(one.host) for one in hosts}
    with _marks(folders) as marks, ThreadPoolExecutor(OPENED_AT_ONCE) as pool:
        routes = dict(zip(ways, pool.map(lambda way: way.route(), ways.values()), strict=True))
        known = {name: route for name, route in routes.items() if route.address}
        found = list(pool.map(lambda one: check_host(ways[one.host], marks, one.python, one.spool, known), hosts))
    reached = {each.host for each in found if each.reached_ms is not None}
    return [_between(each, reached) for each in found]


def check_host(
    transport: Transport,
    marks: dict[str, tuple[str, str]],
    python: str = "python3",
    spool: str = "",
    routes: Mapping[str, Route] | None = None,
) -> HostCheck:
    """Check one host. ``marks`` are files in folders of this machine, by the folder: each with its path and what is in it;
    ``routes`` how other hosts are reached from here.
    """
    try:
        with reach(transport, python, spool) as host:
            facts = host.ask("facts")
            offset_ms, within_ms = _offset(host)
            seen = {folder: _sees(host, path, text) for folder, (path, text) in marks.items()}
            others = [[name, route.address, route.port] for name, route in (routes or {}).items() if name != host.name]
            reaches: dict[str, bool] = host.ask("reaches", others[:MOST_OTHERS]) if others else {}
            problems = tuple(_problems(facts, offset_ms, within_ms))
            notes = tuple(_notes(facts, host))
            return HostCheck(transport.name, host.reached_ms, problems, notes, facts, offset_ms, seen, reaches)
    except (Unreached, OSError, KeyError, TypeError, ValueError) as fault:
        words = str(fault) or repr(fault)
        return HostCheck(transport.name, problems=(words.removeprefix(f"{transport.name}: "),))


def _offset(host: Talk) -> tuple[int, int]:
    """How far a host's clock is ahead, and how exact that is, in ms: the best of three questions."""
    found = []
    for _ in range(3):
        before = time.time_ns() // 1_000_000
        there = int(host.ask("clock"))
        after = time.time_ns() // 1_000_000
        found.append(((after - before) // 2, there - (before + after) // 2))
    within, offset = min(found)
    return offset, within


def _sees(host: Talk, path: str, text: str) -> bool:
    try:
        return bool(host.ask("read", path) == text)
    except OSError:
        return False


def _problems(facts: dict[str, Any], offset_ms: int, within_ms: int) -> Iterator[str]:
    if facts["folder_refused"]:
        yield f"our files have no place there: {facts['folder_refused']}; or name one: --spool /path"
    elif is_of_network(facts["folder_kind"]):
        yield (
            f"{facts['folder']} is on a network file system ({facts['folder_kind']}), where locks and sockets can't be relied on; "
            "name a folder on a disk of that host: --spool /path"
        )
    elif facts["unwritable"]:
        yield f"{facts['folder']} can't be written to: {facts['unwritable']}; name another folder: --spool /path"
    elif facts["free_mib"] < LITTLE_MIB:
        left = format_size(facts["free_mib"]) if facts["free_mib"] else "no room"
        yield f"{facts['folder']} has {left} left; jobs can't be recorded there until there is more room"
    if abs(offset_ms) > LATE_MS + within_ms:
        yield f"its clock is {off_words(offset_ms)}; have it set by a time service, as: timedatectl set-ntp true"
    if facts["logout"]["processes"]:
        yield (
            "the system there ends a person's processes at logout (KillUserProcesses), jobs too; type there once: loginctl "
            "enable-linger, or ask whoever runs it"
        )
    if facts["holder"]:
        yield f"its cores are in use by the jobs of {facts['holder']}; jobs here start when those have ended"


def _between(found: HostCheck, reached: set[str]) -> HostCheck:
    """A check with a note on hosts that it doesn't reach though they are reached from here."""
    missing = [name for name, there in found.reaches.items() if not there and name in reached]
    if not missing:
        return found
    words = (
        f"it doesn't reach {', '.join(missing)} by the address that is used from here; jobs on one host don't need that"
    )
    return replace(found, notes=(*found.notes, words))


def _notes(facts: dict[str, Any], host: Talk) -> Iterator[str]:
    if host.noise:
        yield f"its login files print, which is skipped; let them do so only for a terminal: {host.noise}"
    if facts["logout"]["shared_memory"]:
        yield "the system there removes a person's shared memory at logout (RemoveIPC): loginctl enable-linger keeps it"
    if not facts["groups"]:
        yield "no control groups may be made there: memory and cores are kept by watching"
    if facts["others"]:
        yield f"jobs of {', '.join(facts['others'])} use its cores too; nobody divides them between users"


@contextmanager
def _marks(folders: Sequence[str]) -> Iterator[dict[str, tuple[str, str]]]:
    """Files that are written into folders here to be read there, and removed after; a folder that takes none is left out."""
    marks, made = dict[str, tuple[str, str]](), list[str]()
    try:
        for folder in dict.fromkeys(folders):
            path, text = os.path.join(folder, f".lazy-quarry-{secrets.token_hex(8)}"), secrets.token_hex(16)
            with suppress(OSError):
                with open(given.fresh(path, 0o644), "w") as file:
                    made.append(path)
                    file.write(text)
                marks[folder] = path, text
        yield marks
    finally:
        for path in made:
            with suppress(OSError):
                os.unlink(path)
