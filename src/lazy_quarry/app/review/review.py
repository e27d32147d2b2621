"""Review: did it work, what did it print, what did it use of what it asked for?"""

from contextlib import suppress
from typing import TYPE_CHECKING

from textual import work
from textual.containers import Horizontal, Vertical

from lazy_quarry.app.review.difference_rows import DifferenceRows
from lazy_quarry.app.review.letter_rows import LetterRows
from lazy_quarry.app.review.made_rows import MadeRows
from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.read_marks import LookedAt
from lazy_quarry.app.review.result_rows import ResultRows
from lazy_quarry.app.review.run_rows import RunHead, RunRows
from lazy_quarry.app.review.run_verdict import VerdictLines
from lazy_quarry.app.review.search import ReviewSearch
from lazy_quarry.app.review.sheet_line import SheetLine
from lazy_quarry.app.review.sheets import WIDGETS
from lazy_quarry.app.review.task_field import TaskField
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.column_list import ColumnList
from lazy_quarry.app.shared.figure_catalogue import Offer, run_figures, scaling_offer
from lazy_quarry.app.shared.job_commands import JobCommands
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.app.shared.table_catalogue import (
    Table,
    differences_table,
    files_table,
    jobs_table,
    letters_table,
    results_table,
)
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import QuarryError
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.views.advice_view import Advised
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import state_words, verdict

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

PATTERN = "a pattern whose value is looked for: residual, or t = (\\d+)"
MOST_DOUBTED = 50
"""Number of runs at a time whose output is looked through before anybody comes to them."""
TAIL = -64 * 1024
"""Bytes of an output's end that are shown; the whole is in its file."""


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
    WHY_NOT = {
        "script": "where there are runs",
        "again": "on a run of yours that has ended",
        "again_failed": "on an array of yours some task of which failed",
        "cancel": "on a run of yours that has not ended",
        "other_run": "on a task that ran again, or runs one again",
        "out": "on a task that was opened from its array",
        "remove": f"on the files that a run made, which {key_of('files')} shows",
        "by_what": f"on the tasks of an array, which {key_of('tasks')} shows",
        "next_time": "on a run of which something was learnt",
    }
    BINDINGS = [
        bound("side", "side", "keys to the sheet beside the verdict, or to the runs", priority=True),
        bound("left", "sideways(-10)", "the beginnings of long lines"),
        bound("right", "sideways(10)", "the ends of long lines"),
        bound("open", "end", "a task or a run of a table by itself; else to the end of the output"),
        bound(
            "next_time",
            "next_time",
            "draft it with what is advised; of an array with failures run these again so",
        ),
        bound("out", "back", "from a task back to its array"),
        bound("cancel", "cancel", "cancel it while it runs, after saying what would be lost"),
        bound("again", "again", "run it again, after saying what that costs"),
        bound("again_failed", "again_failed", "run again what failed of an array, with what was learnt from it"),
        bound("script", "script", "its script in Draft, as it was submitted"),
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
        self.commands = JobCommands(self.quarry, self, done=self._commanded)
        shelf = self.quarry.shelf
        self.looked_at = LookedAt(shelf.kept, shelf.name)
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
        self.query_one(RunRows).focus()
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
        if not runs and self._alone is None:  # nothing was found: what was shown is of another search
            self.detail = None
            self.query_one(VerdictLines).clear()
            self._turn()
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
        """Draft the script with what is advised; of an array with failures offer to run these again with it."""
        if self.detail is not None and self.detail.view.failed_tasks:
            self.action_again_failed()
            return
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
        if view is None and not self.been_read:
            return "Your runs are being read …"
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
            advice = f" The last lines of its output are on the right; {key_of('script')} opens its script in Draft."
        elif self.detail is not None and self.detail.silent:
            advice = f" {key_of('failure')} goes to the first line that tells of it."
        elif view.phase is Phase.DONE and view.memory_mib > 4 * max(1, view.memory_peak_mib):
            advice = " It used less than a quarter of its memory; asking for less starts sooner."
        told = self.detail.verdict if self.detail is not None and self.detail.view.job == view.job else verdict(view)
        return f"{view.label} {view.name}: {told}{advice}"

    def acts(self) -> list[Hint]:
        """The acts that can be done here, most useful first."""
        rows, view = self.query_one(RunRows), self.detail.view if self.detail else None
        found: list[Hint] = [("↑↓", "run", ""), "side"]
        reading = self.sheet == "output" and self.goes_to(self.query_one(OutputRows))
        found.append(("find", "find in the output" if reading else "search"))
        if self.words or self.sort or rows.wide:
            found.append(("back", "all my runs"))
        if self.sheet == "tasks":
            found += [("open", "this task"), ("failure", "next failed"), "by_what"]
        if self.detail and view and (view.replaced_by or view.replaces or self.detail.again):
            found.append("other_run")
        if self._back is not None:
            found.append("out")
        if self.sheet == "made":
            found += ["pager", "editor", "remove"]
        if view is None:
            return [*found, "mail"]
        own = self.board is not None and view.user == self.board.person.user
        if own and view.failed_tasks:
            found.append("again_failed")
        if own and view.phase.final:
            found.append("again")
        if own and not view.phase.final:
            found.append("cancel")
        if self.query_one(VerdictLines).advised is not None:
            found.append("next_time")
        if self.sheet == "output" and not rows.wide:
            found.append(("failure", "first error"))
        if self.sheet == "output" and view.output != view.errors:
            found.append(("output", "output or errors"))
        found += ["script", "results", "mark", "differs", ("view", "narrow list" if rows.wide else "wide list")]
        return [*found, "figure", "table"] if self.figures() else [*found, "table"]

    def tables(self) -> list[Table]:
        """The sheet that has the keys, else the runs."""
        rows, view = self.query_one(RunRows), self.detail.view if self.detail else None
        runs = jobs_table("runs", rows.runs)
        if view is None or not self.goes_to(self.query_one(WIDGETS[self.sheet])):
            return [runs]
        made, differs = self.query_one(MadeRows).made, self.query_one(DifferenceRows)
        if self.sheet == "tasks":
            return [jobs_table(f"tasks-{view.job}", list(self.query_one(TaskField).tasks)), runs]
        if self.sheet == "made" and made is not None:
            return [files_table(view.job, made), runs]
        if self.sheet == "results":
            return [results_table(view.name, self.query_one(ResultRows).rows), runs]
        if self.sheet == "differences":
            return [differences_table(differs.labels, differs.found), runs]
        if self.sheet == "letters":
            return [letters_table(self.query_one(LetterRows).letters), runs]
        return [runs]

    def _chosen(self) -> list[JobView]:
        """The run that is looked at."""
        return [self.detail.view] if self.detail is not None else []

    def action_side(self) -> None:
        """Keys to the runs, or to the sheet in sight; from a task back to its array."""
        rows, sheet = self.query_one(RunRows), self.query_one(WIDGETS[self.sheet])
        (rows if self.goes_to(sheet) else sheet).focus()

    def action_back(self) -> None:
        """From a task to the array that it was picked from."""
        if self._back is None:
            self._say("This is no task that was opened from its array.")
        else:
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

    def figures(self) -> list[Offer]:
        """Figures of what is in sight of the run: its use over time, its tasks, its results."""
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
