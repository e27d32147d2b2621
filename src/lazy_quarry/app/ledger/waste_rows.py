"""Requests that were not used: the names with most to win, and what the advice would have saved of it."""

from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.opening_rows import OpeningRows
from lazy_quarry.core.ledger.report import Waste, WasteRow
from lazy_quarry.core.units import core_hours_cell, format_core_hours


class WasteHead(Lines):
    """The heading, with what became of all that was asked for."""

    DEFAULT_CSS = "WasteHead { height: 3; }"

    def __init__(self) -> None:
        super().__init__(id="waste-head")
        self.found: Waste | None = None

    def show(self, found: Waste) -> None:
        """Another period."""
        self.found = found
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Its lines."""
        if row == 0:
            pen.write(" REQUESTED AND NOT USED", bold=True).write("   core-hours", "dim")
        elif row == 1 and self.found is not None:
            total = self.found.total
            asked = max(1, total.asked_core_ms)
            pen.write(
                f"   of {format_core_hours(total.asked_core_ms)} requested {total.used_core_ms / asked:.0%} were used",
                "dim",
            )
        elif row == 2:
            pen.write("   ").cell("", 13).cell("requested", 9, "dim", right=True).cell("used", 9, "dim", right=True)
            pen.write("  ").cell("as advised", 12, "dim", right=True)


class WasteRows(OpeningRows):
    """A row for each name and user; any opens to its jobs."""

    DEFAULT_CSS = "WasteRows { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="waste")
        self.rows: tuple[WasteRow, ...] = ()

    def show(self, found: Waste) -> None:
        """Another period."""
        self.rows = found.rows
        self.refit()

    def current(self) -> WasteRow | None:
        """The row under the cursor."""
        return self.rows[self.cursor] if self.cursor < len(self.rows) else None

    def row_count(self) -> int:
        """One for each."""
        return len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Its name, what it asked for and used, and how much less it would have asked for."""
        one, most = self.rows[row], max(1, self.rows[0].sums.asked_core_ms)
        sums = one.sums
        pen.write("   ").cell(one.name, 13, bold=current)
        pen.cell(core_hours_cell(sums.asked_core_ms), 9, right=True)
        pen.cell(core_hours_cell(sums.used_core_ms), 9, right=True).write("  ")
        less = f"{core_hours_cell(one.advised_core_ms)} less" if one.advised_core_ms else "·"
        pen.cell(less, 12, "moss" if one.advised_core_ms else "dim", right=True).write(" ")
        used = float(sums.used_core_ms)
        rest = max(0.0, float(sums.asked_core_ms) - used)
        long = max(0, min(6, self.size.width - 50))
        bar(pen, [(used, "█", "moss"), (rest, "░", "stone")], long, float(most))
