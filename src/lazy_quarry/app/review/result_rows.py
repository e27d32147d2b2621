"""Results side by side: what a pattern finds in the output of each run, as a curve and as a table."""

from collections.abc import Sequence

from lazy_quarry.app.review.task_field import TaskPicked
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.braille import braille
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.advice.curves import Results, result_curves
from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import format_duration
from lazy_quarry.site.run_comparison import ResultRow, points_of

TONES = ("ochre", "river", "heather", "moss", "ink", "stone", "dim")
HEAD, HIGH, AXIS = 2, 9, 9
"""Rows above the curve, rows of the curve, cells of its scale."""


class ResultRows(Rows):
    """A curve, and a row a run; the cursor goes over the runs."""

    DEFAULT_CSS = "ResultRows { width: 1fr; height: 1fr; }"
    BINDINGS = [bound("open", "pick", "this run by itself")]

    def __init__(self) -> None:
        super().__init__(id="results")
        self.rows: list[ResultRow] = []
        self.pattern, self.told = "", ""
        self.results: Results | None = None

    def show(self, rows: Sequence[ResultRow], pattern: str, told: str) -> None:
        """These rows; ``told`` is how far they have been read, or what is wrong."""
        other = pattern != self.pattern or not self.rows
        self.rows, self.pattern, self.told = list(rows), pattern, told
        self.results = result_curves(points_of(self.rows))
        self.cursor = self._first if other else max(self._first, self.cursor)
        self.refit()

    @property
    def _first(self) -> int:
        """The first row of the table."""
        return HEAD + (HIGH + 2 + len(self._names) if self.results else 0) + 1

    @property
    def _names(self) -> list[str]:
        return [curve.name for curve in self.results.curves if curve.name] if self.results else []

    def row_count(self) -> int:
        """All lines."""
        return self._first + len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line."""
        if row == 0:
            pen.write(" RESULTS", bold=True).write(f"   {self.pattern}", "ochre")
            return
        if row == 1:
            pen.cell(
                f"   {self.told or key_of('results') + ' types a pattern; its value is looked for in all'}",
                self.room,
                "dim",
            )
            return
        if self.results is not None and row < self._first - 1:
            self._curve(row - HEAD, self.results, pen)
            return
        names = {tuple(name for name, _ in one.view.parameters) for one in self.rows}
        alike = len(names) == 1 and names != {()}  # then the heading has the names, and a row just the values
        heading = ", ".join(next(iter(names))) if alike else "name or parameters"
        longest = max((len(self._values(one, alike)) for one in self.rows), default=0)
        wide = max(10, min(max(longest, len(heading)) + 1, self.room - 33))
        if row == self._first - 1:
            if self.rows:
                pen.cell("   task" if alike else "   run", 10, "dim").cell(heading, wide, "dim")
                pen.cell("ran", 8, "dim", right=True).cell("value", 11, "dim", right=True).write("  errors", "dim")
            return
        one = self.rows[row - self._first]
        view = one.view
        label = str(view.task) if alike else view.label
        pen.write(f" {view.phase.sign} ", self.palette.of_phase(view.phase)).cell(label, 7, "ink", bold=current)
        pen.cell(self._values(one, alike), wide, "dim").cell(format_duration(view.attempt_s), 8, "dim", right=True)
        pen.cell(
            one.value if one.value is not None else "–", 11, "ink" if one.value is not None else "faint", right=True
        )
        pen.write(f"  ! {one.wrong}" if one.wrong else "", "rust")

    @staticmethod
    def _values(one: ResultRow, alike: bool) -> str:
        """The values that tell a run from the others."""
        view = one.view
        values = ", ".join(value for _, value in view.parameters) if alike else values_words(view.parameters)
        return values or view.name

    @property
    def current(self) -> ResultRow | None:
        """The run under the cursor."""
        at = self.cursor - self._first
        return self.rows[at] if 0 <= at < len(self.rows) else None

    def _curve(self, row: int, results: Results, pen: Pen) -> None:
        xs = [x for curve in results.curves for x, _ in curve.points]
        ys = [y for curve in results.curves for _, y in curve.points]
        low, high, width = min(ys), max(ys), max(10, self.room - AXIS - 3)
        if row < HIGH:
            label = f"{high:.5g}" if row == 0 else f"{low:.5g}" if row == HIGH - 1 else ""
            pen.cell(label, AXIS, "dim", right=True).write(" │" if label else " ┊", "faint")
            cells = braille([curve.points for curve in results.curves], width, HIGH, (min(xs), max(xs)), (low, high))
            for sign, curve in cells[row]:
                pen.write(sign, TONES[curve % len(TONES)])
        elif row == HIGH:
            first = results.names[0] if results.names else f"{min(xs):.5g}"
            last = results.names[-1] if results.names else f"{max(xs):.5g}"
            pen.write(" " * (AXIS + 2)).write(first, "dim")
            pen.write(f"{results.axis:^{max(1, width - len(first) - len(last))}}", "ink").write(last, "dim")
        elif row - HIGH - 1 < len(self._names):
            at = row - HIGH - 1
            pen.write(" " * (AXIS + 2)).write("━━ ", TONES[at % len(TONES)]).write(self._names[at], "dim")

    def move(self, to: int) -> None:
        """The cursor stays on the runs."""
        if to < self._first and self.cursor <= self._first:
            self.scroll_to(y=0, animate=False)
        super().move(max(self._first, to))

    def action_pick(self) -> None:
        """Look at the run by itself."""
        at = self.cursor - self._first
        if 0 <= at < len(self.rows):
            self.post_message(TaskPicked(self.rows[at].view.job))
