"""The states of a job, and what it used: every view of a job has both."""

from enum import StrEnum

from msgspec import Struct


class Phase(StrEnum):
    """The states of a job. Each has a word and a sign, so that colour is never the only difference."""

    WAITING = "waiting"
    BLOCKED = "blocked"
    HELD = "held"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    OVERTIME = "overtime"
    OVERMEMORY = "overmemory"
    CANCELLED = "cancelled"
    LOST = "lost"
    SKIPPED = "skipped"

    @property
    def sign(self) -> str:
        """The sign of the state: a shape of one cell."""
        return SIGNS[self]

    @property
    def final(self) -> bool:
        """True when the job has ended: its state never changes again."""
        return self not in (Phase.WAITING, Phase.BLOCKED, Phase.HELD, Phase.RUNNING)


SIGNS = dict(zip(Phase, "▱◇◫▰◆✕◔▲⊘◌▿", strict=True))


FAILING = (Phase.FAILED, Phase.OVERTIME, Phase.OVERMEMORY, Phase.LOST)
"""States that mean: it did not do its work. Cancelled is not one of them, because somebody wanted that."""


def left_undone(phase: Phase, planned: bool) -> bool:
    """True for an end that leaves wanted work undone: a failure, or a skip that was not ``planned``.

    A skip is planned where all that kept the job from starting hung on jobs that are done, or were skipped so themselves:
    a clean-up job that waits for a failure, after a success.
    """
    return phase in FAILING or (phase is Phase.SKIPPED and not planned)


class Use(Struct, frozen=True):
    """The use of an attempt, as measured or modelled. ``memory_peak_mib`` is the greatest sum at one time."""

    cpu_ms: int = 0
    memory_peak_mib: int = 0
    read_bytes: int = 0
    written_bytes: int = 0
    scratch_mib: int = 0
    """MiB in its scratch folder at its end; while it runs, where it asked for some."""
