"""Who and what was charged most in a period."""

from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.opening_rows import OpeningRows
from lazy_quarry.core.ledger.report import Report, ReportRow
from lazy_quarry.core.units import core_hours_cell


def bar_cells(width: int) -> int:
    """Cells of a row's bar at most."""
    return max(0, min(8, width - 46))


class RankingHead(Lines):
    """The heading of the ranking."""

    DEFAULT_CSS = "RankingHead { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="ranking-head")
        self.by = "name"

    def draw(self, row: int, pen: Pen) -> None:
        """Its lines."""
        if row == 0:
            pen.write(f" BY {self.by.upper()}", bold=True)
        else:
            pen.write("   ").cell("", 14).cell("charged", 10, "dim", right=True)
            pen.cell("", 1 + bar_cells(self.size.width)).cell("jobs", 7, "dim", right=True)
            pen.cell("not done", 10, "dim", right=True)


class RankingRows(OpeningRows):
    """A row for each value of the key, those charged most first; any opens to its jobs."""

    DEFAULT_CSS = "RankingRows { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="ranking")
        self.rows: tuple[ReportRow, ...] = ()

    def show(self, found: Report) -> None:
        """Another report."""
        self.rows = found.rows
        self.refit()

    def current(self) -> ReportRow | None:
        """The row under the cursor."""
        return self.rows[self.cursor] if self.cursor < len(self.rows) else None

    def row_count(self) -> int:
        """One for each."""
        return len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Its name, what it was charged, its part of the greatest, and its jobs."""
        one, most = self.rows[row], max(1, self.rows[0].sums.charged_core_ms)
        pen.write("   ").cell(" ".join(one.key), 14, bold=current)
        pen.cell(core_hours_cell(one.sums.charged_core_ms), 10, right=True).write(" ")
        charged, long = one.sums.charged_core_ms, bar_cells(self.size.width)
        bar(pen, [(float(charged), "█", "stone"), (float(most - charged), " ", "faint")], long, float(most))
        pen.cell(f"{one.sums.jobs:,}", 7, right=True)
        pen.cell(
            f"{one.sums.failed:,}" if one.sums.failed else "·", 10, "rust" if one.sums.failed else "dim", right=True
        )
