"""The folder of one attempt, in which engine, agent and supervisor leave files for one another, and below it the job's own.

``intent.json`` says what is to run, ``claim.json`` which supervisor took it (made by link(2), so by one
alone), ``stop`` why it should end, ``live.json`` what it uses, ``exit.PID`` how it ended. Whoever is
killed, the others find here where things stand. ``own`` is what the job is told of: there its helpers write, and its scratch folder
is; what a job does to it changes nothing of ours.
"""

from __future__ import annotations

import json
import os
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from lazy_quarry.files import ours
from lazy_quarry.run.node.process import Identity


@dataclass(frozen=True)
class Paths:
    """Where the job starts, prints and reads. ``errors`` may be the output; an empty ``input`` is nothing to read."""

    directory: str
    output: str
    errors: str
    input: str


@dataclass(frozen=True)
class Command:
    """The start of the script: commands before it, modules, words and variables."""

    environment: dict[str, str]
    arguments: list[str]
    prepare: list[str]
    modules: list[str]


@dataclass(frozen=True)
class Limits:
    """The limits that the supervisor enforces. ``cores`` are processor numbers of this machine."""

    cores: list[int]
    memory_mib: int
    walltime_s: int
    grace_s: int
    warn_s: int | None
    scratch_mib: int = 0
    """Room in the scratch folder; 0 where none was asked for, and then nothing is done about it."""


@dataclass(frozen=True)
class Staging:
    """Files that are copied to the scratch folder before, and back after."""

    into: list[str]
    out: list[str]
    scratch: str
    """In the attempt's own folder, unless it is kept for later jobs."""
    spared: str
    """Where results go that could not be copied back."""


@dataclass(frozen=True)
class Results:
    """Files that must exist at the end, the summary, and the group that may read what was written."""

    expect: list[str]
    summary: bool
    group: str


@dataclass(frozen=True)
class Intent:
    """All that a supervisor needs to run an attempt. ``ranks`` are (node, ranks on it)."""

    job: int
    attempt: int
    name: str
    ranks: list[tuple[str, int]]
    paths: Paths
    command: Command
    limits: Limits
    staging: Staging
    results: Results
    journal: str = ""
    mark: str = ""
    """The identity of the journal and the mark of the submission: no attempt is ever taken for another's."""
    lease_s: float | None = None
    """For so long it may go on after it was asked whether it may; None: for ever, as on the engine's own machine."""


@dataclass(frozen=True)
class Exit:
    """The end of an attempt, and its use.

    ``held_ms`` is how long it had its cores, by a clock that nobody can set; of one that was lost, until it was last seen. None
    when that is not known any more.
    """

    ended_ms: int
    held_ms: int | None
    exit: int | None = None
    signal: str | None = None
    cause: str | None = None
    reason: str = ""
    cpu_ms: int = 0
    memory_peak_mib: int = 0
    read_bytes: int = 0
    written_bytes: int = 0
    journal: str = ""
    mark: str = ""
    scratch_mib: int = 0
    """MiB in its scratch folder at the end."""
    printed: dict[str, list[int]] = field(default_factory=dict)
    """Its output and errors as it left them: device, inode, size, when written last in ns."""


OWN = "own"


def own_folder(folder: Path) -> Path:
    """The job's own folder of an attempt; of one that an earlier version took in, the attempt's."""
    own = folder / OWN
    return own if own.is_dir() else folder


def read_claim(folder: Path) -> Identity | None:
    """The supervisor that took this attempt, or None when nobody did."""
    found = ours.read_json(f"{folder}/claim.json")
    try:
        return None if found is None else Identity(found["boot"], found["pid"], found["ticks"])
    except (TypeError, KeyError):
        return None


EXIT_BYTES = 4096
"""Room kept in an exit file from the start, so that a disk that fills up later cannot lose how it ended."""


def exit_file(folder: Path, supervisor: int) -> str:
    """Where a supervisor records the end; only that of the one that claimed the attempt is read."""
    return f"{folder}/exit.{supervisor}"


def read_exit(folder: Path, claim: Identity | None) -> Exit | None:
    """Read the end of the attempt that a supervisor claimed; None when that is not recorded."""
    found = ours.read_json(exit_file(folder, claim.pid)) if claim else None
    try:
        return None if found is None else Exit(**found)
    except TypeError:
        return None


def put_back(folder: Path, supervisor: Identity, ended: Exit) -> None:
    """Write again by whom an attempt was taken and how it ended, where the job removed that. Raises :class:`OSError`."""
    ours.write_whole(exit_file(folder, supervisor.pid), json.dumps(vars(ended)))
    ours.write_whole(f"{folder}/claim.json", json.dumps(vars(supervisor)))


def read_intent(folder: Path) -> Intent | None:
    """Read what is to run; None when the engine never finished writing it, or an earlier version wrote it.

    In both cases the engine writes it again: nothing of it was claimed yet.
    """
    found = ours.read_json(f"{folder}/intent.json")
    try:
        return Intent(
            job=found["job"],
            attempt=found["attempt"],
            name=found["name"],
            ranks=[(node, ranks) for node, ranks in found["ranks"]],
            paths=Paths(**found["paths"]),
            command=Command(**found["command"]),
            limits=Limits(**found["limits"]),
            staging=Staging(**found["staging"]),
            results=Results(**found["results"]),
            journal=found.get("journal", ""),
            mark=found.get("mark", ""),
            lease_s=found.get("lease_s"),
        )
    except (TypeError, KeyError):
        return None


MOST_INTENT = 16 * 2**20
"""Bytes of what a supervisor is told: far beyond what any program can be started with."""


class IntentTooLong(ValueError):
    """An attempt that can never be started; the message says why."""


def intent_text(intent: Intent) -> str:
    """An intent as it is written. Raises :class:`IntentTooLong`."""
    text = json.dumps(intent, default=vars)
    if len(text) > MOST_INTENT:
        raise IntentTooLong(f"what it would be started with has {len(text):,} bytes, and {MOST_INTENT:,} are the most")
    return text


def lay_out(folder: Path, intent: str, script: str) -> None:
    """Fill an attempt's folder; the intent comes last, so that all the rest is there when it is.

    Until a supervisor has claimed the attempt, this may be done again: after a power cut nothing of it need be there. The
    folder itself was made before the start was recorded. Raises :class:`FileNotFoundError` or :class:`NotADirectoryError` when
    it is gone: then nobody knows whether the attempt has run.
    """
    if os.path.exists(f"{folder}/claim.json"):
        return
    with suppress(FileExistsError):
        os.mkdir(f"{folder}/{OWN}", 0o700)
    ours.write(f"{folder}/script", script, 0o700)
    hosts = "".join(f"{node}\n" * ranks for node, ranks in json.loads(intent)["ranks"])
    ours.write(f"{folder}/nodes", hosts, 0o644)
    ours.write_whole(f"{folder}/intent.json", intent, durable=False)
