"""The lower part of Watch: which pane is shown, and what is in it."""

import json
from contextlib import suppress

from textual.containers import Vertical
from textual.widget import Widget

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.column_list import ColumnList
from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.app.watch.job_context import JobContext
from lazy_quarry.app.watch.job_rows import JobRows
from lazy_quarry.app.watch.pane_title import PaneTitle
from lazy_quarry.app.watch.prose import Prose, why_prose
from lazy_quarry.app.watch.run_history import Learnt
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView

PANES = ("context", "why", "output", "change", "columns")

COLUMNS = "watch-columns.json"


class WatchPanes:
    """Switches between the panes of ``place``; the first of :data:`PANES` is what is shown when nothing else is."""

    def __init__(self, quarry: Quarry, place: Widget) -> None:
        self.quarry, self.place = quarry, place
        self.shown = PANES[0]
        self.detail: JobDetail | None = None
        """The last detail of the job under the cursor."""
        self._kept = quarry.shelf.kept

    def of(self, name: str) -> Vertical:
        """A pane other than the first."""
        return self.place.query_one(f"#pane-{name}", Vertical)

    def toggle(self, name: str) -> None:
        """Show a pane, or the first one again."""
        self.shown = PANES[0] if self.shown == name else name
        self.place.query_one(JobContext).display = self.shown == PANES[0]
        for other in PANES[1:]:
            self.of(other).display = other == self.shown
        rows = self.place.query_one(JobRows)
        if self.shown == "columns":
            self.of("columns").query_one(PaneTitle).say(
                "COLUMNS", "enter takes one in or out, ← → its width; escape closes it"
            )
            listed = self.place.query_one(ColumnList)
            listed.show(dict(rows.widths) or {column.name: width for column, width in rows.columns})
            listed.focus()
        elif self.shown != "change":
            rows.focus()

    def show(self, view: JobView | None, found: Learnt) -> None:
        """Show what was learnt of a job; ``view`` is what the cursor is on by now."""
        self.place.query_one(JobContext).show_samples(found.job, found.samples or [])
        self.detail = found.detail or (self.detail if self.detail and self.detail.view.job == found.job else None)
        if view is None or view.job != found.job:
            return
        if self.shown == "why" and found.detail is not None:
            now_ms = self.quarry.board.now_ms if self.quarry.board is not None else 0
            self.of("why").query_one(PaneTitle).say(
                f"WHY {view.label} {view.name.upper()}", f"{key_of('why')} or escape closes it"
            )
            self.place.query_one("#why-lines", Prose).put(
                list(why_prose(found.detail, self.place.size.width, now_ms, self.quarry.zone))
            )
        elif self.shown == "output":
            self._show_output(view, found.printed)

    def _show_output(self, view: JobView, printed: OutputChunk | None) -> None:
        self.of("output").query_one(PaneTitle).say(f"OUTPUT OF {view.label} {view.name.upper()}", view.output)
        lines = [(f"each task writes its own file; {key_of('fold')} opens the array", "dim")]
        if printed is not None:
            text = printed.text.replace("\t", "    ").splitlines()
            lines = [(line, "ink") for line in text] or [(printed.problem or "it has not printed anything yet", "dim")]
        self.place.query_one("#output-lines", Prose).follow(view.job, lines)

    # -- columns -----------------------------------------------------------------------------------

    def take_columns(self) -> None:
        """Take the columns that were chosen last time, if any were."""
        with suppress(ValueError, AttributeError):
            widths = json.loads(self._kept.text(COLUMNS) or "")
            self.place.query_one(JobRows).show_columns({str(name): int(width) for name, width in widths.items()})

    def keep_columns(self, widths: dict[str, int]) -> None:
        """Use these columns, also next time."""
        self.place.query_one(JobRows).show_columns(widths)
        self._kept.put(COLUMNS, json.dumps(widths))
