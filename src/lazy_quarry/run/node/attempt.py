"""The folder of one attempt: what engine, agent and supervisor leave for one another.

``intent.json`` says what is to run, ``claim.json`` which supervisor took it (made by link(2), so by one
alone), ``stop`` why it should end, ``live.json`` what it uses, ``exit.PID`` how it ended. Whoever is
killed, the others find here where things stand.
"""

import json
import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lazy_quarry.run.node.process import Identity


@dataclass(frozen=True, slots=True)
class Intent:
    """All that a supervisor needs to run an attempt."""

    job: int
    attempt: int
    name: str
    directory: str
    output: str
    errors: str
    input: str
    environment: dict[str, str]
    arguments: list[str]
    prepare: list[str]
    expect: list[str]
    summary: bool
    cores: list[int]
    memory_mib: int
    walltime_s: int
    grace_s: int
    warn_s: int | None
    ranks: list[tuple[str, int]] = field(default_factory=list)
    modules: list[str] = field(default_factory=list)
    stage_in: list[str] = field(default_factory=list)
    stage_out: list[str] = field(default_factory=list)
    scratch: str = ""
    """Where it may write for the time it runs; in the attempt's own folder unless it is kept for later jobs."""
    spared: str = ""
    """Where results go that could not be brought back."""
    group: str = ""

    @property
    def folder_name(self) -> str:
        """Of the attempt, below the spool."""
        return f"{self.job}-{self.attempt}"


@dataclass(frozen=True, slots=True)
class Exit:
    """How an attempt ended and what it used. ``held_ms`` is by a clock that nobody can set."""

    ended_ms: int
    held_ms: int
    exit: int | None = None
    signal: str | None = None
    cause: str | None = None
    reason: str = ""
    cpu_ms: int = 0
    memory_peak_mib: int = 0
    read_bytes: int = 0
    written_bytes: int = 0


def fields_of(value: Intent | Exit | Identity) -> dict[str, Any]:
    """A record as a dictionary; quicker than a deep copy, for each job pays for it."""
    return {name: getattr(value, name) for name in value.__dataclass_fields__}


def write_whole(path: Path, text: str, durable: bool = True) -> None:
    """A file that is there with all of its text, or not at all."""
    short = path.with_name(f"{path.name}.{os.getpid()}")
    fd = os.open(short, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
    try:
        os.write(fd, text.encode())
        if durable:
            os.fsync(fd)
    finally:
        os.close(fd)
    os.rename(short, path)


def read_json(path: Path) -> Any | None:
    """What a file holds, or None when it is not there or not whole."""
    try:
        return json.loads(path.read_bytes())
    except (OSError, ValueError):
        return None


def read_claim(folder: Path) -> Identity | None:
    """The supervisor that took this attempt, or None when nobody did."""
    found = read_json(folder / "claim.json")
    return None if found is None else Identity(found["boot"], found["pid"], found["ticks"])


EXIT_BYTES = 4096
"""Room kept in an exit file from the start, so that a disk that fills up later cannot lose how it ended."""


def exit_file(folder: Path, supervisor: int) -> Path:
    """Where a supervisor records the end; only the one that claimed the attempt is asked."""
    return folder / f"exit.{supervisor}"


def read_exit(folder: Path) -> Exit | None:
    """How the attempt ended, or None when that is not recorded."""
    claim = read_claim(folder)
    found = read_json(exit_file(folder, claim.pid)) if claim else None
    return None if found is None else Exit(**found)


def read_intent(folder: Path) -> Intent | None:
    """What is to run, or None when the engine never finished saying so."""
    found = read_json(folder / "intent.json")
    if found is None:
        return None
    return Intent(**(found | {"ranks": [tuple(pair) for pair in found["ranks"]]}))


def write_intent(folder: Path, intent: Intent, script: str) -> None:
    """Lay an attempt's folder out; the intent comes last, so that it stands for all the rest.

    Until a supervisor has claimed it, it may be laid out again: after a power cut nothing of it need be there.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    if (folder / "claim.json").exists():
        return
    copy = folder / "script"
    fd = os.open(copy, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o700)
    with os.fdopen(fd, "w", newline="") as file:
        file.write(script)
    hosts = "".join(f"{node}\n" * ranks for node, ranks in intent.ranks)
    (folder / "nodes").write_text(hosts)
    write_whole(folder / "intent.json", json.dumps(fields_of(intent)), durable=False)
