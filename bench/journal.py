"""Journal 100,000 events, against a bare executemany in batches of the same size and durability."""

import sqlite3
import tempfile
from pathlib import Path

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine, State
from lazy_quarry.core.engine.events import Held
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.store.codec import encode
from lazy_quarry.store.journal import Journal

EVENTS, BATCH, JOBS = 100_000, 1000, 2000


def figures(best):
    happened = [Held(number, number % 5000, By("ada")) for number in range(EVENTS)]
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
    yield "journal-job", _bytes_a_job(), "bytes", 1.0, 2048


def _bytes_a_job() -> float:
    """The bytes that a job of a repeated script takes on disk, from its submission to its end."""
    nodes = (Node("n", 8, 65_536),)
    site = Site("bench", "rehearsal", nodes, (Queue("q", ("n",)),), (Account("a"),), (Tier("t"),), "q", "t")
    request = Request("surge", "a", ("q",), "t", 600, Memory(100), ranks=2)
    origin = Origin("#!/bin/sh\n" + "work\n" * 2000, "/home/ada/surge/run.sh", "/home/ada/surge", (("PATH", "/bin"),))
    with tempfile.TemporaryDirectory() as folder:
        journal, engine = Journal(Path(folder)), Engine(site)
        for number in range(1, JOBS + 1):
            at = number * 1000
            for command in (Submit(at, By("ada"), request, origin), Schedule(at), Finish(at + 900, number, 1, exit=0)):
                events = engine.decide(command)
                journal.append(events, engine.state)
                engine.apply(events)
        journal.close()
        return (Path(folder) / "journal.db").stat().st_size / JOBS


class _Unmoved(State):
    """A state that these events leave as it is; snapshots are taken of it all the same."""

    def apply(self, event):
        return None
