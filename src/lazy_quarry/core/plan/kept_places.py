"""Places of an earlier plan, for a new one in which the first jobs stand as they did before."""

from collections.abc import Iterable, Mapping

from lazy_quarry.core.plan.placement import Placement


class Earlier:
    """Places of an earlier plan. They hold as long as the same jobs are tried in the same order, and no further.

    ``tried`` are the jobs in the order in which that plan tried them, those left out that don't wait any more.
    """

    def __init__(self, tried: Iterable[int] = (), placed: Mapping[int, Placement] | None = None) -> None:
        self._tried, self._placed = iter(tried), placed or {}

    def place_of(self, job: int) -> Placement | None:
        """The place that the next job had; None when it had none, or another job stood there."""
        # From the first job that stands elsewhere on, all places may differ: each rests on those in front of it.
        if next(self._tried, None) != job:
            self._tried, self._placed = iter(()), {}
        return self._placed.get(job)
