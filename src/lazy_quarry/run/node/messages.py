"""The messages between an engine and the agent of a node: JSON (RFC 8259), one a line, each of a type below.

A connection begins with the engine's :class:`Hello`, which is answered by :class:`Welcome` or :class:`Refused`. What an engine
sends says of which epoch it is. All but the greeting may be lost, repeated, late and in any order, to this agent or to the next:
``tests/run/node_model.py`` explores that.
"""

from __future__ import annotations

import json
import math
import re
from dataclasses import dataclass, fields
from typing import Any, Union

from lazy_quarry.run.node.attempt import Exit
from lazy_quarry.run.node.versions import NEWEST, OLDEST

NAME = re.compile(r"\d+-\d+(-[0-9a-f]{1,32})?(\.[1-9]\d{0,5})?")
"""The name of a part of an attempt: job, attempt, mark of the submission, and of all parts but the first the index of the node.

Nothing else that somebody sends becomes a path.
"""


@dataclass(frozen=True)
class Hello:
    """Engine to agent, first: the versions that it speaks, and which site's engine it is.

    ``epoch`` is the number of this start of an engine in the journal. An agent remembers the highest that it has seen.
    """

    oldest: int
    newest: int
    journal: str
    site: str
    epoch: int


@dataclass(frozen=True)
class Welcome:
    """Agent to engine: the version that both speak, and that it takes nothing of a lower epoch than this from now on."""

    version: int
    epoch: int


@dataclass(frozen=True)
class Refused:
    """Agent to engine: it takes nothing from it, for the versions or the epoch differ."""

    oldest: int
    newest: int
    epoch: int
    """The highest that it has seen of this journal."""


@dataclass(frozen=True)
class Ensure:
    """Engine to agent: start this attempt, unless it was started before."""

    epoch: int
    name: str


@dataclass(frozen=True)
class Stop:
    """Engine to agent: an attempt should end, and why. The file that says so has been written, where it could be."""

    epoch: int
    name: str
    cause: str


@dataclass(frozen=True)
class Settle:
    """Engine to agent: the end of an attempt is in the journal, so a start of it that comes late begins nothing."""

    epoch: int
    name: str


@dataclass(frozen=True)
class Ask:
    """Agent to engine, for a supervisor: go on with an attempt, from this instant (seconds since the node's boot) on?"""

    name: str
    at: float


@dataclass(frozen=True)
class Renew:
    """Engine to agent, the answer to :class:`Ask`: it may go on for its lease from the instant at which that was asked."""

    epoch: int
    name: str
    at: float


@dataclass(frozen=True)
class Over:
    """Agent to engine: nothing of an attempt is left. ``lost`` where its supervisor did not record the end."""

    name: str
    exit: Exit
    lost: bool = False


@dataclass(frozen=True)
class Waits:
    """Agent to engine: an attempt could not be started yet, and why."""

    name: str
    reason: str


@dataclass(frozen=True)
class Notes:
    """Agent to engine: something that the owner of an attempt should know."""

    name: str
    reason: str


@dataclass(frozen=True)
class Has:
    """Agent to engine, once greeted: an attempt is alive here, whatever the engine knows of it. From version 2 on."""

    name: str


@dataclass(frozen=True)
class Beat:
    """Engine to agent, now and then: is somebody there? ``sent`` comes back with the answer. From version 2 on."""

    epoch: int
    sent: float


@dataclass(frozen=True)
class Beats:
    """Agent to engine, the answer to :class:`Beat`: the time there, in ms since 1970, the machine's boot, and its seconds of work.

    ``busy_s`` are those of all its processors since it was started (/proc/stat, proc(5)), whoever's work that was.
    """

    sent: float
    clock_ms: int
    boot: str
    busy_s: float


FromEngine = Union[Hello, Ensure, Stop, Settle, Renew, Beat]
FromAgent = Union[Welcome, Refused, Ask, Over, Waits, Notes, Has, Beats]
Message = Union[FromEngine, FromAgent]
_KINDS: dict[str, Any] = {
    kind.__name__.lower(): kind
    for kind in (Hello, Welcome, Refused, Ensure, Stop, Settle, Ask, Renew, Over, Waits, Notes, Has, Beat, Beats)
}


def version_with(hello: Hello) -> int | None:
    """The newest version that both speak; None when there is none."""
    version = min(NEWEST, hello.newest)
    return version if version >= max(OLDEST, hello.oldest) else None


def of_before(line: bytes) -> bytes:
    """The answer to an engine from before there was a greeting, which would else wait without a word; empty for anything else."""
    try:
        name = json.loads(line)["ensure"]
    except (ValueError, TypeError, KeyError, RecursionError):
        return b""
    if not isinstance(name, str) or not NAME.fullmatch(name):
        return b""
    reason = "the program was renewed while its engine ran, and the two don't understand each other; stop the engine"
    return json.dumps({"waits": name, "reason": reason}).encode() + b"\n"


def line_of(message: Message) -> bytes:
    """A message as its line."""
    return json.dumps({"is": type(message).__name__.lower(), **vars(message)}, default=vars).encode() + b"\n"


def message_of(line: bytes) -> Message | None:
    """The message of a line; None for anything else that somebody may send, as a newer program's that this one need not know."""
    try:
        found = json.loads(line)
        kind = _KINDS[found.pop("is")]
        known = {one.name: found[one.name] for one in fields(kind) if one.name in found}
        if "exit" in known:
            known["exit"] = Exit(**known["exit"])
        message: Message = kind(**known)
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return None
    if not all(_fits(one.type, getattr(message, one.name)) for one in fields(kind)):
        return None
    return message if NAME.fullmatch(getattr(message, "name", "0-0")) else None


def _fits(kind: Any, value: object) -> bool:
    """True when a field has a value of its type, given by its name."""
    if kind == "float":
        return isinstance(value, (int, float)) and not isinstance(value, bool) and math.isfinite(value)
    return bool(type(value).__name__ == kind)
