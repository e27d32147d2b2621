"""Ledger: what was used in a period, by whom, on whose account, and how long it will last."""

from typing import TYPE_CHECKING

from textual import work
from textual.containers import Grid, Vertical
from textual.widgets import Input

from lazy_quarry.app.ledger.account_change import HOW as HOW_TO_CHANGE
from lazy_quarry.app.ledger.account_rows import AccountHead, AccountRows
from lazy_quarry.app.ledger.budget_columns import BudgetColumns
from lazy_quarry.app.ledger.changing import AccountChanging
from lazy_quarry.app.ledger.period import PeriodLine, Periods
from lazy_quarry.app.ledger.ranking_rows import RankingHead, RankingRows
from lazy_quarry.app.ledger.reporting import Reporting
from lazy_quarry.app.ledger.seen_books import STILL, SeenBooks
from lazy_quarry.app.ledger.sentences import account_note, ends_of, ranked_note, waste_note
from lazy_quarry.app.ledger.study_screen import StudyScreen
from lazy_quarry.app.ledger.use_columns import UseColumns, WentLines
from lazy_quarry.app.ledger.waste_rows import WasteHead, WasteRows
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.figure_catalogue import Offer, ledger_figures
from lazy_quarry.app.shared.messages import CursorMoved, Opened, SearchRuns
from lazy_quarry.app.shared.place import Hint, Place
from lazy_quarry.app.shared.table_catalogue import Table, accounts_table, ranking_table, waste_table
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.left import PAST
from lazy_quarry.core.ledger.period import HOW
from lazy_quarry.core.ledger.report import OverTime, Report, ReportRow, ShareLine, Waste
from lazy_quarry.core.units import format_core_hours
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.views.board import Board
from lazy_quarry.wording.book_words import change_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

SPLITS = ("account", "user", "queue", "tier", "name")


class LedgerPlace(Place):
    """Accounts on the left, use over time and where it went in the middle, who and what on the right."""

    DEFAULT_CSS = """
    LedgerPlace { padding-top: 1; }
    LedgerPlace #asked-period, LedgerPlace #asked-change, LedgerPlace #asked-address { display: none; }
    LedgerPlace #parts { height: 1fr; grid-size: 3; grid-columns: 50 1fr 56; }
    LedgerPlace #accounts { border-right: solid $faint; }
    LedgerPlace #who { border-left: solid $faint; }
    LedgerPlace.-narrow #parts { grid-size: 2; grid-columns: 50 1fr; grid-rows: 1fr 9; }
    LedgerPlace.-narrow #use { row-span: 2; }
    LedgerPlace.-narrow #who { border-left: none; border-right: solid $faint; }
    LedgerPlace WasteHead, LedgerPlace WasteRows { display: none; }
    LedgerPlace.-wasted WasteHead, LedgerPlace.-wasted WasteRows { display: block; }
    LedgerPlace BudgetColumns, LedgerPlace.-budget UseColumns { display: none; }
    LedgerPlace.-budget BudgetColumns { display: block; }
    LedgerPlace.-wasted RankingHead, LedgerPlace.-wasted RankingRows { display: none; }
    """
    BINDINGS = [
        bound("open", "open", "an account alone, with its members; of what is ranked the jobs, in Review"),
        bound("side", "side", "keys to the accounts, or to the list on the right", priority=True),
        bound("by_what", "split", "split the columns by account, user, queue, tier or name"),
        bound("group", "rank", "rank by another of these"),
        bound("view", "budget", "the account's budget over time, or what was used"),
        bound("failure", "behind('lost')", "the jobs that lost something, in Review"),
        bound("differs", "waste", "what was requested and not used, or the ranking again"),
        bound("rehearse", "study", "last month, or since the period began, under other rules"),
        bound("back", "all", "leave what is typed; all accounts again"),
        *Reporting.BOUND,
        *Periods.BOUND,
        *AccountChanging.BOUND,
    ]
    period: Periods
    changing: AccountChanging
    reporting: Reporting

    budget = False
    """True when the middle shows the open account's budget."""
    wasted = False
    """True when the right shows what was not used."""
    _known: tuple[object, ...] = ()
    """The subject of the figures; they are read again when it changes."""

    def __init__(self, **arguments: str) -> None:
        super().__init__(**arguments)
        self.seen = SeenBooks()

    def compose(self):  # type: ignore[no-untyped-def]
        """The period and lines to type in, over three parts."""
        yield PeriodLine()
        yield Typed(placeholder=HOW, id="asked-period")
        yield Typed(placeholder=HOW_TO_CHANGE, id="asked-change")
        yield Typed(placeholder="an address for mail", id="asked-address")
        with Grid(id="parts"):
            with Vertical(id="accounts"):
                yield AccountHead()
                yield AccountRows()
            with Vertical(id="use"):
                yield UseColumns()
                yield BudgetColumns()
                yield WentLines()
            with Vertical(id="who"):
                yield RankingHead()
                yield RankingRows()
                yield WasteHead()
                yield WasteRows()

    def on_mount(self) -> None:
        """Take what can be done here."""
        self.period = self.has(Periods(self, self.seen, self._read_new))
        self.changing = self.has(AccountChanging(self))
        self.reporting = self.has(Reporting(self, self.seen))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """A period, a change or an address was typed."""
        event.stop()
        event.input.display = False
        self.query_one(AccountRows).focus()
        taken = {
            "asked-period": self.period.take,
            "asked-change": self.changing.take,
            "asked-address": self.reporting.take,
        }[event.input.id or ""]
        if not event.value.strip() or self.board is None or self.quarry.client is None:
            return
        try:
            taken(event.value.strip())
        except BadValue as fault:
            self._say(str(fault), bad=True)

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

    def _read_new(self) -> None:
        if self.board is None or self.quarry.client is None:
            return
        ended = sum(line.jobs for line in self.board.accounts)
        adding = any(line.adding_up for line in self.board.accounts)
        day = self.board.now_ms // 86_400_000
        known = (
            ended,
            adding,
            day,
            self.seen.words,
            self.seen.split,
            self.seen.by,
            self.seen.account,
            self.seen.user,
        )
        if known != self._known:
            self._known = known
            self._read(self.quarry.client, self.seen.words, self.seen.split, self.seen.by, self.seen.where)

    @work(thread=True, exclusive=True, group="ledger")
    def _read(self, client: "SiteClient", words: str, split: str, by: str, where: dict[str, str]) -> None:
        try:
            found = client.report(words, [by], where, False)
            over = client.over_time(words, split, where)
            ends = client.budget_ends()
            past = client.over_time(PAST, "account", {"account": self.seen.account}) if self.seen.account else None
            members = (
                client.report(words, ["user"], {"account": self.seen.account}, False) if self.seen.account else None
            )
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
        self.seen.shares = {line.account: line for line in shares}
        self.query_one(WasteHead).show(waste)
        self.query_one(WasteRows).show(waste)
        self.quarry.tell()

    def _take_waits(self, found: Report) -> None:
        if self.seen.found is not None and (found.period, found.by, found.where) == (
            self.seen.found.period,
            self.seen.found.by,
            self.seen.found.where,
        ):
            self.seen.found = found
            self.query_one(WentLines).show(found, waits=True)

    def _take(
        self,
        found: Report,
        over: OverTime,
        budgets: tuple[dict[str, BudgetEnd], OverTime | None],
        members: Report | None,
    ) -> None:
        self.seen.found, self.seen.over = found, over
        ends, self.seen.past = budgets
        self.query_one(UseColumns).show(over)
        self.query_one(WentLines).show(found, waits=False)
        head, ranking = self.query_one(RankingHead), self.query_one(RankingRows)
        head.by = found.by[0]
        head.refresh()
        ranking.show(found)
        rows = self.query_one(AccountRows)
        rows.open = self.seen.account
        rows.members = tuple((row.key[0], row.sums.charged_core_ms) for row in members.rows) if members else ()
        self.seen.ends, rows.ends = ends, ends_of(self.board, ends)
        rows.show()
        self._show_budget()
        line = self.query_one(PeriodLine)
        span = found.period
        line.words = span.name if span.name == span.span else f"{span.name}, {span.span}"
        line.chosen = " · ".join(filter(None, (self.seen.account, self.seen.user)))
        line.total = f"{format_core_hours(found.total.sums.charged_core_ms)} core-hours charged"
        if more := change_words(found):
            line.total += f", {more} than before"
        line.refresh()
        self.quarry.tell()

    # -- what is chosen ----------------------------------------------------------------------------

    def _next(self, key: str) -> str:
        """The next key that still tells something apart."""
        keys = [one for one in SPLITS if one not in self.seen.where]
        at = keys.index(key) if key in keys else -1
        return keys[(at + 1) % len(keys)]

    def action_split(self) -> None:
        """Split the columns by the next key."""
        self.seen.split = self._next(self.seen.split)
        self._read_new()

    def action_rank(self) -> None:
        """Rank by the next key."""
        self.seen.by = self._next(self.seen.by)
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
        """Show on the right what was not used, or the ranking again."""
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
        if self.seen.account or self.seen.user:
            self._choose("", "")
        elif self.wasted:
            self.action_waste()
        else:
            self._say("All accounts are shown already.")

    def on_opened(self, message: Opened) -> None:
        """A row was clicked."""
        message.stop()
        self.action_open()

    def action_open(self) -> None:
        """Choose an account or a member, or show the jobs of a ranked row."""
        if self.goes_to(self._who):
            self._open_jobs()
            return
        row = self.query_one(AccountRows).current()
        account = row.line.account if row.line is not None else ""
        again = account == self.seen.account and not row.member
        self._choose(*(("", "") if again else (account, row.member)))

    def _choose(self, account: str, user: str) -> None:
        self.seen.account, self.seen.user = account, user
        self.budget = self.budget and bool(account)
        if self.seen.split in self.seen.where:
            self.seen.split = self._next(self.seen.split)
        if self.seen.by in self.seen.where:
            self.seen.by = self._next(self.seen.by)
        self._read_new()

    def _show_budget(self) -> None:
        lines = self.query_one(AccountRows).lines
        line = next((line for line in lines if line.account == self.seen.account), None)
        now = self.now_ms
        self.query_one(BudgetColumns).show(line, self.seen.past, self.seen.ends.get(self.seen.account), now)
        self.set_class(self.budget and line is not None, "-budget")

    def action_budget(self) -> None:
        """The budget of the open account, or of the one under the cursor, over time; or use again."""
        line = self.query_one(AccountRows).current().line
        self.budget = not self.budget
        if self.budget and not self.seen.account and line is not None:
            self._choose(line.account, "")
        elif self.budget and not self.seen.account:
            self._say("Go to an account first.")
            self.budget = False
        self._show_budget()

    def action_study(self) -> None:
        """Rehearse what has ended since the period began under each policy."""
        if self.seen.found is not None and self.quarry.client is not None:
            self.app.push_screen(StudyScreen(self.quarry.client, str(self.seen.found.period.first)))
        else:
            self._say(STILL)

    def action_behind(self, what: str) -> None:
        """The jobs behind a line of where it went."""
        if self.seen.found is None:
            self._say(STILL)
        else:
            only = {"lost": "-state:done -state:cancelled", "failed": "-state:done -state:cancelled"}.get(what, "")
            self._search(self.seen.where, only)

    def _search(self, chosen: dict[str, str], more: str = "") -> None:
        if self.seen.found is None:
            return
        words = " ".join([*(f'{name}:"{value}"' for name, value in chosen.items()), *([more] if more else [])])
        span = self.seen.found.period
        self.post_message(SearchRuns(f"{words} since:{span.first} until:{span.last}".strip()))

    def _open_jobs(self) -> None:
        row = self._who.current()
        if row is None:
            self._say("Nothing was charged in this period, so there are no jobs to show.")
            return
        key = {self.seen.by: row.key[0]} if isinstance(row, ReportRow) else {"name": row.name, "user": row.user}
        self._search({**self.seen.where, **key})

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """Describe what is under the cursor in a sentence."""
        row = self._who.current() if self.goes_to(self._who) else None
        if isinstance(row, ReportRow):
            return ranked_note(row)
        if row is not None:
            return waste_note(row, self.board.person.user if self.board is not None else "")
        one, now = self.query_one(AccountRows).current(), self.now_ms
        name = one.line.account if one.line is not None else ""
        return account_note(one, self.seen.shares.get(name), self.seen.ends.get(name), now)

    def acts(self) -> list[Hint]:
        """The acts that can be done here."""
        jobs = self.goes_to(self._who)
        found: list[Hint] = [("open", "its jobs" if jobs else "open"), ("← →", "period", ""), ("[ ]", "length", "")]
        found += [
            ("find", "in words"),
            "by_what",
            ("group", "rank by"),
            ("differs", "ranking" if self.wasted else "not used"),
        ]
        if not jobs:
            found += [("view", "use" if self.budget else "budget"), "change"]
        found += [
            ("save", "report as PDF"),
            ("submit", "send it"),
            "figure",
            "table",
            ("rehearse", "other rules"),
            "side",
        ]
        return [*found, *([("back", "all accounts")] if self.seen.account else [])]

    def tables(self) -> list[Table]:
        """The list that has the keys, then the others."""
        found = [ranking_table(self.seen.found)] if self.seen.found is not None else []
        waste = self.query_one(WasteHead).found
        if self.wasted and waste is not None:
            found.insert(0, waste_table(waste))
        accounts = accounts_table(self.board.accounts if self.board is not None else ())
        return [*found, accounts] if self.goes_to(self._who) else [accounts, *found]

    def figures(self) -> list[Offer]:
        """The columns as they are seen."""
        account = self.seen.account, self.seen.past, self.seen.ends.get(self.seen.account)
        return ledger_figures(
            self.seen.over, self.board, account, (self.quarry.client, self.seen.where), self.quarry.zone
        )
