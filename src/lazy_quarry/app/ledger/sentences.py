"""The sentences of Ledger about what is under its cursor."""

from collections.abc import Mapping

from lazy_quarry.app.ledger.account_rows import AccountRow
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.report import ReportRow, ShareLine, Sums, WasteRow
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.views.board import Board
from lazy_quarry.wording.book_words import advised_words, end_day, end_words, outlasts, share_words

FAR_DAYS = 730
"""Days after which a budget's end is said to be far: it lasts."""


def ends_of(board: Board | None, ends: Mapping[str, BudgetEnd]) -> dict[str, str]:
    """When the budgets of accounts end, in a word or two each."""
    found = dict[str, str]()
    for line in board.accounts if board is not None else ():
        if line.left_core_ms is None or board is None:
            continue
        end = ends.get(line.account)
        far = end is None or end.likely_days is None or end.likely_days > FAR_DAYS
        far = far or (end is not None and outlasts(end, line, board.now_ms))
        found[line.account] = "enough" if far or end is None else f"ends {end_day(end.likely_days, board.now_ms)}"
    return found


def ranked_note(row: ReportRow) -> str:
    """Describe a ranked row: its charge, and where what it held went."""
    charged = f"{format_core_hours(row.sums.charged_core_ms)} core-hours charged for {plural(row.sums.jobs, 'job')}"
    return f"{' '.join(row.key)}: {charged}; of what they held {_went(row.sums)}. enter shows its jobs in Review."


def waste_note(row: WasteRow, mine: str) -> str:
    """Describe a name that did not use what it asked for, and what the advice would have changed. ``mine`` is this user."""
    asked = (
        f"{plural(row.sums.jobs, 'job')} of {row.user} requested {format_core_hours(row.sums.asked_core_ms)} core-hours"
    )
    less = advised_words(row, mine)
    advised = f" They would have requested {less}." if less else ""
    return f"{row.name}: {asked}; of what they held {_went(row.sums)}.{advised} enter shows them in Review."


def account_note(row: AccountRow, share: ShareLine | None, end: BudgetEnd | None, now_ms: int) -> str:
    """Describe an account: its share, the rest of its budget, and when that ends; or a member: their charge."""
    line = row.line
    if line is None:
        return "All accounts together. enter on one shows it alone, with its members."
    if row.member:
        return f"{row.member} was charged {format_core_hours(row.charged_core_ms)} core-hours on {line.account} in this time."
    if line.adding_up:
        return f"What {line.account} was charged for is being added up."
    charged = f"was charged {format_core_hours(line.charged_core_ms)} core-hours for {plural(line.jobs, 'job')}"
    if share is not None and share.target > 0:
        charged += f"; {share_words(share)}"
    if line.left_core_ms is None:
        return f"{line.account} {charged}. It has no limit."
    # What is left comes first: where there is little room, the end of the note is cut.
    left = f"{format_core_hours(line.left_core_ms)} of its {format_core_hours(line.budget_core_ms or 0)} are left"
    return f"{line.account}: {left}{f'; {end_words(end, line, now_ms)}' if end is not None else ''}. It {charged}."


def _went(sums: Sums) -> str:
    """Where what was held went, as parts of it."""
    held = max(1, sums.held_core_ms)
    parts = (("used", sums.used_core_ms), ("idle", sums.idle_core_ms), ("lost", sums.lost_core_ms))
    return ", ".join(f"{amount / held:.0%} was {word}" for word, amount in parts)
