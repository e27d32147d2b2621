"""The sheets beside a verdict: output, files made, tasks, results side by side, what differs, mail."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from textual import work
from textual.widgets import Input

from lazy_quarry.app.review.difference_rows import DifferenceRows
from lazy_quarry.app.review.letter_rows import LetterRows
from lazy_quarry.app.review.made_rows import MadeRows, RemoveWanted
from lazy_quarry.app.review.output import ReviewOutput
from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.output_window import PIECE
from lazy_quarry.app.review.result_rows import ResultRows
from lazy_quarry.app.review.run_rows import RunRows
from lazy_quarry.app.review.sheet_line import SheetLine
from lazy_quarry.app.review.task_field import TaskField, TaskPicked
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.advice.found_value import ValuePattern
from lazy_quarry.core.advice.scaling import Scaling
from lazy_quarry.core.units import plural
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.run.node.made_files import MadeFiles
from lazy_quarry.site.mail.mail_folder import Letter
from lazy_quarry.site.run_comparison import Difference, ResultRow, differences, result_rows, scaling_of
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

WIDGETS = {
    "output": OutputRows,
    "made": MadeRows,
    "tasks": TaskField,
    "results": ResultRows,
    "differences": DifferenceRows,
    "letters": LetterRows,
}
LETTERS, MOST_COMPARED, EVERY = 100, 6, 50
"""Letters that are listed; runs whose differences are told; rows after which results are shown while they are read."""


class ReviewSheets(ReviewOutput):
    """A place whose right side has sheets, and a list with the runs that they are about."""

    BINDINGS = [
        bound("output", "output", "what it printed; once more its errors, where they are apart"),
        bound("files", "sheet('made')", "the files that it made"),
        bound("tasks", "sheet('tasks')", "the tasks of an array as a field"),
        bound("results", "results", "a value that a pattern finds in each output, side by side"),
        bound("differs", "sheet('differences')", "what differs between the marked runs, or from the run before"),
        bound("mail", "sheet('letters')", "the mail about jobs"),
        bound("mark", "mark", "mark a run for comparing, or a file for removing"),
        bound("by_what", "measure", "cells by outcome, time, memory or cores busy"),
        bound("other_run", "other_run", "the run that did this task again, or the one before it"),
        bound("remove", "remove", "remove files that it made, after asking"),
        bound("pack", "bundle", "pack all that is known of it into a file, for whoever helps"),
    ]
    wanted: int | None = None
    """A job that the list is to come to."""
    chosen = ""
    """The sheet that the person chose; empty: what fits the run."""
    scaled: Scaling | None = None
    """Scaling of the runs that were compared last, where they had different numbers of cores."""
    _trial: tuple[str, list[str]] = ("", [])
    """Lines that a pattern is tried on as it is typed, and whose they are."""
    _back: int | None = None
    """The array that the task in sight was picked from."""

    @property
    def sheet(self) -> str:
        """The sheet in sight: the one chosen, where the run has such a thing."""
        array = self.detail is not None and bool(self.detail.view.rows)
        if self.chosen and (self.chosen != "tasks" or array):
            return self.chosen
        return "tasks" if array else "output"

    def _turn(self) -> None:
        """Show the sheet that is to be in sight, and read what stands on it."""
        sheet, detail = self.sheet, self.detail
        shown = self.query_one(WIDGETS[sheet])
        shown.display = True
        hidden = [self.query_one(kind) for name, kind in WIDGETS.items() if name != sheet]
        if self.screen.focused in hidden:
            self.screen.set_focus(
                shown
            )  # before they go: one that goes with the keys on it takes them from whoever has them then
        for widget in hidden:
            widget.display = False
        self.query_one(SheetLine).show(sheet, detail is not None and bool(detail.view.rows))
        client = self.quarry.client
        if detail is None or client is None:
            return
        now = self.board.now_ms if self.board else 0
        if sheet == "tasks":
            self.query_one(TaskField).show(detail, now)
        elif sheet == "made":
            self.query_one(MadeRows).wait_for(detail.view.job)
            self._look_for_files(client, detail.view.job)
        elif sheet == "differences":
            self._compare(client, self._compared(detail.view))
        elif sheet == "letters":
            self._read_letters(client)

    def action_sheet(self, name: str) -> None:
        """Another sheet; keys go to it."""
        if name == "tasks" and not (self.detail and self.detail.view.rows):
            self._say("This run is no array, so it has no tasks.")
            return
        self.chosen = name
        sheet = self.query_one(WIDGETS[name])
        sheet.display = True
        self.screen.set_focus(sheet)
        self._turn()

    def action_output(self) -> None:
        """The output; where it is in sight, the errors in its place, if they are apart."""
        shown = (
            self.sheet == "output" and self.query_one(OutputRows).display and self.goes_to(self.query_one(OutputRows))
        )
        if not shown:
            self.action_sheet("output")
        elif self.detail is not None and self.detail.view.output != self.detail.view.errors:
            self.other_stream()
        else:
            self._say("Its errors are in its output: it has one file for both.")

    # -- tasks -------------------------------------------------------------------------------------

    def on_task_picked(self, message: TaskPicked) -> None:
        """A task, or a run of a table, by itself."""
        self._back = self.detail.view.job if self.detail else None
        self.chosen = "output"
        self._open(message.job)

    def _open(self, job: int) -> None:
        """Look at a job that may not be in the list; the place does it."""
        raise NotImplementedError

    def action_measure(self) -> None:
        """Cells by another measure."""
        if self.sheet == "tasks":
            self.query_one(TaskField).action_measure()
        else:
            self._say(f"That is for the tasks of an array: {key_of('tasks')} shows them.")

    def action_failure(self) -> None:
        """To the next task that failed; elsewhere to the first line of the output that tells of an error."""
        if self.sheet == "tasks":
            self.query_one(TaskField).action_next_failed()
        elif self.detail is None:
            self._say("No run is shown here whose failure could be looked for.")
        else:
            if self.sheet != "output":
                self.action_sheet("output")
            self.first_error()

    def action_other_run(self) -> None:
        """From a task to the run that did it again, and back: both records stay as they were."""
        view, field = self.detail.view if self.detail else None, self.query_one(TaskField)
        if view is not None and view.rows and self.sheet == "tasks":
            view = field.current
        other = (view.replaced_by or view.replaces) if view is not None else None
        if other is None or self.detail is None:
            self._say(
                "No run is shown here."
                if view is None
                else f"{view.label} is an array: {key_of('tasks')} shows its tasks; on one of them {key_of('other_run')} goes on."
                if view.rows
                else f"{view.label} did not run again, and runs nothing again."
            )
            return
        if self._back is None and self.detail.view.rows:
            self._back = self.detail.view.job
        self.chosen = "output"
        self._open(other.job)

    # -- files -------------------------------------------------------------------------------------

    @work(thread=True, exclusive=True, group="made")
    def _look_for_files(self, client: "SiteClient", job: int) -> None:
        try:
            made = client.made(job)
        except QuarryError as fault:
            made = MadeFiles("", problem=str(fault))
        self.quarry.hand_over(self._show_files, job, made)

    def _show_files(self, job: int, made: MadeFiles) -> None:
        if self.detail is not None and self.detail.view.job == job:
            self.query_one(MadeRows).show(job, made, self.board.now_ms if self.board else 0)

    def action_mark(self) -> None:
        """A run for comparing, or a file for removing."""
        if self.sheet == "made" and self.goes_to(self.query_one(MadeRows)):
            self.query_one(MadeRows).action_mark()
            return
        rows = self.query_one(RunRows)
        if rows.current() is None:
            self._say("There is no run here to mark.")
            return
        rows.mark()
        if len(rows.marked) > 1:
            self._say(
                f"{plural(len(rows.marked), 'run')} marked: {key_of('differs')} tells what differs between them, "
                f"{key_of('results')} compares results."
            )

    def action_remove(self) -> None:
        """Files of the run in sight."""
        if self.sheet == "made":
            self.query_one(MadeRows).action_remove()
        else:
            self._say(f"That removes files that a run made: {key_of('files')} shows them.")

    def on_remove_wanted(self, message: RemoveWanted) -> None:
        """Ask first; they cannot be brought back."""
        rows, client, paths = self.query_one(MadeRows), self.quarry.client, message.paths
        if client is None or rows.made is None:
            return
        shown = ", ".join(paths[:3]) + (", …" if len(paths) > 3 else "")
        question = (
            f"Remove {plural(len(paths), 'file')} below {rows.made.folder}: {shown}? They cannot be brought back."
        )
        job = rows.job
        self.quarry.ask(question, lambda: self._remove(client, job, paths), yes="Remove", no="Keep")

    @work(thread=True, group="remove")
    def _remove(self, client: "SiteClient", job: int, paths: list[str]) -> None:
        try:
            outcome = client.remove_made(job, paths)
            self._say(outcome.message, bad=not outcome.done)
        except QuarryError as fault:
            self._say(str(fault), bad=True)
        self._look_for_files(client, job)

    # -- results -----------------------------------------------------------------------------------

    def action_results(self) -> None:
        """Type a pattern; what it finds in the output in sight is told as it is typed."""
        self.action_sheet("results")
        self._trial = "the output in sight", list(self.query_one(OutputRows).rows[-2000:])
        if self.detail is not None and self.detail.view.rows and self.detail.tasks and self.quarry.client is not None:
            task = self.query_one(TaskField).current or self.detail.tasks_now[0]
            self._read_trial(self.quarry.client, task)
        line = self.query_one("#pattern", Typed)
        line.display = True
        self.screen.set_focus(line)

    @work(thread=True, exclusive=True, group="trial")
    def _read_trial(self, client: "SiteClient", task: JobView) -> None:
        """Read what a task printed, for trying the pattern on."""
        try:
            chunk = client.output(task.job, self.which, -PIECE)
        except QuarryError:
            return
        self._trial = task.label, chunk.text.split("\n")
        self.quarry.hand_over(self._try)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Try the pattern on what is in sight."""
        if event.input.id == "pattern":
            event.stop()
            self._try()

    def _try(self) -> None:
        """Tell what the pattern finds, while it is typed."""
        rows, line = self.query_one(ResultRows), self.query_one("#pattern", Typed)
        if not line.display:
            return
        if not line.value:
            rows.show(rows.rows, "", "")
            return
        where, lines = self._trial
        try:
            value = ValuePattern(line.value).last_value(lines)
        except BadValue as fault:
            rows.show([], line.value, str(fault))
            return
        told = f"in {where} it finds {value}" if value is not None else f"it finds nothing in {where}"
        rows.show([], line.value, f"{told}; enter looks in all")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Look for the value in all runs that are compared."""
        if event.input.id != "pattern":
            return
        event.stop()
        event.input.display = False
        rows, client = self.query_one(ResultRows), self.quarry.client
        self.screen.set_focus(rows)
        if not event.value or client is None or self.detail is None:
            return
        try:
            pattern = ValuePattern(event.value)
        except BadValue as fault:
            rows.show([], event.value, str(fault))
            return
        self._find_values(client, pattern, self._side_by_side())

    def _side_by_side(self) -> Sequence[JobView]:
        """The marked runs; else the tasks of the array; else the runs of the same name that are listed."""
        rows, detail = self.query_one(RunRows), self.detail
        marked = [view for view in rows.runs if view.job in rows.marked]
        if len(marked) > 1 or detail is None:
            return marked
        if detail.view.rows:
            return detail.tasks_now
        return [view for view in reversed(rows.runs) if view.name == detail.view.name and not view.rows]

    @work(thread=True, exclusive=True, group="results")
    def _find_values(self, client: "SiteClient", pattern: ValuePattern, views: Sequence[JobView]) -> None:
        found = list[ResultRow]()
        here = self.detail.view.job if self.detail else 0

        def elsewhere() -> bool:
            return self.sheet != "results" or self.detail is None or self.detail.view.job != here

        try:
            for row in result_rows(client, views, pattern, self.which, elsewhere):
                found.append(row)
                if len(found) % EVERY == 0:
                    told = f"{len(found):,} of {len(views):,} read"
                    self.quarry.hand_over(self._show_values, list(found), pattern.text, told)
        except QuarryError as fault:
            self.quarry.hand_over(self._show_values, found, pattern.text, str(fault))
            return
        having = sum(row.value is not None for row in found)
        wrong = sum(bool(row.wrong) for row in found)
        tasks = bool(found) and all(row.view.parent is not None for row in found)
        told = f"{having} of {plural(len(found), 'task' if tasks else 'run')} have it" + (
            f", {wrong} wrote errors" if wrong else ""
        )
        self.quarry.hand_over(self._show_values, found, pattern.text, told)

    def _show_values(self, found: list[ResultRow], pattern: str, told: str) -> None:
        self.query_one(ResultRows).show(found, pattern, told)

    # -- what differs ------------------------------------------------------------------------------

    def _compared(self, view: JobView) -> list[int]:
        """The marked runs; else this one and the one of its name before it."""
        rows = self.query_one(RunRows)
        if len(rows.marked) > 1:
            return list(rows.marked)[:MOST_COMPARED]
        earlier = (one.job for one in rows.runs if one.name == view.name and one.submitted_ms < view.submitted_ms)
        before = next(earlier, None)
        return [before, view.job] if before is not None else [view.job]

    @work(thread=True, exclusive=True, group="differences")
    def _compare(self, client: "SiteClient", jobs: list[int]) -> None:
        if len(jobs) < 2:
            told = f"no earlier run of this name; {key_of('mark')} marks others"
            self.quarry.hand_over(self._show_no_differences, told)
            return
        try:
            details = [client.detail(job) for job in jobs]
            found = differences(details, self.board.now_ms if self.board else 0)
        except QuarryError as fault:
            self._say(str(fault), bad=True)
            return
        self.quarry.hand_over(self._show_differences, details, found)

    def _show_no_differences(self, told: str) -> None:
        self.query_one(DifferenceRows).show([], [], told)

    def _show_differences(self, details: list[JobDetail], found: list[Difference]) -> None:
        marked = len(self.query_one(RunRows).marked) > 1
        told = "between the marked runs" if marked else f"from the run before; {key_of('mark')} marks others"
        self.scaled = scaling_of(details)
        if self.scaled is not None:
            told = f"{told}. {self.scaled.advice}"
        if not found:
            told = f"nothing that is kept, {told}"
        self.query_one(DifferenceRows).show([detail.view.label for detail in details], found, told)

    # -- mail, and help ----------------------------------------------------------------------------

    @work(thread=True, exclusive=True, group="letters")
    def _read_letters(self, client: "SiteClient") -> None:
        try:
            letters: tuple[Letter, ...] = client.letters(LETTERS)
        except QuarryError as fault:
            self._say(str(fault), bad=True)
            return
        self.quarry.hand_over(self._show_letters, letters)

    def _show_letters(self, letters: tuple[Letter, ...]) -> None:
        self.query_one(LetterRows).show(letters, self.board.now_ms if self.board else 0)

    def action_bundle(self) -> None:
        """Pack the run in sight into a file in the person's folder."""
        if self.detail is None:
            self._say("There is no run here to pack.")
        elif self.quarry.client is not None and self.board is not None:
            path = self.quarry.folder / f"{self.detail.view.name}-{self.detail.view.label.replace('/', '-')}.zip"
            self._pack(self.quarry.client, self.detail.view.job, path)

    @work(thread=True, exclusive=True, group="bundle")
    def _pack(self, client: "SiteClient", job: int, path: Path) -> None:
        from lazy_quarry.site.bundle import bundle

        assert self.board is not None
        try:
            self._say(f"{bundle(client, self.board.site, job, path, self.quarry.zone)}.")
        except QuarryError as fault:
            self._say(str(fault), bad=True)

    def path_in_sight(self) -> str:
        """The file under the cursor, else what the run prints into."""
        if self.sheet == "made" and self.query_one(MadeRows).path:
            return self.query_one(MadeRows).path
        return super().path_in_sight()
