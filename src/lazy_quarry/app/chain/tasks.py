"""The tasks of an array beside the graph, as they will run: parameters, command, files; those that clash are marked."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.units import plural
from lazy_quarry.views.expanded import Expanded

EACH = 2
"""Lines of a task."""


class ChainTasks(Rows):
    """Two lines a task, below a heading; made when they are looked at, so that a million cost no wait."""

    DEFAULT_CSS = (
        "ChainTasks { width: 42; height: 2fr; border-right: solid $faint; border-top: solid $faint; display: none; }"
    )
    has_cursor = False
    can_focus = False

    def __init__(self) -> None:
        super().__init__(id="chain-tasks")
        self.expanded: Expanded | None = None
        self.found: Expansion | None = None
        self.clashing = set[int]()
        self.why = ""

    def show(self, expanded: Expanded | None, why: str = "") -> None:
        """Another array; None for none, and perhaps why there is nothing to show."""
        self.why = why
        if expanded is not self.expanded:
            self.expanded = expanded
            self.found = None
            if expanded is not None:
                self.found = Expansion(expanded.request, expanded.commands, expanded.written, expanded.job)
            self.clashing = self.found.clashing() if self.found is not None else set()
            self.scroll_to(y=0, animate=False)
        self.display = expanded is not None or bool(why)
        self.refit()

    def row_count(self) -> int:
        """Heading and tasks."""
        return 1 if self.found is None else 1 + EACH * len(self.found)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, or a line of a task."""
        if self.found is None:
            pen.write(f" {self.why}", "dim")
            return
        if row == 0:
            pen.write(" TASKS", "ink", bold=True).write(f"  {plural(len(self.found), 'task')}", "dim")
            if self.clashing:
                pen.write(f"  ✕ {len(self.clashing):,} clash", "rust")
            pen.write("  f3 opens", "dim")
            return
        task = self.found.task((row - 1) // EACH)
        bad = task.number in self.clashing
        if (row - 1) % EACH == 0:
            values = " ".join(f"{name}={value}" for name, value in task.parameters)
            pen.cell(f"{'✕' if bad else ' '}{task.number}", 6, "rust" if bad else "dim")
            pen.write(values or task.output, "ink")
        else:
            pen.write("      ").write(task.command or "as its script says", "dim")
            if task.writes:
                pen.write(" → ", "faint").write(" ".join(task.writes), "dim")
