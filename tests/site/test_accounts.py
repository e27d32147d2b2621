"""Accounts: their terms, what happens when a budget is used up, who is warned, who may charge, and who may change that."""

import inspect
from datetime import UTC, datetime

import pytest

from lazy_quarry.cli.commands.accounts import account_json, list_lines, show_lines
from lazy_quarry.core.engine.events import BudgetReached, MetersRead
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.ledger.budgets import FOR_EVER, Term, term_of
from lazy_quarry.core.site import Account, Tier
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.link.answered import method_of_part
from lazy_quarry.link.protocol import types_of
from lazy_quarry.link.site_client import CALLS, SiteClient
from lazy_quarry.site.mail.letters import budget_lines
from lazy_quarry.site.site_file.roles import caller_of, refusal
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.sqlite.tables import events as events_table
from lazy_quarry.wording.book_words import end_words, ends_word, term_words
from tests.conftest import SiteUnderTest, rows_of, script, small_site
from tests.site.test_mail import Posted


def at(text):
    return round(datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp() * 1000)


@pytest.mark.parametrize(
    ("now", "more", "begin", "end", "periods"),
    [
        ("2027-03-15T12:00", {}, 0, FOR_EVER, 1),
        ("2027-03-15T12:00", {"budget_each": "month"}, at("2027-03-01"), at("2027-04-01"), 1),
        ("2027-04-01", {"budget_each": "quarter"}, at("2027-04-01"), at("2027-07-01"), 1),
        ("2028-12-31T23:59", {"budget_each": "year"}, at("2028-01-01"), at("2029-01-01"), 1),
        ("2027-03-15", {"budget_begins_ms": at("2027-04-01")}, 0, at("2027-04-01"), 0),
        ("2027-04-01", {"budget_begins_ms": at("2027-04-01")}, at("2027-04-01"), FOR_EVER, 1),
        ("2027-05-01", {"budget_ends_ms": at("2027-05-01")}, at("2027-05-01"), FOR_EVER, 0),
        (
            "2027-05-09",
            {"budget_each": "quarter", "budget_begins_ms": at("2026-11-15"), "carries_over": True},
            at("2026-11-15"),
            at("2027-07-01"),
            3,
        ),
        (
            "2027-05-09",
            {"budget_each": "year", "budget_begins_ms": at("2027-02-01"), "budget_ends_ms": at("2027-06-01")},
            at("2027-02-01"),
            at("2027-06-01"),
            1,
        ),
    ],
)
def test_the_term_of_a_budget(now, more, begin, end, periods):
    assert term_of(Account("silt", 10, **more), at(now)) == Term(begin, end, periods)


QUICK = Tier("spare", 1000, gives_way=True)
HEADER = 'walltime = "1h"\nranks = 4\nmemory = "64 MiB/core"\naccount = "{}"\ntier = "{}"\n[rehearsal]\nruntime = "30m"'


class Books:
    """A site with a tree of accounts, whose clock is set by hand."""

    def __init__(self, *accounts, begin="2027-03-31T20:00", journal=None, user="ada"):
        site = small_site()
        site = replace(site, accounts=accounts, tiers=(*site.tiers, QUICK), operators=("olga",))
        self.now_ms = at(begin)
        self.site = SiteUnderTest(site, lambda: self.now_ms, journal or Journal(None), user)

    def submit(self, account="silt", tier="steady"):
        return self.site.submit(Submission(script(HEADER.format(account, tier)), "run.sh", "/tmp"))

    def until(self, text):
        while self.now_ms < at(text):
            self.now_ms = min(at(text), self.now_ms + 5 * 60_000)
            self.site.step(self.now_ms)

    def line(self, account="silt"):
        return next(line for line in self.site.board().accounts if line.account == account)

    def state(self, job):
        return self.site.job(job).phase


def test_a_budget_that_begins_anew_lets_what_waited_start_and_a_job_across_the_edge_is_divided():
    books = Books(Account("silt", 5.0, budget_each="month"))
    first, second = books.submit().job, books.submit().job  # four core-hours each at most
    books.until("2027-03-31T21:00")
    assert books.state(first) == "done" and books.line().budget.used_core_ms == 2 * HOUR_MS
    assert books.state(second) == "waiting"
    why = books.site.job(second).why
    assert "the budget of silt does not cover it" in why and "anew on 2027-04-01" in why
    books.until("2027-04-01T00:10")
    assert books.state(second) == "running"
    assert books.line().budget.term.begin_ms == at("2027-04-01")
    assert books.line().left_core_ms == 5 * HOUR_MS - 4 * 10 * 60_000
    assert "each month, now until 30 Apr 2027" in term_words(books.line())
    again = Books(Account("silt", 5.0, budget_each="month"), Account("reeds", 5.0), begin="2027-03-31T23:45")
    again.submit()
    again.until("2027-04-01T01:00")
    assert again.line().charged_core_ms == 2 * HOUR_MS and again.line().budget.used_core_ms == HOUR_MS
    read = [row for row in rows_of(again.site.journal, events_table) if row.kind == MetersRead.kind]
    assert len(read) == 2 and f'"begin_ms":{at("2027-04-01")}' in read[1].body


def test_the_rest_of_a_budget_is_carried_over_where_the_site_says_so():
    books = Books(Account("silt", 5.0, budget_each="month", budget_begins_ms=at("2027-03-01"), carries_over=True))
    books.submit()
    books.until("2027-04-02")
    assert books.line().budget.whole_core_ms == 10 * HOUR_MS and books.line().left_core_ms == 8 * HOUR_MS
    assert "2 months since 1 Mar 2027, what is left carried over" in term_words(books.line())


def test_a_term_of_which_nobody_knew_is_read_from_the_books(tmp_path):
    books = Books(Account("silt", 100.0), begin="2027-03-30T20:00", journal=Journal(tmp_path))
    books.submit()
    books.until("2027-04-01T23:45")
    second = books.submit().job
    books.until("2027-04-02T00:10")
    assert books.state(second) == "running"
    books.site.journal.close()
    told = Account("silt", 100.0, budget_begins_ms=at("2027-04-02"))
    later = Books(told, begin="2027-04-02T00:10", journal=Journal(tmp_path))
    assert (
        later.line().budget.used_core_ms == 4 * 10 * 60_000
    )  # of the job that ran through the edge, what came after it


def test_a_budget_bounds_all_accounts_under_it_and_so_do_limits():
    tree = (Account("bay", 5.0), Account("silt", None, parent="bay"), Account("reeds", 100.0, parent="silt"))
    books = Books(*tree)
    first, second = books.submit("reeds").job, books.submit("silt").job
    assert (books.state(first), books.state(second)) == ("running", "waiting")
    assert "the budget of bay" in books.site.job(second).why
    books.until("2027-03-31T21:00")
    lines = {line.account: line for line in books.site.board().accounts}
    assert lines["bay"].budget.used_core_ms == lines["reeds"].budget.used_core_ms == 2 * HOUR_MS
    assert lines["bay"].charged_core_ms == 0
    report = books.site.report("today", ["account"], {"account": "bay"})
    assert [row.key for row in report.rows] == [("reeds",)]
    told = list(list_lines(list(lines.values()), {}, books.now_ms))
    assert [line.split()[0] for line in told[1:]] == ["bay", "silt", "reeds"] and told[3].startswith("    reeds")
    assert "has 3.00 left" in books.submit("silt").diagnostics[0].message


@pytest.mark.parametrize(
    ("at_end", "spare", "said"), [("refuse", False, "another account"), ("give-way", True, "spare")]
)
def test_a_budget_that_is_used_up_refuses_or_gives_way_as_the_site_says(at_end, spare, said):
    books = Books(Account("silt", 2.0, at_end=at_end, warn_at=(50, 100)))
    first = books.site.submit(
        Submission(script(HEADER.format("silt", "steady").replace("1h", "15m")), "run.sh", "/tmp")
    ).job
    books.until("2027-03-31T20:30")
    assert books.state(first) == "overtime" and books.site.of("olga").grant("silt", -HOUR_MS, "not needed").done
    assert books.line().left_core_ms == 0
    refused = books.submit()
    assert refused.job is None and "the budget of silt is spent; " in refused.diagnostics[0].message
    assert said in refused.diagnostics[0].message
    job = books.submit(tier="spare").job
    assert (job is not None and books.state(job) == "running") is spare
    told = list(show_lines(books.line(), None, books.now_ms, UTC))
    assert ("tiers that give way" in "\n".join(told)) is spare


def test_people_are_warned_at_shares_of_a_budget_once_and_by_mail(tmp_path):
    told = Account("silt", 8.0, mail="lead@a.example", warn_at=(50, 80))
    posted = Posted(tmp_path, site=replace(small_site(), accounts=(told,)))
    for _ in range(3):
        posted.submit('walltime = "40m"\nranks = 4\nmemory = "64 MiB/core"', runtime='"30m"')
        posted.after(HOUR_MS)
    events = [row.body for row in rows_of(posted.site.journal, events_table) if row.kind == BudgetReached.kind]
    assert len(events) == 1 and '"percent":50' in events[0]
    assert posted.subjects == ["silt has used 50 % of its budget"]
    posted.submit(
        'walltime = "25m"\nranks = 4\nmemory = "64 MiB/core"', runtime='"24m"'
    )  # what is left just pays for it
    posted.after(HOUR_MS)
    assert posted.subjects[-1] == "silt has used 80 % of its budget"
    reached = BudgetReached(1, "silt", 80, 0, 8 * HOUR_MS, 10 * HOUR_MS)
    assert "has used 8.00 of its 10.0" in next(iter(budget_lines(reached, posted.site.board().accounts[0])))


def test_members_are_added_and_removed_by_who_answers_for_an_account():
    books = Books(
        Account("bay", users=("ada",), leads=("ada",)), Account("silt", 10.0, ("ada",), parent="bay"), Account("open")
    )
    site = books.site
    assert [one.done for one in site.members("silt", ["bo", "ada"], ["cy"])] == [True, False, False]
    assert books.line().members == ("ada", "bo") and site.session.site.accounts_of("bo") == ("silt", "open")
    assert site.members("silt", [], ["ada"])[0].message == "ada may no longer charge silt"
    assert "is the only member of silt" in site.members("silt", [], ["bo"])[0].message
    assert "you may not charge silt" in books.submit().diagnostics[0].message
    assert "only an operator may do this; here that is olga" in site.members("open", ["x"], [])[0].message
    told = account_json(books.line(), None, books.now_ms)
    assert [(one["user"], one["added"]) for one in told["member_changes"]] == [("bo", True), ("ada", False)]
    assert told["members"] == ["bo"] and told["parent"] == "bay"
    olga = site.of("olga")
    assert "everyone may charge open" in olga.members("open", ["x"], [])[0].message
    assert "no account" in olga.members("gone", ["x"], [])[0].message


def test_every_call_is_answered_by_its_part_with_the_arguments_that_are_written_down():
    site = Books(Account("bay", 50.0)).site.site
    for name, call in CALLS.items():
        own = inspect.signature(method_of_part(site, call)).parameters
        written = list(inspect.signature(getattr(SiteClient, name)).parameters)[1:]
        assert list(own)[: 1 + len(written)] == ["caller", *written] and (not call.about or call.about in written), name
        assert types_of(name), name


@pytest.mark.parametrize("call", [name for name, call in CALLS.items() if call.rights.user == "no"])
def test_calls_of_a_role_are_refused_to_others(call):
    books = Books(Account("bay", 50.0, leads=("lea",)), Account("silt", 10.0, ("ada",), parent="bay"))
    site = books.site.session.site
    assert refusal(site, caller_of(site, "olga"), CALLS[call].rights, "silt") == ""
    assert (refusal(site, caller_of(site, "lea"), CALLS[call].rights, "silt") == "") is (
        CALLS[call].rights.lead == "own"
    )
    assert "olga" in refusal(site, caller_of(site, "ada"), CALLS[call].rights, "silt")
    assert refusal(site, caller_of(replace(site, operators=()), "ada"), CALLS[call].rights) == ""
    before = books.site.journal.number
    window = replace(small_site(), windows=()).windows
    acts = {
        "nodes": lambda: books.site.nodes(["n1"], "close")[0],
        "reserve": lambda: books.site.reserve(window),
        "unreserve": lambda: books.site.unreserve("x"),
        "drop_kept": lambda: books.site.drop_kept("n1", "input-x"),
        "grant": lambda: books.site.grant("silt", HOUR_MS, "why"),
        "move": lambda: books.site.move("silt", "bay", HOUR_MS, "why"),
        "members": lambda: books.site.members("silt", ["x"], [])[0],
    }
    if call != "reserve":
        outcome = acts[call]()
        assert not outcome.done and "olga" in outcome.message
    assert books.site.journal.number == before


def test_a_budget_that_outlasts_its_term_is_said_to_last():
    from lazy_quarry.core.ledger.burn import BudgetEnd

    line = Books(Account("silt", 5.0, budget_each="month")).line()
    now = at("2027-03-31T20:00")
    assert ends_word(BudgetEnd(0.1, 5.0, 9.0, 1.0), line, now) == "enough"
    assert "it is enough until its term ends on 31 Mar 2027" in end_words(BudgetEnd(0.1, 5.0, 9.0, 1.0), line, now)
    assert ends_word(BudgetEnd(0.01, 0.1, 0.2, 1.0), line, now) == "31 Mar" and ends_word(None, line, now) == ""
    assert term_of(Account("x", 1, budget_each="month"), now + DAY_MS).begin_ms == at("2027-04-01")
