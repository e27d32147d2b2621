"""The keys with which a person moves the time that Watch shows."""

from textual import work

from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.axis import AxisLine
from lazy_quarry.app.shared.figure_catalogue import Offer, lane_figures, node_lane_figures
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.watch.job_context import JobContext
from lazy_quarry.app.watch.job_rows import JobRows
from lazy_quarry.errors import QuarryError


class OverTime(Place):
    """A place with rows over a time axis, and a pane below that follows it."""

    BINDINGS = [
        bound("tasks", "tasks", "the tasks of an array with their commands and files, also those to come"),
        bound("shorter", "zoom(-1)", "less time in sight, so that more is seen of it"),
        bound("longer", "zoom(1)", "more time in sight"),
        bound("left", "pan(-1)", "earlier times"),
        bound("right", "pan(1)", "later times"),
        bound("now", "now", "back to now"),
    ]

    def action_tasks(self) -> None:
        """The tasks of the array under the cursor, also those that have not started."""
        row = self.query_one(JobRows).row()
        view = row.view if row is not None else None
        if view is None or not (view.rows or view.parent):
            self.post_message(Say("That is for an array: it shows its tasks with their commands and files."))
        else:
            self._expand(view.parent or view.job)

    @work(thread=True, exclusive=True, group="expand")
    def _expand(self, number: int) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            found = client.expand_job(number)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.quarry.hand_over(self.quarry.show_expansion, found)

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
        axis = self.query_one(JobRows).axis
        if not axis.shift_ms:
            self._say("Now is in sight already.")
        axis.show_now()
        self._redraw()

    def figures(self) -> list[Offer]:
        """The rows as lanes."""
        rows = self.query_one(JobRows)
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
            self.query_one(kind).refresh()
