"""The rest of a budget, from the last weeks to its end: as it was, and the bounds between which it will be."""

from lazy_quarry.app.ledger.amount_scale import AmountScale
from lazy_quarry.app.ledger.use_columns import SCALE
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.left import left_over_time, range_then
from lazy_quarry.core.ledger.report import OverTime
from lazy_quarry.core.units import DAY_MS, format_core_hours
from lazy_quarry.wording.book_words import end_day

LONGEST_DAYS = 730


class BudgetColumns(Lines):
    """A column for each few days; behind the present what is left 8 times in 10, and most likely."""

    DEFAULT_CSS = "BudgetColumns { height: 1fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="budget-columns")
        self.line: AccountLine | None = None
        self.end: BudgetEnd | None = None
        self.points: list[tuple[int, int]] = []
        self.now_ms = 0

    def show(self, line: AccountLine | None, past: OverTime | None, end: BudgetEnd | None, now_ms: int) -> None:
        """Another budget."""
        self.line, self.end, self.now_ms = line, end, now_ms
        self.points = left_over_time(line, past, now_ms) if line is not None and past is not None else []
        self.refresh()

    def _until_ms(self) -> int:
        assert self.line is not None and self.line.budget is not None
        days = 30.0
        if self.end is not None and self.end.likely_days is not None:
            days = min(LONGEST_DAYS, 1.05 * (self.end.late_days or 1.5 * self.end.likely_days))
        return min(self.now_ms + round(days * DAY_MS), self.line.budget.term.end_ms)

    def draw(self, row: int, pen: Pen) -> None:
        """The heading, the columns, their dates, and what the signs mean."""
        line, height = self.line, self.size.height
        if row == 0:
            pen.write(" BUDGET", bold=True)
            if line is not None:
                pen.write(f"   core-hours left of {line.account}", "dim")
            return
        if line is None or line.budget is None or not self.points:
            pen.write("   it has no budget" if row == 2 and line is not None else "", "dim")
            return
        if height < 6:
            return
        tall = height - 4
        if row == height - 1:
            pen.write(" " * SCALE).write("█", "stone").write(" left  ", "dim")
            if self.end is not None:
                pen.write("▒", "river").write(" likely  ", "dim").write("░", "dim").write(" 8 times in 10", "dim")
        elif row == height - 2:
            self._dates(pen)
        elif 1 <= row <= tall:
            self._columns(pen, line, row - 1, tall)

    def _span(self) -> tuple[int, int, int]:
        """The first and last instants, and the cells between them."""
        return self.points[0][0], max(self._until_ms(), self.now_ms + DAY_MS), max(10, self.size.width - SCALE - 1)

    def _columns(self, pen: Pen, line: AccountLine, number: int, tall: int) -> None:
        first, last, wide = self._span()
        scale, row = AmountScale.of(max(1, *(left for _, left in self.points)), tall), tall - number
        mark, middle = scale.mark(row), (scale.edge(row - 1) + scale.edge(row)) / 2
        pen.cell(f"{format_core_hours(round(mark))} " if mark else "", SCALE, "dim", right=True)
        for column in range(wide):
            at = first + (last - first) * (2 * column + 1) // (2 * wide)
            sign, tone = ("┈", "faint") if mark else (" ", "faint")
            if at <= self.now_ms:
                left = next((left for begin, left in reversed(self.points) if begin <= at), self.points[0][1])
                if middle < left:
                    sign, tone = "█", "stone"
            elif self.end is not None and line.left_core_ms is not None:
                _, likely, late = range_then(line.left_core_ms, self.end, at - self.now_ms)
                early = range_then(line.left_core_ms, self.end, at - self.now_ms)[0]
                if middle < likely:
                    sign, tone = "▒", "river" if middle < early else "dim"
                elif middle < late:
                    sign, tone = "░", "dim"
            pen.write(sign, tone)

    def _dates(self, pen: Pen) -> None:
        first, last, wide = self._span()
        pen.write(" " * SCALE)
        now = round((self.now_ms - first) / (last - first) * wide)
        told = end_day((last - self.now_ms) / DAY_MS, self.now_ms)
        begin = end_day((first - self.now_ms) / DAY_MS, self.now_ms)
        for column, name in ((0, begin), (now, "now"), (wide - len(told), told)):
            if pen.at <= SCALE + column:
                pen.to(SCALE + column).write(f"{name} ", "ink" if name == "now" else "dim")
