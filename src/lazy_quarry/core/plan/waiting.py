"""Reasons to wait, as a kind and in words."""

from dataclasses import dataclass
from typing import Literal

WaitKind = Literal[
    "nothing", "nodes", "limit", "budget", "dependency", "hold", "not-before", "window", "turn", "at-once", "cores"
]
"""Kinds of reasons to wait."""


@dataclass(frozen=True, slots=True)
class Unplaced:
    """Why a job has no place at any time."""

    kind: WaitKind
    words: str

    @property
    def short(self) -> str:
        """The same in a few words, for a row."""
        return _SHORT.get(self.kind, "")


_SHORT: dict[WaitKind, str] = {
    "nodes": "no open node for it",
    "budget": "beyond its budget",
    "cores": "cores in use elsewhere",
    "limit": "over a limit",
}
