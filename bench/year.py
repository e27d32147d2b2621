"""A journal with very many ended jobs, written straight into its tables; used by what is measured on a long past."""

import random
from pathlib import Path

from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase
from lazy_quarry.core.job.phase import Use
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.times import JobTimes
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.rows import Texts, ended_row
from lazy_quarry.store.sqlite.sql_storage import _INSERT_ENDED, _KEEP_TEXT

BEGINS_MS = 1_760_000_000_000
USERS, ACCOUNTS, NAMES = 40, 8, 300


def jobs(count: int, seed: int = 5):
    """Ended jobs of a year, in the order of their ends: forty people, eight accounts, three hundred names."""
    chance = random.Random(seed)
    requests = [
        Request(
            f"name-{number}", f"account-{number % ACCOUNTS}", ("all",), "steady", 3600 * (1 + number % 12), Memory(1024)
        )
        for number in range(NAMES)
    ]
    scripts = [
        Origin(f"#!/bin/sh\n# name-{number}\nsolve --case word{number % 37} --grid {number}\n")
        for number in range(NAMES)
    ]
    plain = Job(1, "", requests[0], scripts[0], 0)
    for number in range(1, count + 1):
        which = chance.randrange(NAMES)
        took = chance.randrange(1, requests[which].walltime_s)
        at = BEGINS_MS + number * 365 * DAY_MS // count
        waited, cpu_ms = chance.randrange(20_000), took * (cores := 1 << chance.randrange(6)) * 800
        bad = chance.random() < 0.05
        yield replace(
            plain,
            number=number,
            user=f"user-{which % USERS}",
            request=requests[which],
            origin=scripts[which],
            submitted_ms=at - 1000 * (took + waited),
            started_ms=at - 1000 * took,
            ended_ms=at,
            phase=Phase.FAILED if bad else Phase.DONE,
            attempt=1,
            queue="all",
            exit=int(bad),
            use=Use(cpu_ms, chance.randrange(8192)),
            allocations=(Allocation(f"n{number % 64}", 1, tuple(range(cores)), 1024 * cores),),
            allocated_core_ms=took * cores * 1000,
            charge_core_ms=took * cores * 1000,
            times=JobTimes.of_one_attempt(at - 1000 * (took + waited), at - 1000 * took, took * 1000, cpu_ms),
        )


def write_year(folder: Path, count: int) -> Journal:
    """A journal in a folder with so many ended jobs, without events and sums."""
    journal, texts = Journal(folder), Texts()
    with journal.storage.sql.begin() as work:
        driver = work.connection.driver_connection
        batch = []
        for job in jobs(count):
            new = dict[int, str]()
            batch.append(ended_row(job, texts, new))
            driver.executemany(_KEEP_TEXT, list(new.items()))
            if len(batch) == 5000:
                driver.executemany(_INSERT_ENDED, batch)
                batch = []
        driver.executemany(_INSERT_ENDED, batch)
    return journal
