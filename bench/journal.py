"""Journal 100,000 events, against a bare executemany in batches of the same size and durability."""

import sqlite3
import tempfile
from pathlib import Path

from lazy_quarry.core.engine.engine import State
from lazy_quarry.core.engine.events import Held
from lazy_quarry.store.codec import encode
from lazy_quarry.store.journal import Journal

EVENTS, BATCH = 100_000, 1000


def figures(best):
    happened = [Held(number, number % 5000, "ada") for number in range(EVENTS)]
    rows = [(number, event.at_ms, *encode(event)) for number, event in enumerate(happened, 1)]
    table = "CREATE TABLE events (number INTEGER PRIMARY KEY, at_ms INTEGER, kind TEXT, body TEXT)"

    def bare() -> None:
        with tempfile.TemporaryDirectory() as folder:
            sql = sqlite3.connect(f"{folder}/bare.db")
            sql.execute("PRAGMA journal_mode=WAL")
            sql.execute("PRAGMA synchronous=FULL")
            sql.execute(table)
            for at in range(0, EVENTS, BATCH):
                with sql:
                    sql.executemany("INSERT INTO events VALUES (?, ?, ?, ?)", rows[at : at + BATCH])
            sql.close()

    def ours() -> None:
        with tempfile.TemporaryDirectory() as folder:
            journal, state = Journal(Path(folder)), _Unmoved()
            for at in range(0, EVENTS, BATCH):
                journal.append(happened[at : at + BATCH], state)
            journal.close()

    yield "journal-100k", best(2, ours), "s", best(3, bare), 6


class _Unmoved(State):
    """A state that these events leave as it is; snapshots are taken of it all the same."""

    def apply(self, event):
        return None
