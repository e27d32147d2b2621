"""Review: did it work, what did it print, what did it use of what it asked for?"""

from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Horizontal, Vertical

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.looked_at import LookedAt
from lazy_quarry.app.messages import CursorMoved
from lazy_quarry.app.places.review_output import ReviewOutput
from lazy_quarry.app.widgets.drawing import Rows
from lazy_quarry.app.widgets.output_rows import OutputRows
from lazy_quarry.app.widgets.panes.typed_line import Typed
from lazy_quarry.app.widgets.run_verdict import VerdictLines
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import clock_time
from lazy_quarry.errors import QuarryError
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.site.board import Board
from lazy_quarry.site.job_detail import JobDetail
from lazy_quarry.site.job_view import JobView
from lazy_quarry.site.sentences import outcome_words, state_words, verdict

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

TAIL = -64 * 1024
"""So much of an output's end is shown; the whole is in its file."""


class RunRows(Rows):
    """The person's runs, newest first."""

    DEFAULT_CSS = "RunRows { width: 50; height: 1fr; border-right: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="runs")
        self.runs: list[JobView] = []
        self.now_ms = 0
        self.looked_at: LookedAt | None = None

    def row_count(self) -> int:
        """One for each run."""
        return len(self.runs)

    def show(self, runs: list[JobView], now_ms: int) -> None:
        """Show these runs."""
        self.runs, self.now_ms = runs, now_ms
        self.refit()

    def current(self) -> JobView | None:
        """The run under the cursor."""
        return self.runs[self.cursor] if self.cursor < len(self.runs) else None

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Sign, number, name, outcome, and when."""
        view = self.runs[row]
        colour = self.palette.of_phase(view.phase)
        new = self.looked_at is not None and self.looked_at.is_new(view)
        pen.write("▪" if new else " ", "ochre").cell(view.label, 6, "ink" if new else "dim", right=True)
        pen.write(f" {view.phase.sign} ", colour)
        at = view.ended_ms or view.started_ms or view.submitted_ms
        when = clock_time(at, self.now_ms, self.quarry.zone)
        outcome = outcome_words(view)
        pen.cell(view.name, 15, "ink", bold=current).write(" ")
        pen.cell(outcome, max(4, self.room - pen.at - len(when) - 2), colour).write(f" {when}", "dim")


class ReviewPlace(ReviewOutput):
    """Runs on the left, the verdict in the middle, the output on the right."""

    DEFAULT_CSS = """
    ReviewPlace { padding-top: 1; }
    ReviewPlace #middle { width: 54; height: 1fr; border-right: solid $faint; }
    ReviewPlace.-narrow #right { width: 1fr; layout: vertical; }
    ReviewPlace #right { width: 1fr; }
    ReviewPlace #output-find { display: none; }
    ReviewPlace.-narrow RunRows { width: 46; }
    ReviewPlace.-narrow #middle { width: 1fr; height: 15; border-right: none; }
    """
    WHY_NOT = {"e": "on a run that writes its errors to a file of their own", "g": "where there are runs"}
    BINDINGS = [
        Binding("tab", "side", "other side", priority=True),
        Binding("left", "sideways(-10)", "left"),
        Binding("right", "sideways(10)", "right"),
        Binding("enter", "end", "to the end"),
        Binding("g", "script", "its script in Draft"),
    ]
    wanted: int | None = None
    looked_at: LookedAt
    _seen = (-1, "")

    def compose(self):  # type: ignore[no-untyped-def]
        """Three parts."""
        yield Typed(placeholder="a pattern (regular expression) to find in the output", id="output-find")
        with Horizontal():
            yield RunRows()
            with Horizontal(id="right"):
                with Vertical(id="middle"):
                    yield VerdictLines()
                yield OutputRows()

    def on_mount(self) -> None:
        """Know what was looked at before."""
        shelf = self.quarry.shelf.file
        self.looked_at = LookedAt(shelf.with_name(shelf.name.replace("draft-", "looked-at-", 1)))
        self.query_one(RunRows).looked_at = self.looked_at

    def show(self, board: Board) -> None:
        """Read the runs again when something has changed."""
        super().show(board)
        self.looked_at.begin(board.now_ms, board.clock.kind == "rehearsal")
        self._read()

    def arrive(self) -> None:
        """Keys go to the runs."""
        self.query_one(RunRows).focus()

    def open_job(self, job: int) -> None:
        """Put the cursor on a job as soon as it is there."""
        self.wanted = job
        self._read()

    @work(thread=True, exclusive=True, group="runs")
    def _read(self) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            live = [view for view in client.jobs(everyone=False) if view.started_ms is not None]
            ended = client.jobs(ended=True, everyone=False, limit=300)
            runs = [*reversed(live), *ended]
            if self.wanted is not None and all(view.job != self.wanted for view in runs):
                runs.insert(0, client.job(self.wanted))
        except QuarryError:
            return
        self.quarry.hand_over(self._show_runs, runs)

    def _show_runs(self, runs: list[JobView]) -> None:
        rows = self.query_one(RunRows)
        under = rows.current()
        target = self.wanted if self.wanted is not None else (under.job if under else None)
        rows.show(runs, self.board.now_ms if self.board else 0)
        if target is not None:
            place = next((number for number, view in enumerate(runs) if view.job == target), None)
            if place is not None:
                rows.move(place)
                self.wanted = None
        rows.refresh()
        self._load()

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another run is looked at; a move in its output changes nothing of that."""
        view = self.query_one(RunRows).current()
        if self.detail is None or view is None or view.job != self.detail.view.job:
            self._load()

    def _load(self) -> None:
        client, view = self.quarry.client, self.query_one(RunRows).current()
        if client is not None and view is not None:
            rows = self.query_one(OutputRows)
            shown = self.detail is not None and self.detail.view.job == view.job and rows.window.path
            self._fetch(client, view.job, not shown or rows.following)

    @work(thread=True, exclusive=True, group="detail")
    def _fetch(self, client: "SiteClient", job: int, output: bool) -> None:
        try:
            detail = client.detail(job)
            chunk = client.output(job, self.which, TAIL) if output else None
        except QuarryError:
            return
        self.quarry.hand_over(self._show_detail, detail, chunk)

    def _show_detail(self, detail: JobDetail, chunk: OutputChunk | None) -> None:
        rows = self.query_one(OutputRows)
        if (
            self.detail is not None
            and self.detail.view.job == detail.view.job
            and rows.window.path
            and not rows.following
        ):
            chunk = None  # meanwhile somebody looks elsewhere
        self.detail = detail
        current = self.query_one(RunRows).current()
        if current is None or current.job != detail.view.job:
            return
        if self.display and self.looked_at.look(detail.view):
            self.query_one(RunRows).refresh()
        lines = self.query_one(VerdictLines)
        lines.now_ms = self.board.now_ms if self.board else 0
        lines.show(detail)
        if chunk is not None:
            joined = detail.view.output == detail.view.errors
            heading = "output and errors" if joined else self.which
            rows.show(max(0, chunk.size + TAIL), chunk, heading)

    def note(self) -> str:
        """The verdict, and what could be done about it."""
        view = self.query_one(RunRows).current()
        if view is None:
            return (
                "Nothing of yours has run yet. What has ended stays here, with its verdict, its output and its figures."
            )
        if view.phase is Phase.RUNNING:
            return f"{view.job} {view.name} runs still: {state_words(view, self.board.now_ms if self.board else 0)}."
        advice = ""
        if view.rows:
            advice = " Each task prints into a file of its own; Watch opens them with a."
        elif view.phase is Phase.OVERMEMORY:
            advice = " Ask for more memory in the header, or fewer ranks on each node."
        elif view.phase is Phase.FAILED:
            advice = " The last lines of its output are on the right; g opens its script in Draft."
        elif self.detail is not None and self.detail.silent:
            advice = " f goes to the first line that tells of it."
        elif view.phase is Phase.DONE and view.memory_mib > 4 * max(1, view.memory_peak_mib):
            advice = " It used less than a quarter of its memory; asking for less starts sooner."
        told = self.detail.verdict if self.detail is not None and self.detail.view.job == view.job else verdict(view)
        return f"{view.job} {view.name}: {told}{advice}"

    def keys(self) -> list[KeyHint]:
        """What can be done here."""
        keys: list[KeyHint] = [("↑↓", "run", ""), ("tab", "output", "app.place_action('side')")]
        if self.detail and self.detail.view.output != self.detail.view.errors:
            keys.append(("e", "output or errors", "app.place_action('which')"))
        if self.detail:
            keys.append(("/", "find", "app.place_action('find')"))
            keys.append(("f", "first error", "app.place_action('first_error')"))
            keys.append(("g", "its script in Draft", "app.place_action('script')"))
        keys.append(("4", "watch", "app.go('watch')"))
        return keys

    def action_side(self) -> None:
        """Keys to the runs, or to the output."""
        rows, output = self.query_one(RunRows), self.query_one(OutputRows)
        (rows if output.has_focus else output).focus()

    def action_sideways(self, columns: int) -> None:
        """Long lines."""
        self.query_one(OutputRows).shift(columns)

    def action_end(self) -> None:
        """To the output's end."""
        output = self.query_one(OutputRows)
        output.focus()
        output.move(output.row_count() - 1)

    def action_script(self) -> None:
        """The script as it was submitted, in Draft."""
        if self.detail:
            self.quarry.draft_script(self.detail.script, f"{self.detail.view.name}.sh")

    def all_keys(self) -> list[KeyHint]:
        """Every key of the place."""
        return [
            ("↑↓", "choose a run", ""),
            ("tab", "the output, the runs", ""),
            ("e", "output or errors, where they are apart", ""),
            ("/ n", "find a pattern in the output, the next place", ""),
            ("f n", "the first line that tells of an error, the next", ""),
            ("home end", "the beginning, the end, however long it is", ""),
            ("← →", "long lines further left, right", ""),
            ("l", "long lines wrapped, or not", ""),
            ("p v", "in $PAGER, in $EDITOR", ""),
            ("y", "copy the path of the output", ""),
            ("g", "its script in Draft", ""),
            ("enter", "to the end of the output", ""),
        ]
