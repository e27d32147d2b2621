"""Ledger: what each account was charged, and what it has left."""

from lazy_quarry.app.cells import Pen, bar
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.places.place import Place
from lazy_quarry.app.widgets.drawing import Lines, Rows
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.site.board import Board


class LedgerHead(Lines):
    """The heading of the columns."""

    DEFAULT_CSS = "LedgerHead { height: 3; }"

    def draw(self, row: int, pen: Pen) -> None:
        """Its lines."""
        if row == 1:
            pen.write(" ACCOUNTS", bold=True).write("   core-hours, from the books' beginning to this moment", "dim")
        elif row == 2:
            pen.write("   ").cell("account", 16, "dim").cell("charged", 12, "dim", right=True)
            pen.cell("running", 12, "dim", right=True).cell("budget", 12, "dim", right=True)
            pen.cell("left", 12, "dim", right=True).cell("jobs", 9, "dim", right=True)
            pen.cell("failed", 9, "dim", right=True).write("   spent of the budget", "dim")


class LedgerRows(Rows):
    """A row an account."""

    DEFAULT_CSS = "LedgerRows { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="ledger-rows")
        self.lines: tuple[AccountLine, ...] = ()
        self.mine: tuple[str, ...] = ()

    def row_count(self) -> int:
        """One for each account."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Name, figures, and a bar of the budget."""
        line = self.lines[row]
        own = line.account in self.mine
        pen.write(" ▪ " if own else "   ", "ochre").cell(line.account, 16, "ink" if own else "dim", bold=current)
        if line.adding_up:
            pen.write("   being added up …", "dim")
            return
        pen.cell(format_core_hours(line.charged_core_ms), 12, right=True)
        running = format_core_hours(line.running_core_ms) if line.running_core_ms else "·"
        pen.cell(running, 12, "ochre" if line.running_core_ms else "dim", right=True)
        if line.budget_core_ms is None or line.left_core_ms is None:
            pen.cell("no limit", 12, "dim", right=True).cell("·", 12, "dim", right=True)
        else:
            pen.cell(format_core_hours(line.budget_core_ms), 12, right=True)
            scarce = line.left_core_ms * 20 < line.budget_core_ms
            pen.cell(format_core_hours(line.left_core_ms), 12, "rust" if scarce else "moss", right=True, bold=scarce)
        pen.cell(f"{line.jobs:,}", 9, right=True).cell(f"{line.failed:,}", 9, "dim", right=True)
        room = self.room - pen.at - 12
        if line.budget_core_ms and room >= 10:
            spent = min(line.budget_core_ms, line.charged_core_ms)
            running_part = min(line.running_core_ms, line.budget_core_ms - spent)
            pen.write("   ")
            parts = [(spent, "█", "stone"), (running_part, "█", "ochre")]
            parts.append((line.budget_core_ms - spent - running_part, "░", "faint"))
            bar(pen, [(float(amount), sign, colour) for amount, sign, colour in parts], room, line.budget_core_ms)
            pen.write(f" {100 * (spent + running_part) / line.budget_core_ms:.0f}%", "dim")


class LedgerPlace(Place):
    """The accounts with their books."""

    def compose(self):  # type: ignore[no-untyped-def]
        """Heading and rows."""
        yield LedgerHead()
        yield LedgerRows()

    def show(self, board: Board) -> None:
        """New figures."""
        super().show(board)
        rows = self.query_one(LedgerRows)
        rows.lines, rows.mine = board.accounts, board.person.accounts
        rows.refit()

    def arrive(self) -> None:
        """Keys go to the rows."""
        self.query_one(LedgerRows).focus()

    def note(self) -> str:
        """The account under the cursor in a sentence."""
        rows = self.query_one(LedgerRows)
        if not rows.lines:
            return ""
        line = rows.lines[rows.cursor]
        if line.adding_up:
            return f"What {line.account} was charged for is being added up."
        words = f"{line.account} was charged {format_core_hours(line.charged_core_ms)} core-hours for {plural(line.jobs, 'job')}"
        if line.running_core_ms:
            words += f", and {format_core_hours(line.running_core_ms)} so far for those that run"
        if line.left_core_ms is None:
            return f"{words}. It has no limit."
        return f"{words}. {format_core_hours(line.left_core_ms)} of its {format_core_hours(line.budget_core_ms or 0)} are left."

    def keys(self) -> list[KeyHint]:
        """There is little to do here yet."""
        return [("↑↓", "account", ""), ("4", "watch", "app.go('watch')"), ("5", "review", "app.go('review')")]
