"""What a job waits for, as a kind and in words."""

from dataclasses import dataclass
from typing import Literal

WaitKind = Literal[
    "nothing", "nodes", "limit", "budget", "dependency", "hold", "not-before", "window", "turn", "at-once"
]
"""What a job waits for."""


@dataclass(frozen=True, slots=True)
class Unplaced:
    """Why a job has no place at any time."""

    kind: WaitKind
    words: str
