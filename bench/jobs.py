"""Start 500 jobs of ``true``, to their recorded ends, against a bare posix_spawn and waitpid loop."""

import os
import shutil
import sqlite3
import tempfile
import time
from pathlib import Path

JOBS = 500
SCRIPT = '#!/bin/sh\n# /// job\n# walltime = "1m"\n# memory = "16 MiB/core"\n# output = "/dev/null"\n# ///\nexec true\n'


def spawn() -> None:
    for _ in range(JOBS):
        os.waitpid(os.posix_spawn("/bin/true", ["true"], {}), 0)


def figures(best):
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.link.client import SocketClient

    base = tempfile.mkdtemp(prefix="lq-bench-")
    locks = tempfile.mkdtemp(prefix="lq-bench-", dir="/var/tmp")  # where locks and claims are by default
    os.environ["LQ_LOCKS"] = locks
    os.environ["LQ_LINGER"] = "1"
    client = SocketClient(Path(base) / "state")
    try:
        blocker = Submission(SCRIPT.replace("exec true", "exec sleep 600"), directory="/tmp", overrides=(_all_cores(),))
        first = client.submit(blocker).job
        for _ in range(JOBS):
            client.submit(Submission(SCRIPT, directory="/tmp"))
        reference = best(3, spawn)
        began = time.perf_counter()
        client.cancel([first])
        with sqlite3.connect(f"file:{base}/state/journal.db?mode=ro", uri=True) as journal:
            while journal.execute("SELECT count(*) FROM ended").fetchone()[0] <= JOBS:
                time.sleep(0.02)
        taken = time.perf_counter() - began
        assert client.job(first + JOBS).phase == "done"
    finally:
        client.close()
        for folder in (base, locks):
            shutil.rmtree(folder, ignore_errors=True)
    yield "start-500-jobs", taken, "s", reference, 12
    yield "array-tasks-a-second", 60 / array_rate(), "of 60", 1.0, 1


def array_rate() -> float:
    """Tasks a second, to their recorded ends, of an array of 20,000 of which the first thousand are waited for."""
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.link.client import SocketClient

    base = tempfile.mkdtemp(prefix="lq-bench-")
    client = SocketClient(Path(base) / "state")
    try:
        array = SCRIPT.replace("# ///\nexec", '# [array]\n# tasks = "1..20000"\n# ///\nexec')
        job = client.submit(Submission(array, directory="/tmp")).job
        with sqlite3.connect(f"file:{base}/state/journal.db?mode=ro", uri=True) as journal:

            def until(count: int) -> float:
                while journal.execute("SELECT count(*) FROM ended").fetchone()[0] < count:
                    time.sleep(0.02)
                return time.perf_counter()

            rate = 1_000 / -(until(100) - until(1_100))
        client.cancel([job])
        while client.job(job).ended_ms is None:
            time.sleep(0.05)
    finally:
        client.close()
        shutil.rmtree(base, ignore_errors=True)
    return rate


def _all_cores() -> str:
    return f"ranks={len(os.sched_getaffinity(0))}"
