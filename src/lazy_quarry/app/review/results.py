"""Values that a pattern finds in the outputs of runs or tasks, in Review: tried as it is typed, then looked for in all."""

from collections.abc import Callable, Sequence

from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.output_window import PIECE
from lazy_quarry.app.review.result_rows import ResultRows
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.review.run_rows import RunRows
from lazy_quarry.app.review.task_field import TaskField
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.advice.found_value import ValuePattern
from lazy_quarry.core.units import plural
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.site.run_comparison import ResultRow, result_rows
from lazy_quarry.views.job_view import JobView

EVERY = 50
"""Rows after which results are shown while they are read."""


class ResultsFound(Feature):
    """Finds a value in each output. ``turn_to`` brings a sheet into sight."""

    NAME = "results"
    BOUND = (bound_of(NAME, "results", "ask", "a value that a pattern finds in each output, side by side"),)

    def __init__(self, place: Place, seen: RunInSight, turn_to: Callable[[str], None]) -> None:
        super().__init__(place)
        self.seen, self._turn_to = seen, turn_to
        self.tried_on: tuple[str, list[str]] = ("", [])
        """Whose lines a pattern is tried on as it is typed, and the lines."""

    def ask(self) -> None:
        """Type a pattern; what it finds in the output in sight is told as it is typed."""
        self._turn_to("results")
        self.tried_on = "the output in sight", list(self.one(OutputRows).rows[-2000:])
        detail = self.seen.detail
        if detail is not None and detail.view.rows and detail.tasks:
            self._read_trial(self.one(TaskField).current or detail.tasks_now[0])
        self.type_in("#pattern")

    @apart("trial")
    def _read_trial(self, task: JobView) -> None:
        """Read what a task printed, for trying the pattern on."""
        try:
            chunk = self.client.output(task.job, self.seen.which, -PIECE)
        except QuarryError:
            return
        self.tried_on = task.label, chunk.text.split("\n")
        self.quarry.hand_over(self.try_pattern)

    def try_pattern(self) -> None:
        """Tell what the pattern finds, while it is typed."""
        rows, line = self.one(ResultRows), self.one(Typed, "#pattern")
        if not line.display:
            return
        if not line.value:
            rows.show(rows.rows, "", "")
            return
        where, lines = self.tried_on
        try:
            value = ValuePattern(line.value).last_value(lines)
        except BadValue as fault:
            rows.show([], line.value, str(fault))
            return
        told = f"in {where} it finds {value}" if value is not None else f"it finds nothing in {where}"
        rows.show([], line.value, f"{told}; enter looks in all")

    def look_in_all(self, words: str) -> None:
        """Look for the value in all runs that are compared."""
        rows = self.one(ResultRows)
        self.focus(rows)
        if not words or self.seen.detail is None:
            return
        try:
            pattern = ValuePattern(words)
        except BadValue as fault:
            rows.show([], words, str(fault))
            return
        self._find_values(pattern, self._side_by_side())

    def _side_by_side(self) -> Sequence[JobView]:
        """The marked runs; else the tasks of the array; else the runs of the same name that are listed."""
        rows, detail = self.one(RunRows), self.seen.detail
        marked = [view for view in rows.runs if view.job in rows.marked]
        if len(marked) > 1 or detail is None:
            return marked
        if detail.view.rows:
            return detail.tasks_now
        return [view for view in reversed(rows.runs) if view.name == detail.view.name and not view.rows]

    @apart("results")
    def _find_values(self, pattern: ValuePattern, views: Sequence[JobView]) -> None:
        found = list[ResultRow]()
        here = self.seen.detail.view.job if self.seen.detail else 0

        def elsewhere() -> bool:
            return self.seen.sheet != "results" or self.seen.detail is None or self.seen.detail.view.job != here

        try:
            for row in result_rows(self.client, views, pattern, self.seen.which, elsewhere):
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
        self.one(ResultRows).show(found, pattern, told)
