"""The cost of reports with a year of 1,000,000 ended jobs behind them, against one bare SQL sum over the same table."""

import tempfile
import time
from itertools import islice
from pathlib import Path

from sqlalchemy import text

from bench.year import BEGINS_MS, jobs
from lazy_quarry.core.ledger.period import period_between, period_of
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.demo.site import oxbow
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.proof import prove

MANY, FEW, AT_ONCE = 1_000_000, 1_000, 20_000
NOW_MS = BEGINS_MS + 365 * DAY_MS


def with_books(folder, count):
    """A journal with so many ended jobs of a year, their rows and their sums."""
    journal, made = Journal(folder), jobs(count)
    while some := list(islice(made, AT_ONCE)):
        journal.import_past(some)
    return journal


def opened(journal):
    """A client of the site of a journal."""
    site = SiteInUse(Session(oxbow(), journal, RehearsalRunner(1), clock=lambda: NOW_MS))
    return InProcessClient(site, caller_of(site.session.site, "user-1"))


def figures(best):
    with tempfile.TemporaryDirectory() as folder:
        for name in ("many", "few"):
            (Path(folder) / name).mkdir()
        journal = with_books(Path(folder) / "many", MANY)
        few = with_books(Path(folder) / "few", FEW)
        month = period_of("month", NOW_MS - 60 * DAY_MS)
        words = f"{month.first} to {month.last}"
        ledger = opened(journal)
        sql = text("SELECT sum(charge_core_ms) FROM ended WHERE ended_ms >= :begin AND ended_ms < :end")

        def bare(begin, end):
            with journal.storage.sql.connect() as work:
                return work.execute(sql, {"begin": begin, "end": end}).scalar()

        one = best(5, lambda: bare(month.begin_ms, month.end_ms))
        yield (
            "books-month",
            best(5, lambda: ledger.report(words, ["account"], None, False)),
            "s",
            one,
            3.0,
        )
        yield "books-waits", best(3, lambda: ledger.report(words, ["account"])), "s", one, 6.0
        year = f"{period_between(BEGINS_MS, BEGINS_MS + DAY_MS).first} to {period_between(NOW_MS, NOW_MS + 1).first}"
        months = 12 * best(3, lambda: ledger.report(words, ["account"], None, False))
        yield (
            "books-year",
            best(3, lambda: ledger.report(year, ["month"], None, False)),
            "s",
            months,
            3.0,
        )
        small = best(3, lambda: opened(Journal(Path(folder) / "few")))
        yield "books-open", best(3, lambda: opened(Journal(Path(folder) / "many"))), "s", small, 2.0
        ledger_few = opened(few)

        def complete(one):  # as the place reads it; waits follow
            one.report("last 30 days", ["name"], None, False)
            one.over_time("last 30 days", "account")
            one.budget_ends()

        yield "books-ledger", best(5, lambda: complete(ledger)), "s", best(5, lambda: complete(ledger_few)), 2.0
        began = time.perf_counter()
        proof = prove(journal, ())
        assert not proof.wrong and proof.jobs == MANY, proof
        yield "books-proof", (time.perf_counter() - began) * 1e6 / MANY, "us a job", 1.0, 200.0


if __name__ == "__main__":
    from bench.timing import best as best_of

    for figure in figures(best_of):
        print(*figure)
