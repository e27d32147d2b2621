"""The sheets beside a verdict: output, files made, tasks, results side by side, what differs, mail."""

from collections.abc import Callable
from pathlib import Path

from lazy_quarry.app.review.comparing import Comparing
from lazy_quarry.app.review.difference_rows import DifferenceRows
from lazy_quarry.app.review.files_made import FilesMade
from lazy_quarry.app.review.letter_rows import LetterRows
from lazy_quarry.app.review.made_rows import MadeRows
from lazy_quarry.app.review.output import OutputReading
from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.result_rows import ResultRows
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.review.run_rows import RunRows
from lazy_quarry.app.review.sheet_line import SheetLine
from lazy_quarry.app.review.task_field import TaskField, TaskPicked
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.units import plural
from lazy_quarry.site.mail.mail_folder import Letter

WIDGETS = {
    "output": OutputRows,
    "made": MadeRows,
    "tasks": TaskField,
    "results": ResultRows,
    "differences": DifferenceRows,
    "letters": LetterRows,
}
LETTERS = 100
"""Letters that are listed."""


class Sheets(Feature):
    """Brings a sheet into sight and reads what stands on it. ``open_job`` looks at a job that may not be in the list."""

    NAME = "sheets"
    BOUND = (
        bound_of(
            NAME,
            "failure",
            "failure",
            "the next task that failed; in an output the first line that tells of an error",
        ),
        bound_of(NAME, "output", "output", "what it printed; once more its errors, where they are apart"),
        bound_of(NAME, "files", "turn_to('made')", "the files that it made"),
        bound_of(NAME, "tasks", "turn_to('tasks')", "the tasks of an array as a field"),
        bound_of(
            NAME,
            "differs",
            "turn_to('differences')",
            "what differs between the marked runs, or from the run before",
        ),
        bound_of(NAME, "mail", "turn_to('letters')", "the mail about jobs"),
        bound_of(NAME, "mark", "mark", "mark a run for comparing, or a file for removing"),
        bound_of(NAME, "by_what", "measure", "cells by outcome, time, memory or cores busy"),
        bound_of(NAME, "other_run", "other_run", "the run that did this task again, or the one before it"),
        bound_of(NAME, "pack", "bundle", "pack all that is known of it into a file, for whoever helps"),
    )

    def __init__(
        self,
        place: Place,
        seen: RunInSight,
        output: OutputReading,
        files: FilesMade,
        comparing: Comparing,
        open_job: Callable[[int], None],
    ) -> None:
        super().__init__(place)
        self.seen, self._output, self._files, self._comparing, self._open = seen, output, files, comparing, open_job

    def turn(self) -> None:
        """Show the sheet that is to be in sight, and read what stands on it."""
        sheet, detail = self.seen.sheet, self.seen.detail
        shown = self.one(WIDGETS[sheet])
        shown.display = True
        hidden = [self.one(kind) for name, kind in WIDGETS.items() if name != sheet]
        if self.place.screen.focused in hidden:
            self.focus(shown)  # before they go: one that goes with the keys on it takes them from whoever has them then
        for widget in hidden:
            widget.display = False
        self.one(SheetLine).show(sheet, detail is not None and bool(detail.view.rows))
        if detail is None:
            return
        now = self.now_ms
        if sheet == "tasks":
            self.one(TaskField).show(detail, now)
        elif sheet == "made":
            self.one(MadeRows).wait_for(detail.view.job)
            self._files.look_for(detail.view.job)
        elif sheet == "differences":
            self._comparing.compare(detail.view)
        elif sheet == "letters":
            self._read_letters()

    def turn_to(self, name: str) -> None:
        """Another sheet; keys go to it."""
        if name == "tasks" and not (self.seen.detail and self.seen.detail.view.rows):
            self.say("This run is no array, so it has no tasks.")
            return
        self.seen.chosen = name
        sheet = self.one(WIDGETS[name])
        sheet.display = True
        self.focus(sheet)
        self.turn()

    def output(self) -> None:
        """The output; where it is in sight, the errors in its place, if they are apart."""
        shown = self.seen.sheet == "output" and self.one(OutputRows).display and self.goes_to(self.one(OutputRows))
        if not shown:
            self.turn_to("output")
        elif self.seen.detail is not None and self.seen.detail.view.output != self.seen.detail.view.errors:
            self._output.other_stream()
        else:
            self.say("Its errors are in its output: it has one file for both.")

    # -- tasks -------------------------------------------------------------------------------------

    def pick(self, message: TaskPicked) -> None:
        """A task, or a run of a table, by itself."""
        self.seen.array = self.seen.detail.view.job if self.seen.detail else None
        self.seen.chosen = "output"
        self._open(message.job)

    def measure(self) -> None:
        """Cells by another measure."""
        if self.seen.sheet == "tasks":
            self.one(TaskField).action_measure()
        else:
            self.say(f"That is for the tasks of an array: {key_of('tasks')} shows them.")

    def failure(self) -> None:
        """To the next task that failed; elsewhere to the first line of the output that tells of an error."""
        if self.seen.sheet == "tasks":
            self.one(TaskField).action_next_failed()
        elif self.seen.detail is None:
            self.say("No run is shown here whose failure could be looked for.")
        else:
            if self.seen.sheet != "output":
                self.turn_to("output")
            self._output.first_error()

    def other_run(self) -> None:
        """From a task to the run that did it again, and back: both records stay as they were."""
        view, field = self.seen.detail.view if self.seen.detail else None, self.one(TaskField)
        if view is not None and view.rows and self.seen.sheet == "tasks":
            view = field.current
        other = (view.replaced_by or view.replaces) if view is not None else None
        if other is None or self.seen.detail is None:
            self.say(
                "No run is shown here."
                if view is None
                else f"{view.label} is an array: {key_of('tasks')} shows its tasks; on one of them {key_of('other_run')} goes on."
                if view.rows
                else f"{view.label} did not run again, and runs nothing again."
            )
            return
        if self.seen.array is None and self.seen.detail.view.rows:
            self.seen.array = self.seen.detail.view.job
        self.seen.chosen = "output"
        self._open(other.job)

    def mark(self) -> None:
        """A run for comparing, or a file for removing."""
        if self.seen.sheet == "made" and self.goes_to(self.one(MadeRows)):
            self.one(MadeRows).action_mark()
            return
        rows = self.one(RunRows)
        if rows.current() is None:
            self.say("There is no run here to mark.")
            return
        rows.mark()
        if len(rows.marked) > 1:
            self.say(
                f"{plural(len(rows.marked), 'run')} marked: {key_of('differs')} tells what differs between them, "
                f"{key_of('results')} compares results."
            )

    # -- mail, and help ----------------------------------------------------------------------------

    @apart("letters")
    def _read_letters(self) -> None:
        self.quarry.hand_over(self._show_letters, self.client.letters(LETTERS))

    def _show_letters(self, letters: tuple[Letter, ...]) -> None:
        self.one(LetterRows).show(letters, self.now_ms)

    def bundle(self) -> None:
        """Pack the run in sight into a file in the person's folder."""
        if self.seen.detail is None:
            self.say("There is no run here to pack.")
        elif self.board is not None:
            path = (
                self.quarry.folder / f"{self.seen.detail.view.name}-{self.seen.detail.view.label.replace('/', '-')}.zip"
            )
            self._pack(self.seen.detail.view.job, path)

    @apart("bundle", exclusive=False)
    def _pack(self, job: int, path: Path) -> None:
        from lazy_quarry.site.bundle import bundle

        assert self.board is not None
        self.say(f"{bundle(self.client, self.board.site, job, path, self.quarry.zone)}.")
