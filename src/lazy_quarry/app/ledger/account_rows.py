"""The accounts as a tree: what each has left, how much of its budget that is, and when it ends; under an open one its members."""

from msgspec import Struct

from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.messages import Opened
from lazy_quarry.app.shared.opening_rows import OpeningRows
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.units import core_hours_cell
from lazy_quarry.wording.book_words import as_tree

SCARCE = 20
"""An account with less than one part in so many of its budget is nearly at its end."""


class AccountRow(Struct, frozen=True):
    """All accounts (neither), an account, or a member of an account."""

    line: AccountLine | None = None
    member: str = ""
    charged_core_ms: int = 0
    depth: int = 0
    """Number of accounts above it."""


class AccountHead(Lines):
    """The heading of the tree."""

    DEFAULT_CSS = "AccountHead { height: 2; }"

    def draw(self, row: int, pen: Pen) -> None:
        """Its lines."""
        if row == 0:
            pen.write(" ACCOUNTS", bold=True)
        else:
            pen.write("   ").cell("", 12).cell("left", 10, "dim", right=True).write("  of the budget", "dim")


class AccountRows(OpeningRows):
    """A row for all, for each account, and for each member of the open one."""

    DEFAULT_CSS = "AccountRows { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="ledger-rows")
        self.lines: tuple[AccountLine, ...] = ()
        self.mine: tuple[str, ...] = ()
        self.open = ""
        """The account whose members are shown."""
        self.members: tuple[tuple[str, int], ...] = ()
        self.ends: dict[str, str] = {}
        """By account: when its budget ends, in words."""
        self.rows: tuple[AccountRow, ...] = ()

    def show(self) -> None:
        """The rows may be others now."""
        rows = [AccountRow()]
        for depth, line in as_tree(self.lines):
            rows.append(AccountRow(line, depth=depth))
            if line.account == self.open:
                rows += [AccountRow(line, member, charged) for member, charged in self.members]
        self.rows = tuple(rows)
        self.refit()

    def current(self) -> AccountRow:
        """The account or member under the cursor."""
        return self.rows[self.cursor] if self.cursor < len(self.rows) else AccountRow()

    def row_count(self) -> int:
        """One for each."""
        return len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A name, what is left, a bar, and when it ends."""
        one = self.rows[row]
        line = one.line
        if line is None:
            pen.write("   all accounts", "ink" if not self.open else "dim", bold=current)
            return
        if one.member:
            pen.write("     ").cell(one.member, 10, "ink", bold=current)
            pen.cell(core_hours_cell(one.charged_core_ms), 10, "dim", right=True).write("  charged", "dim")
            return
        own, opened = line.account in self.mine, line.account == self.open
        pen.write(" ▾ " if opened else " ▪ " if own else "   ", "ochre")
        pen.cell(f"{'· ' * one.depth}{line.account}", 12, "ink" if own else "dim", bold=current or opened)
        if line.adding_up:
            pen.write("   being added up …", "dim")
            return
        if line.budget is None or line.left_core_ms is None:
            pen.cell("no limit", 10, "dim", right=True)
            return
        whole = max(1, line.budget.whole_core_ms)
        scarce = line.left_core_ms * SCARCE < whole
        pen.cell(core_hours_cell(line.left_core_ms), 10, "rust" if scarce else "moss", right=True, bold=scarce).write(
            "  "
        )
        running = min(line.running_under_core_ms, line.budget.used_core_ms)
        spent = min(whole, line.budget.used_core_ms - running)
        running = min(running, whole - spent)
        left = whole - spent - running
        parts = [(float(spent), "█", "stone"), (float(running), "█", "ochre"), (float(left), "░", "faint")]
        bar(pen, parts, 8, float(whole))
        if words := self.ends.get(line.account, ""):
            pen.write(f" {words}", "rust" if scarce else "dim")

    def clicked(self, row: int, column: int) -> None:
        """A click opens it."""
        super().clicked(row, column)
        self.post_message(Opened())
