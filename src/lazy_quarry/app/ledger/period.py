"""The period that Ledger shows, and what is typed there: a period, or a change of an account."""

from functools import partial
from typing import TYPE_CHECKING

from textual import work
from textual.app import ComposeResult
from textual.widgets import Input

from lazy_quarry.app.ledger.account_change import HOW as HOW_TO_CHANGE
from lazy_quarry.app.ledger.account_change import AccountChange, change_question, parse_change
from lazy_quarry.app.ledger.account_rows import AccountRows
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.ledger.period import HOW, Period, parse_period
from lazy_quarry.core.ledger.report import OverTime, Report
from lazy_quarry.errors import BadValue, QuarryError

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

FIRST = "last 30 days"


class PeriodLine(Lines):
    """The period, with what is chosen."""

    DEFAULT_CSS = "PeriodLine { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="period")
        self.words, self.chosen, self.total = FIRST, "", ""

    def draw(self, row: int, pen: Pen) -> None:
        """It is the first line; the second is empty."""
        if row == 0:
            pen.write(" ‹ ", "ochre", hit="app.place_action('move(-1)')").write(self.words, bold=True)
            pen.write(" › ", "ochre", hit="app.place_action('move(1)')")
            pen.write(f"  {self.chosen}" if self.chosen else "", "ochre").write(f"   {self.total}", "dim")


class LedgerPeriod(Place):
    """Moves, widens and types the period, and types changes of accounts."""

    BINDINGS = [
        bound("left", "move(-1)", "an earlier period of the same length"),
        bound("right", "move(1)", "a later period of the same length"),
        bound("shorter", "widen(-1)", "a shorter period"),
        bound("longer", "widen(1)", "a longer period"),
        bound("now", "now", "the last 30 days again"),
        bound("find", "type_period", "type a period in words: last month, since Monday, March 2026"),
        bound("change", "change", "grant or move core-hours of an account, add or remove members, after asking"),
    ]
    words = FIRST
    found: Report | None = None
    over: OverTime | None = None
    _changing = ""
    """The account that is being changed."""

    def asked(self) -> ComposeResult:
        """The line of the period, and those to type in."""
        yield PeriodLine()
        yield Typed(placeholder=HOW, id="asked-period")
        yield Typed(placeholder=HOW_TO_CHANGE, id="asked-change")
        yield Typed(placeholder="an address for mail", id="asked-address")

    def _read_new(self) -> None:
        raise NotImplementedError

    def _period(self) -> Period | None:
        return self.found.period if self.found is not None else None

    def _take_period(self, period: Period) -> None:
        self.words = f"{period.first} to {period.last}"
        self._read_new()

    def action_move(self, by: int) -> None:
        """An earlier or later period of the same length."""
        if period := self._period():
            self._take_period(period.moved(by))

    def action_widen(self, by: int) -> None:
        """A longer or shorter period."""
        if period := self._period():
            self._take_period(period.widened(by))

    def action_now(self) -> None:
        """The last 30 days again."""
        if self.words == FIRST:
            self._say("These are the last 30 days already.")
        self.words = FIRST
        self._read_new()

    def action_type_period(self) -> None:
        """Type a period."""
        self._ask("#asked-period", f"A period in words: {HOW}.")

    def action_change(self) -> None:
        """Type what is to change of the account under the cursor."""
        line = self.query_one(AccountRows).current().line
        if line is None:
            self._say("Go to an account first.")
            return
        if why := self._may_not(line.account):
            self._say(why, bad=True)
            return
        self._changing = line.account
        self._ask("#asked-change", f"What is to change of {line.account}: {HOW_TO_CHANGE}.")

    def _may_not(self, account: str, what: str = "") -> str:
        """Why this person may not do something to an account, or nothing at all; empty where they may."""
        person = self.board.person if self.board is not None else None
        if person is None or person.operator or (what != "grant" and account in person.answers_for):
            return ""
        if what == "grant":
            return f"Only who runs the site may grant core-hours to {account}; whoever answers for an account may move its own."
        return f"Only who answers for {account}, or runs the site, may change it; you are neither."

    def _given_address(self, to: str) -> None:
        raise NotImplementedError

    def _ask(self, asked: str, words: str) -> None:
        line = self.query_one(asked, Typed)
        line.value, line.display = "", True
        self.screen.set_focus(line)
        self._say(words)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """A period or a change was typed."""
        event.stop()
        event.input.display = False
        self.query_one(AccountRows).focus()
        if not event.value.strip() or self.board is None or self.quarry.client is None:
            return
        if event.input.id == "asked-address":
            self._given_address(event.value.strip())
            return
        try:
            if event.input.id == "asked-change":
                self._ask_change(parse_change(event.value, self._changing))
                return
            parse_period(event.value, self.board.now_ms)
        except BadValue as fault:
            self._say(str(fault), bad=True)
            return
        self.words = event.value
        self._read_new()

    def _ask_change(self, change: AccountChange) -> None:
        """Say what it would come to, and ask; what one may not do is said at once."""
        assert self.board is not None and self.quarry.client is not None
        if why := self._may_not(change.account, change.what):
            self._say(why, bad=True)
            return
        then = partial(self._change, self.quarry.client, change)
        self.quarry.ask(change_question(change, self.board.accounts), then, yes="Do it", no="Leave it")

    @work(thread=True, group="account")
    def _change(self, client: "SiteClient", change: AccountChange) -> None:
        try:
            outcome = change.made(client)
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault), True)
            return
        self.quarry.hand_over(self._say, outcome.message, not outcome.done)

    def action_part(self, place: int) -> None:
        """The period of one of the columns."""
        if self.over is not None and place < len(self.over.parts):
            self._take_period(self.over.parts[place])
