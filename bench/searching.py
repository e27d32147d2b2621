"""The first page of a search among 1,000,000 ended jobs: what the index takes against a bare indexed query, and a page in all."""

import sqlite3
import tempfile
from pathlib import Path

import numpy as np
from msgspec.structs import fields

from bench.year import write_year
from lazy_quarry.core.search.facts import Facts
from lazy_quarry.core.search.query import parse_query
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_in_use import SiteInUse

NEWEST, TIMES = 20_000, 50
NOW = 1_792_000_000_000
SEARCHES = {
    "newest": "",
    "one-name": "name:name-17",
    "names": "name:name-1* state:failed",
    "memory": "memory:>7GiB since:2020-01-01 user:user-3",
    "words": "text:word5 state:failed",
    "anywhere": "word5",
    "seldom": "memory:8191MiB took:>5h",
}


def figures(best):
    with tempfile.TemporaryDirectory() as folder:
        journal = write_year(Path(folder), NEWEST)
        accounts = tuple(Account(f"account-{number}") for number in range(8))
        nodes, queues = (Node("n0", 8, 65_536),), (Queue("all", ("n0",)),)
        site = Site("bench", "rehearsal", nodes, queues, accounts, (Tier("steady"),), "all", "steady")
        session = Session(site, journal, RehearsalRunner(1), clock=lambda: NOW)
        searches = SiteInUse(session).queries.searches
        assert searches.catch_up(3600)
        bare = sqlite3.connect(f"{folder}/search.db")
        _grow(bare)

        def page() -> None:
            statement = "SELECT * FROM facts WHERE user = ? AND job < 10000000 ORDER BY ended_ms DESC LIMIT 50"
            bare.execute(statement, ("user-3",)).fetchall()

        page()
        reference = best(20, page)
        numbers = np.random.default_rng(1).random(1_000_000)
        sort = best(3, lambda: np.sort(numbers, kind="stable"))
        for name, words in SEARCHES.items():
            query = parse_query(words, NOW)
            assert searches.index.find(query, None, 50, 0), words
            yield (
                f"search-find-{name}",
                best(10, lambda query=query: searches.index.find(query, None, 50, 0)),
                "s",
                reference,
                5,
            )

        def whole() -> None:
            searches.views._ended.clear()
            assert len(searches.search(Caller("user-3"), "user:user-3", True, True, "", 50, 0).jobs) == 50

        yield "search-page", best(10, whole), "s", sort, 0.5
        bare.close()
        journal.close()


def _grow(bare: sqlite3.Connection) -> None:
    """The same jobs again and again, each time a year earlier: a million in all. Only the newest are in the journal."""
    shifted = {"job": f"job + k * {NEWEST}", "of": f"of + k * {NEWEST}", "ended_ms": f"ended_ms - k * {365 * DAY_MS}"}
    columns = ", ".join(shifted.get(field.name, field.name) for field in fields(Facts))
    series = f"WITH s(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM s WHERE k < {TIMES - 1})"
    with bare:
        bare.execute(f"{series} INSERT INTO facts SELECT {columns}, script FROM facts, s")
