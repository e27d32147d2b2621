"""Reasons to wait, as a kind and in words."""

from typing import Literal

from msgspec import Struct

WaitKind = Literal[
    "nothing", "nodes", "limit", "budget", "dependency", "hold", "not-before", "window", "turn", "at-once", "cores"
]
"""Kinds of reasons to wait."""


class Unplaced(Struct, frozen=True):
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
