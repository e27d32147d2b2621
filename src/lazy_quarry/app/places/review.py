"""Review: did it work, what did it print, what did it use of what it asked for?"""

from contextlib import suppress
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Horizontal, Vertical

from lazy_quarry.app.figures_of import Offer, run_figures, scaling_offer
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.looked_at import LookedAt
from lazy_quarry.app.messages import CursorMoved
from lazy_quarry.app.places.review_search import ReviewSearch
from lazy_quarry.app.places.review_sheets import WIDGETS
from lazy_quarry.app.widgets.output_rows import OutputRows
from lazy_quarry.app.widgets.panes.column_list import ColumnList
from lazy_quarry.app.widgets.panes.typed_line import Typed
from lazy_quarry.app.widgets.result_rows import ResultRows
from lazy_quarry.app.widgets.run_rows import RunHead, RunRows
from lazy_quarry.app.widgets.run_verdict import VerdictLines
from lazy_quarry.app.widgets.sheet_line import SheetLine
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import QuarryError
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.site.advice_view import Advised
from lazy_quarry.site.board import Board
from lazy_quarry.site.job_detail import JobDetail
from lazy_quarry.site.job_view import JobView
from lazy_quarry.site.sentences import state_words, verdict

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

PATTERN = "a pattern whose value is looked for: residual, or t = (\\d+)"
MOST_DOUBTED = 50
"""Of so many runs at a time the output is looked through before anybody comes to them."""
TAIL = -64 * 1024
"""So much of an output's end is shown; the whole is in its file."""


class ReviewPlace(ReviewSearch):
    """Runs on the left, the verdict in the middle, the output on the right."""

    DEFAULT_CSS = """
    ReviewPlace { padding-top: 1; }
    ReviewPlace #list { width: 50; height: 1fr; border-right: solid $faint; }
    ReviewPlace #middle { width: 54; height: 1fr; border-right: solid $faint; }
    ReviewPlace #right { width: 1fr; }
    ReviewPlace #sheet { width: 1fr; height: 1fr; }
    ReviewPlace .asking { display: none; }
    ReviewPlace ColumnList { display: none; width: 48; }
    ReviewPlace.-narrow #right { layout: vertical; }
    ReviewPlace.-narrow #list { width: 46; }
    ReviewPlace.-narrow #middle { width: 1fr; height: 15; border-right: none; }
    ReviewPlace.-narrow.-reading #middle { height: 4; }
    ReviewPlace.-wide #right { display: none; }
    ReviewPlace.-wide #list { width: 1fr; border-right: none; }
    """
    WHY_NOT = {"e": "on a run that writes its errors to a file of their own", "g": "where there are runs"}
    BINDINGS = [
        Binding("tab", "side", "other side", priority=True),
        Binding("left", "sideways(-10)", "left"),
        Binding("right", "sideways(10)", "right"),
        Binding("enter", "end", "to the end"),
        Binding("g", "script", "its script in Draft"),
        Binding("N", "next_time", "draft what is advised for next time"),
        Binding("backspace", "back", "back to the array"),
    ]
    looked_at: LookedAt
    _under: int | None = None
    """The run under the cursor of the list, when it was read last."""
    _alone: int | None = None
    """A job that is looked at though it is not the one under the cursor."""

    def compose(self):  # type: ignore[no-untyped-def]
        """Lines to type in; then three parts."""
        yield Typed(
            placeholder="a pattern (regular expression) to find in the output", id="output-find", classes="asking"
        )
        yield Typed(placeholder="a search", id="search", classes="asking")
        yield Typed(placeholder=PATTERN, id="pattern", classes="asking")
        with Horizontal():
            runs = RunRows()
            with Vertical(id="list"):
                yield RunHead(runs)
                yield runs
            yield ColumnList()
            with Horizontal(id="right"):
                with Vertical(id="middle"):
                    yield VerdictLines()
                with Vertical(id="sheet"):
                    yield SheetLine()
                    for kind in WIDGETS.values():
                        yield kind()

    def on_mount(self) -> None:
        """Know what was looked at before."""
        shelf = self.quarry.shelf.file
        self.looked_at = LookedAt(shelf.with_name(shelf.name.replace("draft-", "looked-at-", 1)))
        self.query_one(RunRows).looked_at = self.looked_at
        self._take_columns()
        self._turn()

    def on_descendant_focus(self) -> None:
        """Where there is little room, what is read gets most of it."""
        self.set_class(any(self.goes_to(self.query_one(kind)) for kind in WIDGETS.values()), "-reading")

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
        self.wanted, self._alone, self.chosen = job, None, ""
        self.words = self.sort = ""
        self._read()

    def _open(self, job: int) -> None:
        """Look at a job, which may be a task that is not in the list."""
        if self.quarry.client is not None:
            self._alone = job
            self._fetch(self.quarry.client, job, True)

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
        done = [view for view in runs if view.phase is Phase.DONE and not view.rows and self.looked_at.is_new(view)]
        if fresh := [view for view in done if view.job not in rows.doubts][:MOST_DOUBTED]:
            self._look_for_doubts(rows, fresh)
        self._load()

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another run is looked at; a move on a sheet changes nothing of that."""
        view = self.query_one(RunRows).current()
        if view is not None and view.job != self._under:
            self._alone = None
            self._load()
            self._read_on()

    @work(thread=True, exclusive=True, group="doubts")
    def _look_for_doubts(self, rows: RunRows, views: list[JobView]) -> None:
        """Runs that ended as if all were well, and nobody has looked at: is there anything that says otherwise?"""
        client = self.quarry.client
        for view in views:
            if client is None or rows.doubts.get(view.job) is not None:
                continue
            try:
                rows.doubts[view.job] = client.detail(view.job).silent
            except QuarryError:
                return
            if rows.doubts[view.job]:
                self.quarry.hand_over(rows.refresh)

    def _load(self) -> None:
        client, view = self.quarry.client, self.query_one(RunRows).current()
        self._under = view.job if view is not None else None
        job = self._alone if self._alone is not None else self._under
        if client is None or job is None:
            return
        known, rows = self.detail, self.query_one(OutputRows)
        same = known is not None and known.view.job == job
        if same and known is not None and known.view.phase.final and rows.window.path:
            return  # it has ended, and is in sight already
        self._fetch(client, job, not (same and rows.window.path) or rows.following)

    @work(thread=True, exclusive=True, group="detail")
    def _fetch(self, client: "SiteClient", job: int, output: bool) -> None:
        try:
            detail = client.detail(job)
            chunk = client.output(job, self.which, TAIL) if output else None
            samples = client.samples(job) if detail.view.phase is Phase.RUNNING else []
        except QuarryError:
            return
        self.quarry.hand_over(self._show_detail, detail, chunk, samples)
        if detail.view.phase.final:
            with suppress(QuarryError):  # there is nothing to learn from yet
                self.quarry.hand_over(self._show_advice, detail, client.advise(str(detail.view.parent or job)))

    def _show_advice(self, detail: JobDetail, advised: Advised) -> None:
        if self.detail is detail:
            self.query_one(VerdictLines).show(detail, [], advised)

    def action_next_time(self) -> None:
        """Draft the script with what is advised."""
        advised, detail = self.query_one(VerdictLines).advised, self.detail
        if advised is None or detail is None or not advised.settings:
            self._say("There is nothing to change of its request, as far as its runs tell.")
            return
        settings = tuple(f'{key}="{value}"' for key, value in advised.settings)
        self.quarry.draft_script(detail.script, f"{detail.view.name}.sh", "", (*detail.overrides, *settings))

    def _show_detail(self, detail: JobDetail, chunk: OutputChunk | None, samples: list[Sample]) -> None:
        rows, other = self.query_one(OutputRows), self.detail is None or self.detail.view.job != detail.view.job
        if not other and rows.window.path and not rows.following:
            chunk = None  # meanwhile somebody looks elsewhere
        current = self.query_one(RunRows).current()
        wanted = self._alone if self._alone is not None else current.job if current else None
        if wanted != detail.view.job:
            return
        self.detail = detail
        if detail.view.phase is Phase.DONE:
            self.query_one(RunRows).doubts[detail.view.job] = detail.silent
        if self.display and self.looked_at.look(detail.view):
            self.query_one(RunRows).refresh()
        lines = self.query_one(VerdictLines)
        lines.now_ms = self.board.now_ms if self.board else 0
        lines.show(detail, samples)
        if chunk is not None:
            joined = detail.view.output == detail.view.errors
            heading = "output and errors" if joined else self.which
            rows.show(max(0, chunk.size + TAIL), chunk, heading)
        if other and self.sheet == "results":
            self.query_one(ResultRows).show([], "", "")
        if other or self.sheet in ("tasks", "made") or not self.query_one(WIDGETS[self.sheet]).display:
            self._turn()
        self.quarry.tell()

    def job_in_sight(self) -> JobView | None:
        """The run that is looked at."""
        return self.detail.view if self.detail is not None else None

    def note(self) -> str:
        """The verdict, and what could be done about it."""
        view = (
            self.detail.view
            if self._alone is not None and self.detail is not None
            else self.query_one(RunRows).current()
        )
        result = self.query_one(ResultRows).current if self.sheet == "results" else None
        if result is not None and result.wrong and self.goes_to(self.query_one(ResultRows)):
            return f"{result.view.label} wrote “{result.wrong}”. Enter looks at it by itself."
        if view is None:
            return (
                "Nothing of yours has run yet. What has ended stays here, with its verdict, its output and its figures."
            )
        if view.phase is Phase.RUNNING:
            return f"{view.label} {view.name} runs still: {state_words(view, self.board.now_ms if self.board else 0)}."
        advice = ""
        if view.rows:
            advice = " Each task is a cell; enter looks at one by itself."
        elif view.phase is Phase.OVERMEMORY:
            advice = " Ask for more memory in the header, or fewer ranks on each node."
        elif view.phase is Phase.FAILED:
            advice = " The last lines of its output are on the right; g opens its script in Draft."
        elif self.detail is not None and self.detail.silent:
            advice = " f goes to the first line that tells of it."
        elif view.phase is Phase.DONE and view.memory_mib > 4 * max(1, view.memory_peak_mib):
            advice = " It used less than a quarter of its memory; asking for less starts sooner."
        told = self.detail.verdict if self.detail is not None and self.detail.view.job == view.job else verdict(view)
        return f"{view.label} {view.name}: {told}{advice}"

    def keys(self) -> list[KeyHint]:
        """What can be done here."""
        keys: list[KeyHint] = [("↑↓", "run", ""), ("tab", "the sheet", "app.place_action('side')")]
        keys.append(("s", "search", "app.place_action('search')"))
        if self.words or self.sort or self.query_one(RunRows).wide:
            keys.append(("esc", "all my runs", "app.place_action('all_runs')"))
        if self.sheet == "tasks":
            keys += [
                ("u", "measure", "app.place_action('measure')"),
                ("x", "next failed", "app.place_action('next_failed')"),
            ]
            keys.append(("enter", "this task", ""))
        if self.detail and (self.detail.view.replaced_by or self.detail.view.replaces or self.detail.again):
            keys.append(("A", "the other run of it", "app.place_action('other_run')"))
        if self._back is not None:
            keys.append(("backspace", "its array", "app.place_action('back')"))
        if self.sheet == "made":
            keys += [("p v", "read, edit", ""), ("delete", "remove", "app.place_action('remove')")]
        if self.detail and self.detail.view.output != self.detail.view.errors:
            keys.append(("e", "output or errors", "app.place_action('which')"))
        if self.detail and self.sheet == "output" and not self.query_one(RunRows).wide:
            keys.append(("/", "find", "app.place_action('find')"))
            keys.append(("f", "first error", "app.place_action('first_error')"))
        if self.detail:
            keys.append(("r", "results", "app.place_action('results')"))
            keys.append(("a d", "mark, what differs", "app.place_action('sheet(\"differences\")')"))
            keys.append(
                ("z", "narrow list" if self.query_one(RunRows).wide else "wide list", "app.place_action('widen')")
            )
            keys.append(("g", "its script in Draft", "app.place_action('script')"))
            if self.query_one(VerdictLines).advised is not None:
                keys.append(("N", "next time", "app.place_action('next_time')"))
        return keys

    def action_side(self) -> None:
        """Keys to the runs, or to the sheet in sight; from a task back to its array."""
        rows, sheet = self.query_one(RunRows), self.query_one(WIDGETS[self.sheet])
        (rows if self.goes_to(sheet) else sheet).focus()

    def action_back(self) -> None:
        """From a task to the array that it was picked from."""
        if self._back is not None:
            job, self._back, self._alone = self._back, None, None
            self.chosen = "tasks"
            self._open(job)

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

    def figures(self) -> list[Offer]:
        """What is in sight of the run: its use over time, its tasks, its results."""
        rows = self.query_one(ResultRows)
        samples = self.query_one(VerdictLines).samples
        results = (rows.results, rows.pattern) if self.sheet == "results" and rows.results else None
        offers = run_figures(self.detail, samples, results, self.board, self.quarry.zone)
        if (
            self.sheet == "differences"
            and self.scaled is not None
            and self.detail is not None
            and self.board is not None
        ):
            offers.insert(0, scaling_offer(self.scaled, self.detail.view.name, self.board, self.quarry.zone))
        return offers

    def all_keys(self) -> list[KeyHint]:
        """Every key of the place."""
        return [
            ("↑↓", "choose a run", ""),
            ("tab", "the sheet beside it, the runs", ""),
            ("o i t r d m", "output, files, tasks, results, differences, mail", ""),
            ("s", "search all that ever ran", ""),
            ("S K", "saved searches, keep this one", ""),
            ("esc", "all my runs again", ""),
            ("z c", "the list wide, its columns", ""),
            ("w W", "sort by another column, the other way", ""),
            ("a", "mark for comparing; a file for removing", ""),
            ("e", "output or errors, where they are apart", ""),
            ("/ n", "find a pattern in the output, the next place", ""),
            ("f n", "the first line that tells of an error, the next", ""),
            ("home end", "the beginning, the end, however long it is", ""),
            ("← →", "long lines further left, right", ""),
            ("l", "long lines wrapped, or not", ""),
            ("p v", "in $PAGER, in $EDITOR", ""),
            ("y", "copy the path of the output, or of a file", ""),
            ("u x", "cells by another measure, the next that failed", ""),
            ("enter", "a task by itself; to the end of the output", ""),
            ("backspace", "from a task back to its array", ""),
            ("A", "the run that did this task again, or the one before it", ""),
            ("delete", "remove files that it made, after asking", ""),
            ("g", "its script in Draft", ""),
            ("N", "draft what is advised for next time", ""),
            ("b", "pack it for whoever helps", ""),
            ("B", "tell me when this job ends", ""),
        ]
