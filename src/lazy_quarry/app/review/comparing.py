"""The differences between runs, in Review: between those that are marked, or from the run before."""

from lazy_quarry.app.review.difference_rows import DifferenceRows
from lazy_quarry.app.review.run_rows import RunRows
from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.advice.scaling import Scaling
from lazy_quarry.site.run_comparison import Difference, differences, scaling_of
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView

MOST_COMPARED = 6
"""Runs whose differences are told."""


class Comparing(Feature):
    """Compares runs, and tells how they scale where they had different numbers of cores."""

    NAME = "comparing"

    def __init__(self, place: Place) -> None:
        super().__init__(place)
        self.scaled: Scaling | None = None
        """Scaling of the runs that were compared last; None where their numbers of cores were the same."""

    def compare(self, view: JobView) -> None:
        """Compare the marked runs, else this one with the one of its name before it."""
        self._compare(self._compared(view))

    def _compared(self, view: JobView) -> list[int]:
        """The marked runs; else this one and the one of its name before it."""
        rows = self.one(RunRows)
        if len(rows.marked) > 1:
            return list(rows.marked)[:MOST_COMPARED]
        earlier = (one.job for one in rows.runs if one.name == view.name and one.submitted_ms < view.submitted_ms)
        before = next(earlier, None)
        return [before, view.job] if before is not None else [view.job]

    @apart("differences")
    def _compare(self, jobs: list[int]) -> None:
        if len(jobs) < 2:
            told = f"no earlier run of this name; {key_of('mark')} marks others"
            self.quarry.hand_over(self._show_no_differences, told)
            return
        details = [self.client.detail(job) for job in jobs]
        self.quarry.hand_over(self._show_differences, details, differences(details, self.now_ms))

    def _show_no_differences(self, told: str) -> None:
        self.one(DifferenceRows).show([], [], told)

    def _show_differences(self, details: list[JobDetail], found: list[Difference]) -> None:
        marked = len(self.one(RunRows).marked) > 1
        told = "between the marked runs" if marked else f"from the run before; {key_of('mark')} marks others"
        self.scaled = scaling_of(details)
        if self.scaled is not None:
            told = f"{told}. {self.scaled.advice}"
        if not found:
            told = f"nothing that is kept, {told}"
        self.one(DifferenceRows).show([detail.view.label for detail in details], found, told)
