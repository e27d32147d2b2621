"""Review: did it work, what did it print, what did it use of what it asked for?"""

from contextlib import suppress
from typing import TYPE_CHECKING

from textual import work
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from lazy_quarry.app.review.comparing import Comparing
from lazy_quarry.app.review.difference_rows import DifferenceRows
from lazy_quarry.app.review.files_made import FilesMade
from lazy_quarry.app.review.letter_rows import LetterRows
from lazy_quarry.app.review.made_rows import MadeRows, RemoveWanted
from lazy_quarry.app.review.output import OutputReading
from lazy_quarry.app.review.output_rows import MoreWanted, OutputRows
from lazy_quarry.app.review.read_marks import LookedAt
from lazy_quarry.app.review.result_rows import ResultRows
from lazy_quarry.app.review.results import ResultsFound
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.review.run_rows import RunHead, RunRows
from lazy_quarry.app.review.run_verdict import VerdictLines
from lazy_quarry.app.review.search import RunSearch
from lazy_quarry.app.review.sheet_line import SheetLine
from lazy_quarry.app.review.sheets import WIDGETS, Sheets
from lazy_quarry.app.review.task_field import TaskField, TaskPicked
from lazy_quarry.app.shared.acts import bound, bound_of, key_of
from lazy_quarry.app.shared.column_list import ColumnList, ColumnsTaken
from lazy_quarry.app.shared.figure_catalogue import Offer, run_figures, scaling_offer
from lazy_quarry.app.shared.job_doing import JobDoing
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.place import Hint, Place
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


class ReviewPlace(Place):
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
        "fetch": f"on the files that a run made, which {key_of('files')} shows",
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
        bound_of(JobDoing.NAME, "cancel", "cancel", "cancel it while it runs, after saying what would be lost"),
        bound_of(JobDoing.NAME, "again", "again", "run it again, after saying what that costs"),
        bound_of(
            JobDoing.NAME,
            "again_failed",
            "again_failed",
            "run again what failed of an array, with what was learnt from it",
        ),
        bound_of(JobDoing.NAME, "script", "script", "its script in Draft, as it was submitted"),
        *OutputReading.BOUND,
        *Sheets.BOUND,
        *FilesMade.BOUND,
        *ResultsFound.BOUND,
        *RunSearch.BOUND,
    ]
    looked_at: LookedAt
    doing: JobDoing
    output: OutputReading
    files: FilesMade
    sheets: Sheets
    comparing: Comparing
    results: ResultsFound
    searching: RunSearch
    _under: int | None = None
    """The run under the cursor of the list, when it was read last."""

    def __init__(self, **arguments: str) -> None:
        super().__init__(**arguments)
        self.seen = RunInSight()

    def compose(self):  # type: ignore[no-untyped-def]
        """Lines to type in; then three parts."""
        yield Typed(
            placeholder="a pattern (regular expression) to find in the output", id="output-find", classes="asking"
        )
        yield Typed(placeholder="a search", id="search", classes="asking")
        yield Typed(placeholder=PATTERN, id="pattern", classes="asking")
        yield Typed(placeholder="a folder", id="fetch-to", classes="asking")
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
        self.doing = self.has(JobDoing(self, self._chosen))
        self.files = self.has(FilesMade(self, self.seen))
        self.output = self.has(OutputReading(self, self.seen, self._load, self.files.path))
        self.comparing = self.has(Comparing(self))
        self.sheets = self.has(Sheets(self, self.seen, self.output, self.files, self.comparing, self._open))
        self.results = self.has(ResultsFound(self, self.seen, self.sheets.turn_to))
        self.searching = self.has(RunSearch(self, self.seen, self._show_runs, self.output.ask_pattern))
        shelf = self.quarry.shelf
        self.looked_at = LookedAt(shelf.kept, shelf.name)
        self.query_one(RunRows).looked_at = self.looked_at
        self.searching.take_columns()
        self.sheets.turn()

    def on_descendant_focus(self) -> None:
        """Where there is little room, what is read gets most of it."""
        self.set_class(any(self.goes_to(self.query_one(kind)) for kind in WIDGETS.values()), "-reading")

    def show(self, board: Board) -> None:
        """Read the runs again when something has changed."""
        super().show(board)
        self.looked_at.begin(board.now_ms, board.clock.kind == "rehearsal")
        self.searching.read()

    def arrive(self) -> None:
        """Keys go to the runs."""
        self.query_one(RunRows).focus()

    def open_job(self, job: int) -> None:
        """Put the cursor on a job as soon as it is there."""
        self.query_one(RunRows).focus()
        self.searching.wanted, self.seen.alone, self.seen.chosen = job, None, ""
        self.searching.words = self.searching.sort = ""
        self.searching.read()

    def _open(self, job: int) -> None:
        """Look at a job, which may be a task that is not in the list."""
        if self.quarry.client is not None:
            self.seen.alone = job
            self._fetch(self.quarry.client, job, True)

    def _show_runs(self, runs: list[JobView]) -> None:
        rows = self.query_one(RunRows)
        under = rows.current()
        target = self.searching.wanted if self.searching.wanted is not None else (under.job if under else None)
        rows.show(runs, self.now_ms)
        if target is not None:
            place = next((number for number, view in enumerate(runs) if view.job == target), None)
            if place is not None:
                rows.move(place)
                self.searching.wanted = None
        rows.refresh()
        if not runs and self.seen.alone is None:  # nothing was found: what was shown is of another search
            self.seen.detail = None
            self.query_one(VerdictLines).clear()
            self.sheets.turn()
        done = [view for view in runs if view.phase is Phase.DONE and not view.rows and self.looked_at.is_new(view)]
        if fresh := [view for view in done if view.job not in rows.doubts][:MOST_DOUBTED]:
            self._look_for_doubts(rows, fresh)
        self._load()

    def search(self, words: str) -> None:
        """List what a search finds."""
        self.searching.search(words)

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another run is looked at; a move on a sheet changes nothing of that."""
        view = self.query_one(RunRows).current()
        if view is not None and view.job != self._under:
            self.seen.alone = None
            self._load()
            self.searching.read_on()

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
        job = self.seen.alone if self.seen.alone is not None else self._under
        if client is None or job is None:
            return
        known, rows = self.seen.detail, self.query_one(OutputRows)
        same = known is not None and known.view.job == job
        if same and known is not None and known.view.phase.final and rows.window.path:
            return  # it has ended, and is in sight already
        self._fetch(client, job, not (same and rows.window.path) or rows.following)

    @work(thread=True, exclusive=True, group="detail")
    def _fetch(self, client: "SiteClient", job: int, output: bool) -> None:
        try:
            detail = client.detail(job)
            chunk = client.output(job, self.seen.which, TAIL) if output else None
            samples = client.samples(job) if detail.view.phase is Phase.RUNNING else []
        except QuarryError:
            return
        self.quarry.hand_over(self._show_detail, detail, chunk, samples)
        if detail.view.phase.final:
            with suppress(QuarryError):  # there is nothing to learn from yet
                self.quarry.hand_over(self._show_advice, detail, client.advise(str(detail.view.parent or job)))

    def _show_advice(self, detail: JobDetail, advised: Advised) -> None:
        if self.seen.detail is detail:
            self.query_one(VerdictLines).show(detail, [], advised)

    def action_next_time(self) -> None:
        """Draft the script with what is advised; of an array with failures offer to run these again with it."""
        if self.seen.detail is not None and self.seen.detail.view.failed_tasks:
            self.doing.again_failed()
            return
        advised, detail = self.query_one(VerdictLines).advised, self.seen.detail
        if advised is None or detail is None or not advised.settings:
            self._say("There is nothing to change of its request, as far as its runs tell.")
            return
        settings = tuple(f'{key}="{value}"' for key, value in advised.settings)
        self.quarry.draft_script(detail.script, f"{detail.view.name}.sh", "", (*detail.overrides, *settings))

    def _show_detail(self, detail: JobDetail, chunk: OutputChunk | None, samples: list[Sample]) -> None:
        rows, other = (
            self.query_one(OutputRows),
            self.seen.detail is None or self.seen.detail.view.job != detail.view.job,
        )
        if not other and rows.window.path and not rows.following:
            chunk = None  # meanwhile somebody looks elsewhere
        current = self.query_one(RunRows).current()
        wanted = self.seen.alone if self.seen.alone is not None else current.job if current else None
        if wanted != detail.view.job:
            return
        self.seen.detail = detail
        if detail.view.phase is Phase.DONE:
            self.query_one(RunRows).doubts[detail.view.job] = detail.silent
        if self.display and self.looked_at.look(detail.view):
            self.query_one(RunRows).refresh()
        lines = self.query_one(VerdictLines)
        lines.now_ms = self.now_ms
        lines.show(detail, samples)
        if chunk is not None:
            joined = detail.view.output == detail.view.errors
            heading = "output and errors" if joined else self.seen.which
            rows.show(max(0, chunk.size + TAIL), chunk, heading)
        if other and self.seen.sheet == "results":
            self.query_one(ResultRows).show([], "", "")
        if other or self.seen.sheet in ("tasks", "made") or not self.query_one(WIDGETS[self.seen.sheet]).display:
            self.sheets.turn()
        self.quarry.tell()

    def job_in_sight(self) -> JobView | None:
        """The run that is looked at."""
        return self.seen.detail.view if self.seen.detail is not None else None

    def note(self) -> str:
        """The verdict, and what could be done about it."""
        view = (
            self.seen.detail.view
            if self.seen.alone is not None and self.seen.detail is not None
            else self.query_one(RunRows).current()
        )
        result = self.query_one(ResultRows).current if self.seen.sheet == "results" else None
        if result is not None and result.wrong and self.goes_to(self.query_one(ResultRows)):
            return f"{result.view.label} wrote “{result.wrong}”. Enter looks at it by itself."
        if view is None and not self.searching.been_read:
            return "Your runs are being read …"
        if view is None:
            return (
                "Nothing of yours has run yet. What has ended stays here, with its verdict, its output and its figures."
            )
        if view.phase is Phase.RUNNING:
            return f"{view.label} {view.name} runs still: {state_words(view, self.now_ms)}."
        advice = ""
        if view.rows:
            advice = " Each task is a cell; enter looks at one by itself."
        elif view.phase is Phase.OVERMEMORY:
            advice = " Ask for more memory in the header, or fewer ranks on each node."
        elif view.phase is Phase.FAILED:
            advice = f" The last lines of its output are on the right; {key_of('script')} opens its script in Draft."
        elif self.seen.detail is not None and self.seen.detail.silent:
            advice = f" {key_of('failure')} goes to the first line that tells of it."
        elif view.phase is Phase.DONE and view.memory_mib > 4 * max(1, view.memory_peak_mib):
            advice = " It used less than a quarter of its memory; asking for less starts sooner."
        told = (
            self.seen.detail.verdict
            if self.seen.detail is not None and self.seen.detail.view.job == view.job
            else verdict(view)
        )
        return f"{view.label} {view.name}: {told}{advice}"

    def acts(self) -> list[Hint]:
        """The acts that can be done here, most useful first."""
        rows, view = self.query_one(RunRows), self.seen.detail.view if self.seen.detail else None
        found: list[Hint] = [("↑↓", "run", ""), "side"]
        reading = self.seen.sheet == "output" and self.goes_to(self.query_one(OutputRows))
        found.append(("find", "find in the output" if reading else "search"))
        if self.searching.words or self.searching.sort or rows.wide:
            found.append(("back", "all my runs"))
        if self.seen.sheet == "tasks":
            found += [("open", "this task"), ("failure", "next failed"), "by_what"]
        if self.seen.detail and view and (view.replaced_by or view.replaces or self.seen.detail.again):
            found.append("other_run")
        if self.seen.array is not None:
            found.append("out")
        if self.seen.sheet == "made":
            found += ["fetch", "pager", "editor", "remove"]
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
        if self.seen.sheet == "output" and not rows.wide:
            found.append(("failure", "first error"))
        if self.seen.sheet == "output" and view.output != view.errors:
            found.append(("output", "output or errors"))
        found += ["script", "results", "mark", "differs", ("view", "narrow list" if rows.wide else "wide list")]
        return [*found, "figure", "table"] if self.figures() else [*found, "table"]

    def tables(self) -> list[Table]:
        """The sheet that has the keys, else the runs."""
        rows, view = self.query_one(RunRows), self.seen.detail.view if self.seen.detail else None
        runs = jobs_table("runs", rows.runs)
        if view is None or not self.goes_to(self.query_one(WIDGETS[self.seen.sheet])):
            return [runs]
        made, differs = self.query_one(MadeRows).made, self.query_one(DifferenceRows)
        if self.seen.sheet == "tasks":
            return [jobs_table(f"tasks-{view.job}", list(self.query_one(TaskField).tasks)), runs]
        if self.seen.sheet == "made" and made is not None:
            return [files_table(view.job, made), runs]
        if self.seen.sheet == "results":
            return [results_table(view.name, self.query_one(ResultRows).rows), runs]
        if self.seen.sheet == "differences":
            return [differences_table(differs.labels, differs.found), runs]
        if self.seen.sheet == "letters":
            return [letters_table(self.query_one(LetterRows).letters), runs]
        return [runs]

    def _chosen(self) -> list[JobView]:
        """The run that is looked at."""
        return [self.seen.detail.view] if self.seen.detail is not None else []

    # -- what is typed and chosen, for the feature that it is for ----------------------------------

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """A search or a name for it, a pattern to find, or one whose values are compared."""
        event.stop()
        if event.input.id == "output-find":
            self.output.take_pattern(event.value)
            return
        event.input.display = False
        if event.input.id == "search":
            self.searching.take_line(event.value)
        elif event.input.id == "fetch-to":
            self.files.take_folder(event.value)
        else:
            self.results.look_in_all(event.value)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Try a pattern on what is in sight while it is typed, and say what a search's field means."""
        if event.input.id == "pattern":
            event.stop()
            self.results.try_pattern()
        elif event.input.id == "search":
            event.stop()
            self.searching.typing(event.value)

    def on_more_wanted(self, message: MoreWanted) -> None:
        """Read more of the output."""
        self.output.more(message)

    def on_task_picked(self, message: TaskPicked) -> None:
        """Look at a task, or a run of a table, by itself."""
        self.sheets.pick(message)

    def on_remove_wanted(self, message: RemoveWanted) -> None:
        """Remove files, after a question."""
        self.files.ask_to_remove(message)

    def on_columns_taken(self, message: ColumnsTaken) -> None:
        """Show other columns."""
        self.searching.keep_columns(message)

    # -- going about -------------------------------------------------------------------------------

    def action_side(self) -> None:
        """Keys to the runs, or to the sheet in sight; from a task back to its array."""
        rows, sheet = self.query_one(RunRows), self.query_one(WIDGETS[self.seen.sheet])
        (rows if self.goes_to(sheet) else sheet).focus()

    def action_back(self) -> None:
        """From a task to the array that it was picked from."""
        if self.seen.array is None:
            self._say("This is no task that was opened from its array.")
        else:
            job, self.seen.array, self.seen.alone = self.seen.array, None, None
            self.seen.chosen = "tasks"
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
        results = (rows.results, rows.pattern) if self.seen.sheet == "results" and rows.results else None
        offers = run_figures(self.seen.detail, samples, results, self.board, self.quarry.zone)
        if (
            self.seen.sheet == "differences"
            and self.comparing.scaled is not None
            and self.seen.detail is not None
            and self.board is not None
        ):
            offers.insert(
                0, scaling_offer(self.comparing.scaled, self.seen.detail.view.name, self.board, self.quarry.zone)
            )
        return offers
