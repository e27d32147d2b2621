"""The named parts, ranks and spread tasks that a job told of while it ran."""

from itertools import pairwise
from typing import Literal

from msgspec import Struct

MOST_PARTS = 200
"""Parts of one attempt that are kept in its record; those that ran longest, where there are more."""
MOST_CELLS = 400
"""Cells of the field of a spread that are kept; each stands for several tasks where there are more."""
STUCK = 3
"""A job that comes back is held when so many attempts in a row got no further."""


class Part(Struct, frozen=True, kw_only=True):
    """A named part: when it began, how long it took, what it used. ``above`` is the place of the part around it, or -1.

    Without ``over`` it was under way when this was read, or when the attempt ended.
    """

    name: str
    kind: Literal["phase", "rank"] = "phase"
    began_ms: int = 0
    took_ms: int = 0
    cpu_ms: int = 0
    memory_peak_mib: int = 0
    read_bytes: int = 0
    written_bytes: int = 0
    exit: int | None = None
    signal: str | None = None
    above: int = -1
    over: bool = True


class Spread(Struct, frozen=True, kw_only=True):
    """The tasks that a job spread over its cores, by how they stand; ``waiting`` follows from the rest.

    ``field`` has a sign for each task in its order (``.`` waits, ``r`` runs, ``d`` done, ``f`` failed, ``s`` stopped); of
    more than ``MOST_CELLS`` tasks each sign stands for several, and is the one that matters most.
    """

    tasks: int
    done: int = 0
    failed: int = 0
    stopped: int = 0
    running: int = 0
    field: str = ""

    @property
    def waiting(self) -> int:
        """Number of tasks that have not begun."""
        return self.tasks - self.done - self.failed - self.stopped - self.running


class Inside(Struct, frozen=True):
    """All of it, of one attempt."""

    parts: tuple[Part, ...] = ()
    spread: Spread | None = None

    @property
    def reached(self) -> str:
        """Its progress: the part that it was in last, and the number of tasks done. Empty where it told nothing."""
        phases = [part.name for part in self.parts if part.kind == "phase"]
        if not phases and self.spread is None:
            return ""
        return f"{phases[-1] if phases else ''}, {self.spread.done if self.spread else 0}"

    @property
    def now(self) -> str:
        """The part that is under way, the innermost one; empty for none."""
        return next((part.name for part in reversed(self.parts) if part.kind == "phase" and not part.over), "")


def thinned(field: str, most: int = MOST_CELLS) -> str:
    """A field in no more cells: of those that share one, what matters most: failed, running, stopped, waiting, done."""
    if len(field) <= most:
        return field
    edges = [at * len(field) // most for at in range(most + 1)]
    shares = (field[begin:end] for begin, end in pairwise(edges))
    return "".join(next(sign for sign in "frs.d" if sign in share) for share in shares)
