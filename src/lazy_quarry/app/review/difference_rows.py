"""Differences between runs: in what went in, and in what came of it."""

from collections.abc import Sequence

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.site.run_comparison import Difference

HEAD, NAME = 6, 19


class DifferenceRows(Rows):
    """A heading, the runs, and a row for each thing that differs; lines of scripts below."""

    DEFAULT_CSS = "DifferenceRows { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="differences")
        self.labels: Sequence[str] = ()
        self.found: Sequence[Difference] = ()
        self.told = ""
        self._lines: list[str] = []
        self._told: list[str] = []

    def show(self, labels: Sequence[str], found: Sequence[Difference], told: str) -> None:
        """These runs; ``told`` says how they were chosen, or what is wrong."""
        self.labels, self.found, self.told = labels, found, told
        self._lines = [line for one in found for line in one.lines]
        self._told = wrap(told, max(20, self.room - 6), HEAD - 2)
        self.cursor = 0
        self.refit()

    def row_count(self) -> int:
        """All lines."""
        return HEAD + len(self.found) + (2 + len(self._lines) if self._lines else 0)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line."""
        each = max(8, (self.room - NAME - 2) // max(1, len(self.labels)) - 1)
        if row == 0:
            pen.write(" WHAT DIFFERS", bold=True)
        elif row < HEAD - 1:
            pen.write(f"   {self._told[row - 1]}" if row - 1 < len(self._told) else "", "dim")
        elif row == HEAD - 1:
            pen.cell("", NAME)
            for label in self.labels:
                pen.cell(label, each, "ochre").write(" ")
        elif HEAD <= row < HEAD + len(self.found):
            one = self.found[row - HEAD]
            pen.cell(f"   {one.what}", NAME, "dim")
            for value in one.values:
                pen.cell(value, each, "ink" if value != one.values[0] or value == "as the first" else "dim").write(" ")
        elif self._lines and row == HEAD + len(self.found) + 1:
            pen.write(" THE SCRIPTS", bold=True)
        elif self._lines and row > HEAD + len(self.found) + 1:
            line = self._lines[row - HEAD - len(self.found) - 2]
            colour = {"+": "moss", "-": "rust", "@": "river"}.get(line[:1], "dim")
            pen.write(f"   {line}", colour)
