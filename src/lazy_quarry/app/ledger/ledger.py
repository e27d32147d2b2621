"""Ledger: what was used in a period, by whom, on whose account, and how long it will last."""

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING

from textual import work
from textual.containers import Grid, Vertical

from lazy_quarry.app.ledger.account_rows import AccountHead, AccountRows
from lazy_quarry.app.ledger.budget_columns import BudgetColumns
from lazy_quarry.app.ledger.period import LedgerPeriod, PeriodLine
from lazy_quarry.app.ledger.ranking_rows import RankingHead, RankingRows
from lazy_quarry.app.ledger.sentences import account_note, ends_of, ranked_note, waste_note
from lazy_quarry.app.ledger.study_screen import StudyScreen
from lazy_quarry.app.ledger.use_columns import UseColumns, WentLines
from lazy_quarry.app.ledger.waste_rows import WasteHead, WasteRows
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.figure_catalogue import Offer, ledger_figures
from lazy_quarry.app.shared.messages import CursorMoved, Opened, SearchRuns
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.app.shared.table_catalogue import Table, accounts_table, ranking_table, waste_table
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.left import PAST
from lazy_quarry.core.ledger.report import OverTime, Report, ReportRow, ShareLine, Waste
from lazy_quarry.core.plain_text import shortened
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.board import Board
from lazy_quarry.wording.book_words import change_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

STILL = "The books are still being read."
SPLITS = ("account", "user", "queue", "tier", "name")


class LedgerPlace(LedgerPeriod):
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
        bound("differs", "waste", "what was asked for and not used, or the ranking again"),
        bound("rehearse", "study", "last month, or since the period began, under other rules"),
        bound("save", "print", "save a report of what is seen as PDF", priority=True),
        bound("submit", "send", "send that report to somebody by mail, after asking", priority=True),
        bound("back", "all", "leave what is typed; all accounts again"),
    ]

    split, by = "account", "name"
    account = user = ""
    budget = False
    """True when the middle shows the open account's budget."""
    wasted = False
    """True when the right shows what was not used."""
    ends: Mapping[str, BudgetEnd] = MappingProxyType({})
    past: OverTime | None = None
    """Late charges of the open account."""
    shares: Mapping[str, ShareLine] = MappingProxyType({})
    _known: tuple[object, ...] = ()
    """The subject of the figures; they are read again when it changes."""

    def compose(self):  # type: ignore[no-untyped-def]
        """The period over three parts."""
        yield from self.asked()
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
            self.query_one(WentLines).show(found, waits=True)

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
        self.query_one(WentLines).show(found, waits=False)
        head, ranking = self.query_one(RankingHead), self.query_one(RankingRows)
        head.by = found.by[0]
        head.refresh()
        ranking.show(found)
        rows = self.query_one(AccountRows)
        rows.open = self.account
        rows.members = tuple((row.key[0], row.sums.charged_core_ms) for row in members.rows) if members else ()
        self.ends, rows.ends = ends, ends_of(self.board, ends)
        rows.show()
        self._show_budget()
        line = self.query_one(PeriodLine)
        span = found.period
        line.words = span.name if span.name == span.span else f"{span.name}, {span.span}"
        line.chosen = " · ".join(filter(None, (self.account, self.user)))
        line.total = f"{format_core_hours(found.total.sums.charged_core_ms)} core-hours charged"
        if more := change_words(found):
            line.total += f", {more} than before"
        line.refresh()
        self.quarry.tell()

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
        if self.account or self.user:
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
        again = account == self.account and not row.member
        self._choose(*(("", "") if again else (account, row.member)))

    def _choose(self, account: str, user: str) -> None:
        self.account, self.user = account, user
        self.budget = self.budget and bool(account)
        if self.split in self._where:
            self.split = self._next(self.split)
        if self.by in self._where:
            self.by = self._next(self.by)
        self._read_new()

    def _show_budget(self) -> None:
        lines = self.query_one(AccountRows).lines
        line = next((line for line in lines if line.account == self.account), None)
        now = self.board.now_ms if self.board is not None else 0
        self.query_one(BudgetColumns).show(line, self.past, self.ends.get(self.account), now)
        self.set_class(self.budget and line is not None, "-budget")

    def action_budget(self) -> None:
        """The budget of the open account, or of the one under the cursor, over time; or use again."""
        line = self.query_one(AccountRows).current().line
        self.budget = not self.budget
        if self.budget and not self.account and line is not None:
            self._choose(line.account, "")
        elif self.budget and not self.account:
            self._say("Go to an account first.")
            self.budget = False
        self._show_budget()

    def action_print(self) -> None:
        """Write the report of what is seen as PDF into the present folder."""
        if self.found is None or self.quarry.client is None:
            self._say(STILL)
            return
        span = self.found.period
        name = "-".join(filter(None, ("report", self.account, self.user, span.name.replace(" ", "-"))))
        path = self.quarry.folder / f"{''.join(sign if sign.isalnum() or sign in '-_.' else '-' for sign in name)}.pdf"
        self._say(f"{path} is being written …")
        self._print(self.quarry.client, f"{span.first} to {span.last}", self._where, path)

    @work(thread=True, exclusive=True, group="print")
    def _print(self, client: "SiteClient", words: str, where: dict[str, str], path: Path) -> None:
        from lazy_quarry.draw.pages.period_document import printed_report, read_answers
        from lazy_quarry.draw.pages.printed_pages import write_pages

        try:
            pages = write_pages(printed_report(read_answers(client, words, where), self.quarry.zone), path)
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault), True)
            return
        self.quarry.hand_over(self._say, f"{path} was written: {plural(pages, 'page')}.")

    def action_send(self) -> None:
        """Ask to whom the report of what is seen is to be mailed."""
        if self.found is None:
            self._say(STILL)
        else:
            span = self.found.period
            self._ask(
                "#asked-address",
                f"Mail the report of {span.name} to whom? An address, as noor@example.org; enter asks once more.",
            )

    def _given_address(self, to: str) -> None:
        """Ask once more, then send."""
        from lazy_quarry.site.mail.mailer import ADDRESS

        if not ADDRESS.fullmatch(to):
            self._say(f"{shortened(to)} is no address for mail.", bad=True)
            return
        if self.found is None or self.quarry.client is None:
            return
        span, client = self.found.period, self.quarry.client
        of = " of " + " and ".join(self._where.values()) if self._where else ""
        then = partial(self._send, client, f"{span.first} to {span.last}", self._where, to)
        question = f"Mail the report{of} for {span.name}, {span.span}, to {to}?"
        self.quarry.ask(question, then, yes="Send it", no="Leave it")

    @work(thread=True, exclusive=True, group="print")
    def _send(self, client: "SiteClient", words: str, where: dict[str, str], to: str) -> None:
        from lazy_quarry.draw.pages.printed_mail import mail_report

        try:
            outcome = mail_report(client, words, where, to, self.quarry.zone)
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault), True)
            return
        told = f"{outcome.message[:1].upper()}{outcome.message[1:]}."
        self.quarry.hand_over(self._say, told, not outcome.done)

    def action_study(self) -> None:
        """Rehearse what has ended since the period began under each policy."""
        if self.found is not None and self.quarry.client is not None:
            self.app.push_screen(StudyScreen(self.quarry.client, str(self.found.period.first)))
        else:
            self._say(STILL)

    def action_behind(self, what: str) -> None:
        """The jobs behind a line of where it went."""
        if self.found is None:
            self._say(STILL)
        else:
            only = {"lost": "-state:done -state:cancelled", "failed": "-state:done -state:cancelled"}.get(what, "")
            self._search(self._where, only)

    def _search(self, chosen: dict[str, str], more: str = "") -> None:
        if self.found is None:
            return
        words = " ".join([*(f'{name}:"{value}"' for name, value in chosen.items()), *([more] if more else [])])
        span = self.found.period
        self.post_message(SearchRuns(f"{words} since:{span.first} until:{span.last}".strip()))

    def _open_jobs(self) -> None:
        row = self._who.current()
        if row is None:
            self._say("Nothing was charged in this period, so there are no jobs to show.")
            return
        key = {self.by: row.key[0]} if isinstance(row, ReportRow) else {"name": row.name, "user": row.user}
        self._search({**self._where, **key})

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """Describe what is under the cursor in a sentence."""
        row = self._who.current() if self.goes_to(self._who) else None
        if isinstance(row, ReportRow):
            return ranked_note(row)
        if row is not None:
            return waste_note(row, self.board.person.user if self.board is not None else "")
        one, now = self.query_one(AccountRows).current(), self.board.now_ms if self.board is not None else 0
        name = one.line.account if one.line is not None else ""
        return account_note(one, self.shares.get(name), self.ends.get(name), now)

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
        return [*found, *([("back", "all accounts")] if self.account else [])]

    def tables(self) -> list[Table]:
        """The list that has the keys, then the others."""
        found = [ranking_table(self.found)] if self.found is not None else []
        waste = self.query_one(WasteHead).found
        if self.wasted and waste is not None:
            found.insert(0, waste_table(waste))
        accounts = accounts_table(self.board.accounts if self.board is not None else ())
        return [*found, accounts] if self.goes_to(self._who) else [accounts, *found]

    def figures(self) -> list[Offer]:
        """The columns as they are seen."""
        account = self.account, self.past, self.ends.get(self.account)
        return ledger_figures(self.over, self.board, account, (self.quarry.client, self._where), self.quarry.zone)
