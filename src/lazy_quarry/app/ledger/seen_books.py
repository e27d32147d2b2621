"""The books as Ledger shows them: the period, what is chosen in it, and the answers about that, which its features share."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.period import Period
from lazy_quarry.core.ledger.report import OverTime, Report, ShareLine

FIRST = "last 30 days"
STILL = "The books are still being read."


class SeenBooks(Struct):
    """The question that the books are asked, and the last answers."""

    words: str = FIRST
    """The period, in words."""
    split: str = "account"
    by: str = "name"
    """The key of the ranking."""
    account: str = ""
    user: str = ""
    found: Report | None = None
    over: OverTime | None = None
    past: OverTime | None = None
    """Late charges of the open account."""
    ends: Mapping[str, BudgetEnd] = field(default_factory=dict)
    shares: Mapping[str, ShareLine] = field(default_factory=dict)

    @property
    def where(self) -> dict[str, str]:
        """The choice: an account, a user, both or neither."""
        return {name: value for name, value in (("account", self.account), ("user", self.user)) if value}

    @property
    def period(self) -> Period | None:
        """The period of the last answer; None before there is one."""
        return self.found.period if self.found is not None else None
