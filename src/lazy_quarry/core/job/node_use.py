"""Use and end of an attempt on each of its nodes."""

from collections.abc import Sequence

from msgspec import Struct

from lazy_quarry.core.job.phase import Use


class NodeUse(Struct, frozen=True):
    """The part of an attempt on one of its nodes: what it used there, and how it ended."""

    node: str
    use: Use
    exit: int | None = None
    signal: str | None = None


def sum_of(uses: Sequence[Use]) -> Use:
    """The use of parts that ran at one time: sums, of the peaks too, which may not have come at one instant."""
    return Use(
        sum(one.cpu_ms for one in uses),
        sum(one.memory_peak_mib for one in uses),
        sum(one.read_bytes for one in uses),
        sum(one.written_bytes for one in uses),
        sum(one.scratch_mib for one in uses),
    )
