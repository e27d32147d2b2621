"""The list in which columns of jobs are chosen, and their widths."""

from textual.message import Message

from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.job_columns import COLUMNS


class ColumnsTaken(Message):
    """Other columns, or other widths."""

    def __init__(self, widths: dict[str, int]) -> None:
        super().__init__()
        self.widths = widths


class ColumnList(Rows):
    """Every column there is: enter takes it in or out, ← and → make it narrower or wider."""

    DEFAULT_CSS = "ColumnList { height: 1fr; }"
    BINDINGS = [
        bound("open", "take", "in or out"),
        bound("left", "widen(-1)", "narrower"),
        bound("right", "widen(1)", "wider"),
    ]

    def __init__(self) -> None:
        super().__init__(id="columns")
        self.widths: dict[str, int] = {}

    def show(self, widths: dict[str, int]) -> None:
        """Mark the columns that are shown now, with their widths."""
        self.widths = widths
        self.refit()

    def row_count(self) -> int:
        """All columns."""
        return len(COLUMNS)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Its mark, name and width."""
        column = list(COLUMNS.values())[row]
        shown = column.title in self.widths
        pen.write(" ▸ " if current else "   ", "ochre").write("▪ " if shown else "· ", "ochre" if shown else "faint")
        pen.cell(column.title, 12, "ink" if shown else "dim", bold=current)
        if shown:
            pen.write("─" * self.widths[column.title], "faint").write(f" {self.widths[column.title]}", "dim")

    def action_take(self) -> None:
        """Show it or not."""
        column = list(COLUMNS.values())[self.cursor]
        if column.title in self.widths:
            self.widths = {name: width for name, width in self.widths.items() if name != column.title}
        else:
            self.widths = {**self.widths, column.title: column.cells}
        self._taken()

    def action_widen(self, by: int) -> None:
        """A cell more or less."""
        column = list(COLUMNS.values())[self.cursor]
        if column.title in self.widths:
            self.widths = {**self.widths, column.title: max(4, min(60, self.widths[column.title] + by))}
            self._taken()

    def _taken(self) -> None:
        self.refresh()
        self.post_message(ColumnsTaken(dict(self.widths)))
