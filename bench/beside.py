"""The call ``jobs`` beside the slowest calls of others: a year's reports and searches, 100,000 files, a study, a sweep.

Whoever makes these is a process of its own, so that what their answers cost them is not measured.
"""

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from itertools import islice
from pathlib import Path

from bench.year import jobs
from lazy_quarry.core.values import replace

PAST, FILES, WAITING, CALLS, PAUSE_S = 50_000, 100_000, 300, 100, 0.04
HEAD = '#!/bin/sh\n# /// job\n# walltime = "10m"\n# memory = "16 MiB/core"\n# output = "/dev/null"\n'
MANY_FILES = f"import os; [os.close(os.open(f'f{{n % 100}}-{{n}}', os.O_CREAT)) for n in range({FILES})]"


def client_of(folder):
    from lazy_quarry.link.client import SocketClient

    return SocketClient(Path(folder))


def submission(lines, body, folder="/tmp"):
    from lazy_quarry.core.header.submission import Submission

    return Submission(f"{HEAD}{lines}# ///\n{body}\n", "run.sh", str(folder))


def slow_calls(client, made, sweep):
    """The calls that take longest, by name."""
    return {
        "made": lambda: client.made(made),
        "search": lambda: client.search("word7 took > 1h", sort="-cores", limit=200),
        "report": lambda: client.report("all", ["user", "name"]),
        "waits": lambda: client.waits("all"),
        "rhythm": lambda: client.rhythm("all"),
        "waste": lambda: client.waste("all"),
        "records": lambda: client.records("all"),
        "expand": lambda: client.expand(sweep),
        "detail": lambda: client.detail(made),
        "chain": lambda: client.jobs(ended=True, limit=20_000),
    }


def keep_calling(folder, made):
    """Make slow calls, one after the other and a study beside them, until this process is ended."""
    client, other = client_of(folder), client_of(folder)
    sweep = submission("# [array]\n# tasks = 90000\n", "echo $LQ_TASK")
    calls = slow_calls(client if os.getpid() % 2 else other, int(made), sweep)
    while True:
        for name, call in calls.items():
            began = time.perf_counter()
            with suppress(Exception):
                call()
            print(name, time.perf_counter() - began, flush=True)
        with suppress(Exception):
            other.begin_study(["planned"], "2000-01-01")


def p95(client):
    """Seconds of nineteen in twenty calls of ``jobs``, made at a pace that leaves the engine at rest between them."""
    found = []
    for _ in range(CALLS):
        began = time.perf_counter()
        client.jobs(limit=50)
        found.append(time.perf_counter() - began)
        time.sleep(PAUSE_S)
    return statistics.quantiles(found, n=20)[-1]


def figures(best):
    from lazy_quarry.store.journal import Journal

    base = Path(tempfile.mkdtemp(prefix="lq-bench-"))
    locks = tempfile.mkdtemp(prefix="lq-bench-", dir="/dev/shm" if os.access("/dev/shm", os.W_OK) else None)
    os.environ["LQ_LOCKS"], os.environ["LQ_LINGER"] = locks, "1"
    state, work = base / "state", base / "work"
    work.mkdir()
    callers = []
    try:
        journal = Journal(state)
        past = (replace(one, number=one.number + 1_000) for one in jobs(PAST))  # beyond the numbers of those to come
        while some := list(islice(past, 20_000)):
            journal.import_past(some)
        journal.close()
        client = client_of(state)
        made = client.submit(submission("", f'{sys.executable} -c "{MANY_FILES}"', work)).job
        while not client.job(made).phase.final:
            time.sleep(0.2)
        cores = len(os.sched_getaffinity(0))
        for _ in range(WAITING):
            client.submit(submission(f"# ranks = {cores}\n", "exec sleep 600"))
        while client.search("word7", limit=1).behind:
            time.sleep(0.2)
        alone = min(p95(client) for _ in range(2))
        callers = [
            subprocess.Popen([sys.executable, "-m", "bench.beside", str(state), str(made)], stdout=subprocess.PIPE)
            for _ in range(3)
        ]
        for caller in callers:
            caller.stdout.readline()  # its first call was answered
        yield "jobs-beside-slow", p95(client), "s", alone, 3
        for caller in callers:
            caller.kill()
        client.cancel([one.job for one in client.jobs(limit=5_000)])
        client.leave()
    finally:
        for caller in callers:
            caller.kill()
            caller.wait()
        for folder in (base, locks):
            shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    keep_calling(*sys.argv[1:])
