"""The keys with which a person moves the time that Watch shows."""

from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.axis import AxisLine
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.figure_catalogue import Offer, lane_figures, node_lane_figures
from lazy_quarry.app.watch.job_context import JobContext
from lazy_quarry.app.watch.job_rows import JobRows


class WatchTime(Feature):
    """Moves the time in sight, draws its lanes as figures, and opens the tasks of a row."""

    NAME = "time"
    BOUND = (
        bound_of(NAME, "tasks", "tasks", "the tasks of an array with their commands and files, also those to come"),
        bound_of(NAME, "shorter", "zoom(-1)", "less time in sight, so that more is seen of it"),
        bound_of(NAME, "longer", "zoom(1)", "more time in sight"),
        bound_of(NAME, "left", "pan(-1)", "earlier times"),
        bound_of(NAME, "right", "pan(1)", "later times"),
        bound_of(NAME, "now", "now", "back to now"),
    )

    def tasks(self) -> None:
        """The tasks of the array under the cursor, also those that have not started."""
        row = self.one(JobRows).row()
        view = row.view if row is not None else None
        if view is None or not (view.rows or view.parent):
            self.say("That is for an array: it shows its tasks with their commands and files.")
        else:
            self._expand(view.parent or view.job)

    @apart("expand")
    def _expand(self, number: int) -> None:
        self.quarry.hand_over(self.quarry.show_expansion, self.client.expand_job(number))

    def zoom(self, steps: int) -> None:
        """More or less time in sight."""
        self.one(JobRows).axis.zoom(steps)
        self._redraw()

    def pan(self, steps: int) -> None:
        """Earlier or later."""
        self.one(JobRows).axis.pan(steps)
        self._redraw()

    def now(self) -> None:
        """Back to now."""
        axis = self.one(JobRows).axis
        if not axis.shift_ms:
            self.say("Now is in sight already.")
        axis.show_now()
        self._redraw()

    def figures(self) -> list[Offer]:
        """The rows as lanes."""
        rows = self.one(JobRows)
        first, zone = rows.scroll_offset.y, self.quarry.zone
        inside = rows.arranged.rows[first : first + rows.size.height]
        if rows.by_node:
            names = [row.node.name for row in rows.arranged.rows if row.node is not None]
            seen = [row.node.name for row in inside if row.node is not None]
            at = names.index(seen[0]) if seen else 0
            return node_lane_figures(self.board, rows.axis, names, slice(at, at + len(seen)), zone)
        shown = sum(len(rows.views_of(row)) for row in inside)
        before = sum(len(rows.views_of(row)) for row in rows.arranged.rows[:first])
        return lane_figures(self.board, rows.axis, rows.jobs, slice(before, before + shown), zone)

    def _redraw(self) -> None:
        for kind in (AxisLine, JobRows, JobContext):
            self.one(kind).refresh()
