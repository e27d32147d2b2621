"""Ledger: what was used in a period, by whom, on whose account, and how long it will last."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.figures_of import Offer, ledger_figures
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.messages import CursorMoved, Opened, SearchRuns
from lazy_quarry.app.places.account_change import HOW as HOW_TO_CHANGE
from lazy_quarry.app.places.account_change import AccountChange, parse_change
from lazy_quarry.app.places.ledger_sentences import account_note, ends_of, ranked_note, waste_note
from lazy_quarry.app.places.place import Place
from lazy_quarry.app.widgets.account_rows import AccountHead, AccountRows
from lazy_quarry.app.widgets.drawing import Lines
from lazy_quarry.app.widgets.panes.typed_line import Typed
from lazy_quarry.app.widgets.ranking_rows import RankingHead, RankingRows
from lazy_quarry.app.widgets.use_columns import UseColumns, WentLines
from lazy_quarry.app.widgets.waste_rows import WasteHead, WasteRows
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.period import HOW, Period, parse_period
from lazy_quarry.core.ledger.report import OverTime, Report, ReportRow, ShareLine, Waste
from lazy_quarry.core.units import format_core_hours
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.site.board import Board
from lazy_quarry.site.book_words import change_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

FIRST = "last 30 days"
PAST = "last 60 days"
SPLITS = ("account", "user", "queue", "tier", "name")


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


class LedgerPlace(Place):
    """Accounts on the left, use over time and where it went in the middle, who and what on the right."""

    DEFAULT_CSS = """
    LedgerPlace { padding-top: 1; }
    LedgerPlace #asked-period, LedgerPlace #asked-change { display: none; }
    LedgerPlace #accounts { width: 50; height: 1fr; border-right: solid $faint; }
    LedgerPlace #use { width: 1fr; height: 1fr; }
    LedgerPlace #who { width: 56; height: 1fr; border-left: solid $faint; }
    LedgerPlace.-narrow #sides { layout: vertical; width: 1fr; }
    LedgerPlace.-narrow #who { width: 1fr; height: 6; border-left: none; }
    LedgerPlace #sides { width: 1fr; height: 1fr; }
    LedgerPlace WasteHead, LedgerPlace WasteRows { display: none; }
    LedgerPlace.-wasted WasteHead, LedgerPlace.-wasted WasteRows { display: block; }
    LedgerPlace.-wasted RankingHead, LedgerPlace.-wasted RankingRows { display: none; }
    """
    BINDINGS = [
        Binding("left", "move(-1)", "earlier"),
        Binding("right", "move(1)", "later"),
        Binding("left_square_bracket", "widen(-1)", "a shorter period"),
        Binding("right_square_bracket", "widen(1)", "a longer period"),
        Binding("n", "now", "the last 30 days again"),
        Binding("t", "type_period", "a period in words"),
        Binding("s", "split", "split the columns by another key"),
        Binding("g", "rank", "rank by another key"),
        Binding("a", "change", "grant or move core-hours, add or remove members"),
        Binding("w", "waste", "what was asked for and not used"),
        Binding("tab", "side", "other side", priority=True),
        Binding("escape", "all", "all accounts"),
    ]

    words = FIRST
    split, by = "account", "name"
    account = user = ""
    _changing = ""
    """The account that is being changed."""
    wasted = False
    """Whether the right shows what was not used."""
    found: Report | None = None
    ends: Mapping[str, BudgetEnd] = MappingProxyType({})
    over: OverTime | None = None
    past: OverTime | None = None
    """What the open account was charged lately."""
    shares: Mapping[str, ShareLine] = MappingProxyType({})
    _known: tuple[object, ...] = ()
    """What the figures are of; they are read again when it changes."""

    def compose(self):  # type: ignore[no-untyped-def]
        """The period over three parts."""
        yield PeriodLine()
        yield Typed(placeholder=HOW, id="asked-period")
        yield Typed(placeholder=HOW_TO_CHANGE, id="asked-change")
        with Horizontal():
            with Vertical(id="accounts"):
                yield AccountHead()
                yield AccountRows()
            with Horizontal(id="sides"):
                with Vertical(id="use"):
                    yield UseColumns()
                    yield WentLines()
                with Vertical(id="who"):
                    yield RankingHead()
                    yield RankingRows()
                    yield WasteHead()
                    yield WasteRows()

    def show(self, board: Board) -> None:
        """New books, and what follows from them when something has ended."""
        super().show(board)
        rows = self.query_one(AccountRows)
        rows.lines, rows.mine = board.accounts, board.person.accounts
        rows.show()
        self._read_new()

    def arrive(self) -> None:
        """Keys go to the accounts."""
        self.query_one(AccountRows).focus()

    # -- reading -----------------------------------------------------------------------------------

    @property
    def _where(self) -> dict[str, str]:
        return {name: value for name, value in (("account", self.account), ("user", self.user)) if value}

    def _read_new(self) -> None:
        if self.board is None or self.quarry.client is None:
            return
        ended = sum(line.jobs for line in self.board.accounts)
        adding = any(line.adding_up for line in self.board.accounts)
        day = self.board.now_ms // 86_400_000
        known = (ended, adding, day, self.words, self.split, self.by, self.account, self.user)
        if known != self._known:
            self._known = known
            self._read(self.quarry.client, self.words, self.split, self.by, self._where)

    @work(thread=True, exclusive=True, group="ledger")
    def _read(self, client: "SiteClient", words: str, split: str, by: str, where: dict[str, str]) -> None:
        try:
            found = client.report(words, [by], where, False)
            over = client.over_time(words, split, where)
            ends = client.budget_ends()
            past = client.over_time(PAST, "account", {"account": self.account}) if self.account else None
            members = client.report(words, ["user"], {"account": self.account}, False) if self.account else None
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault), True)
            return
        self.quarry.hand_over(self._take, found, over, (ends, past), members)
        try:
            self.quarry.hand_over(self._take_waste, client.waste(words, where), client.shares())
            whole = client.report(words, [by], where)  # waits are read job by job, which takes longer
        except QuarryError:
            return
        self.quarry.hand_over(self._take_waits, whole)

    def _take_waste(self, waste: Waste, shares: tuple[ShareLine, ...]) -> None:
        self.shares = {line.account: line for line in shares}
        self.query_one(WasteHead).show(waste)
        self.query_one(WasteRows).show(waste)
        self.quarry.tell()

    def _take_waits(self, found: Report) -> None:
        if self.found is not None and (found.period, found.by, found.where) == (
            self.found.period,
            self.found.by,
            self.found.where,
        ):
            self.found = found
            self.query_one(WentLines).show(found)

    def _take(
        self,
        found: Report,
        over: OverTime,
        budgets: tuple[dict[str, BudgetEnd], OverTime | None],
        members: Report | None,
    ) -> None:
        self.found, self.over = found, over
        ends, self.past = budgets
        self.query_one(UseColumns).show(over)
        self.query_one(WentLines).show(found)
        head, ranking = self.query_one(RankingHead), self.query_one(RankingRows)
        head.by = found.by[0]
        head.refresh()
        ranking.show(found)
        rows = self.query_one(AccountRows)
        rows.open = self.account
        rows.members = tuple((row.key[0], row.sums.charged_core_ms) for row in members.rows) if members else ()
        self.ends, rows.ends = ends, ends_of(self.board, ends)
        rows.show()
        line = self.query_one(PeriodLine)
        span = found.period
        line.words = span.name if span.name == span.span else f"{span.name}, {span.span}"
        line.chosen = " · ".join(filter(None, (self.account, self.user)))
        line.total = f"{format_core_hours(found.total.sums.charged_core_ms)} core-hours charged"
        if more := change_words(found):
            line.total += f", {more} than before"
        line.refresh()
        self.quarry.tell()

    # -- the period --------------------------------------------------------------------------------

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
        self._changing = line.account
        self._ask("#asked-change", f"What is to change of {line.account}: {HOW_TO_CHANGE}.")

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
        try:
            if event.input.id == "asked-change":
                self._change(self.quarry.client, parse_change(event.value, self._changing))
                return
            parse_period(event.value, self.board.now_ms)
        except BadValue as fault:
            self._say(str(fault), bad=True)
            return
        self.words = event.value
        self._read_new()

    @work(thread=True, group="account")
    def _change(self, client: "SiteClient", change: AccountChange) -> None:
        try:
            outcome = change.made(client)
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault), True)
            return
        self.quarry.hand_over(self._say, outcome.message, not outcome.done)

    # -- what is chosen ----------------------------------------------------------------------------

    def _next(self, key: str) -> str:
        """The next key that still tells something apart."""
        keys = [one for one in SPLITS if one not in self._where]
        at = keys.index(key) if key in keys else -1
        return keys[(at + 1) % len(keys)]

    def action_split(self) -> None:
        """Split the columns by the next key."""
        self.split = self._next(self.split)
        self._read_new()

    def action_rank(self) -> None:
        """Rank by the next key."""
        self.by = self._next(self.by)
        self._read_new()

    @property
    def _who(self) -> "RankingRows | WasteRows":
        """The list on the right."""
        return self.query_one(WasteRows) if self.wasted else self.query_one(RankingRows)

    def action_side(self) -> None:
        """The other list."""
        accounts = self.query_one(AccountRows)
        (self._who if self.goes_to(accounts) else accounts).focus()
        self.post_message(CursorMoved())

    def action_waste(self) -> None:
        """What was asked for and not used on the right, or the ranking again."""
        there = self.goes_to(self._who)
        self.wasted = not self.wasted
        self.set_class(self.wasted, "-wasted")
        if there:
            self._who.focus()
        self.post_message(CursorMoved())

    def action_all(self) -> None:
        """All accounts again."""
        for line in self.query(Typed):
            if line.display:
                line.display = False
                self.query_one(AccountRows).focus()
                return
        self.account = self.user = ""
        self._read_new()

    def on_opened(self, message: Opened) -> None:
        """An account or a member is chosen, or the jobs of a ranked row are shown."""
        message.stop()
        if self.goes_to(self._who):
            self._open_jobs()
            return
        row = self.query_one(AccountRows).current()
        account = row.line.account if row.line is not None else ""
        again = account == self.account and not row.member
        self.account, self.user = ("", "") if again else (account, row.member)
        if self.split in self._where:
            self.split = self._next(self.split)
        if self.by in self._where:
            self.by = self._next(self.by)
        self._read_new()

    def _open_jobs(self) -> None:
        row, found = self._who.current(), self.found
        if row is None or found is None:
            return
        key = {self.by: row.key[0]} if isinstance(row, ReportRow) else {"name": row.name, "user": row.user}
        chosen = {**self._where, **key}
        words = " ".join(f'{name}:"{value}"' for name, value in chosen.items())
        span = found.period
        self.post_message(SearchRuns(f"{words} since:{span.first} until:{span.last}"))

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """What is under the cursor in a sentence."""
        row = self._who.current() if self.goes_to(self._who) else None
        if isinstance(row, ReportRow):
            return ranked_note(row)
        if row is not None:
            return waste_note(row, self.board.person.user if self.board is not None else "")
        one, now = self.query_one(AccountRows).current(), self.board.now_ms if self.board is not None else 0
        name = one.line.account if one.line is not None else ""
        return account_note(one, self.shares.get(name), self.ends.get(name), now)

    def keys(self) -> list[KeyHint]:
        """What can be done here."""
        jobs = self.goes_to(self._who)
        hints = [
            ("enter", "its jobs" if jobs else "open", ""),
            ("← →", "earlier, later", ""),
            ("[ ]", "shorter, longer", ""),
        ]
        hints += [("t", "type a period", ""), ("n", "last 30 days", ""), ("s", "split", ""), ("g", "rank by", "")]
        if self.goes_to(self.query_one(AccountRows)):
            hints.append(("a", "grant, members", ""))
        hints.append(("w", "ranking" if self.wasted else "not used", ""))
        return [*hints, ("tab", "other side", ""), *([("escape", "all accounts", "")] if self.account else [])]

    def figures(self) -> list[Offer]:
        """The columns as they are seen."""
        account = self.account, self.past, self.ends.get(self.account)
        return ledger_figures(self.over, self.board, account, (self.quarry.client, self._where), self.quarry.zone)
