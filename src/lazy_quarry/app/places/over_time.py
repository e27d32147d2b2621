"""The keys with which a person moves the time that Watch shows."""

from lazy_quarry.app.places.place import Place
from lazy_quarry.app.widgets.axis import AxisLine
from lazy_quarry.app.widgets.job_context import JobContext
from lazy_quarry.app.widgets.job_rows import JobRows


class OverTime(Place):
    """A place with rows over a time axis, and a pane below that follows it."""

    def action_zoom(self, steps: int) -> None:
        """More or less time in sight."""
        self.query_one(JobRows).axis.zoom(steps)
        self._redraw()

    def action_pan(self, steps: int) -> None:
        """Earlier or later."""
        self.query_one(JobRows).axis.pan(steps)
        self._redraw()

    def action_now(self) -> None:
        """Back to now."""
        self.query_one(JobRows).axis.show_now()
        self._redraw()

    def _redraw(self) -> None:
        for kind in (AxisLine, JobRows, JobContext):
            self.query_one(kind).refresh()
