"""Changes of an account as they are typed in Ledger: core-hours granted or moved, members added or removed."""

import re
from typing import TYPE_CHECKING

from msgspec import Struct

from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import HOUR_MS, format_core_hours
from lazy_quarry.errors import BadValue

if TYPE_CHECKING:
    from collections.abc import Sequence

    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.outcomes import Outcome

HOW = '"grant 500 the winter storms", "move 200 to silt for the survey", "add noor" or "remove noor"'


class AccountChange(Struct, frozen=True):
    """A change of one account: core-ms that it is given (taken from it where negative) or gives to another, or a member."""

    account: str
    what: str
    """``grant``, ``move``, ``add`` or ``remove``."""
    core_ms: int = 0
    other: str = ""
    """The account that gets them, or the member."""
    why: str = ""

    def made(self, client: "SiteClient") -> "Outcome":
        """Make it; returns what became of it."""
        if self.what == "grant":
            return client.grant(self.account, self.core_ms, self.why)
        if self.what == "move":
            return client.move(self.account, self.other, self.core_ms, self.why)
        add, remove = ([self.other], []) if self.what == "add" else ([], [self.other])
        return client.members(self.account, add, remove)[0]


def parse_change(text: str, account: str) -> AccountChange:
    """A change of an account in words. Raises :class:`BadValue` for what is none."""
    words = " ".join(text.split())
    if match := re.fullmatch(r"(add|remove) (\S+)", words):
        return AccountChange(account, match[1], other=match[2])
    if match := re.fullmatch(r"(grant|move) (\S+)(?: to (\S+))?(.*)", words):
        what, hours, other, why = match[1], match[2].rstrip(":,"), match[3] or "", match[4].strip(" ,:")
        try:
            core_ms = round(float(hours.replace(",", "").replace("−", "-")) * HOUR_MS)
        except (ValueError, OverflowError):
            raise BadValue(f'"{shortened(hours)}" is no number of core-hours; write {HOW}') from None
        if what == "grant" and other:
            why, other = f"to {other} {why}".strip(), ""
        if what == "move" and not other:
            raise BadValue("say to which account they move: move 200 to silt for the survey")
        if not why:
            raise BadValue(f"say why, for it stands in the books: {words} the winter storms")
        return AccountChange(account, what, core_ms, other, why)
    raise BadValue(f"write {HOW}")


def change_question(change: AccountChange, lines: "Sequence[AccountLine]") -> str:
    """Ask for a change, with its outcome: what each account has left then."""
    left = {line.account: line.left_core_ms for line in lines}

    def then(account: str, more: int) -> str:
        known = left.get(account)
        return (
            f"{account} then has {format_core_hours(known + more)} left"
            if known is not None
            else f"{account} has no limit"
        )

    hours, amount = format_core_hours(abs(change.core_ms)), change.core_ms
    if change.what == "grant" and amount < 0:
        return f"Take {hours} core-hours from {change.account}: {change.why}? {then(change.account, amount)}."
    if change.what == "grant":
        return f"Grant {hours} core-hours to {change.account}: {change.why}? {then(change.account, amount)}."
    if change.what == "move":
        moved = f"Move {hours} core-hours from {change.account} to {change.other}: {change.why}?"
        return f"{moved} {then(change.account, -amount)}; {then(change.other, amount)}."
    if change.what == "add":
        return f"Add {change.other} to {change.account}? Jobs of {change.other} may then be charged to it."
    return f"Remove {change.other} from {change.account}? New jobs of {change.other} can't be charged to it then."
