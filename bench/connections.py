"""An engine with many connections: submissions over four, its answer to ``jobs`` meanwhile, and two hundred that listen."""

import os
import shutil
import sqlite3
import statistics
import tempfile
import threading
import time
from pathlib import Path

from bench.timing import cpu_s

SCRIPT = '#!/bin/sh\n# /// job\n# walltime = "1m"\n# memory = "16 MiB/core"\n# output = "/dev/null"\n# ///\nexec true\n'
SUBMITTED, LISTENERS, WATCHED_S = 800, 200, 5.0


def bare_writes(folder: Path) -> float:
    """Seconds of as many transactions as a submission makes, with a row each, of the same durability."""
    base = sqlite3.connect(folder / "bare.db", isolation_level=None)
    base.execute("PRAGMA journal_mode = WAL")
    base.execute("PRAGMA synchronous = FULL")
    base.execute("CREATE TABLE row (body BLOB)")
    began = time.perf_counter()
    for _ in range(SUBMITTED):
        base.execute("BEGIN IMMEDIATE")
        base.execute("INSERT INTO row VALUES (?)", (b"x" * 600,))
        base.execute("COMMIT")
    taken = time.perf_counter() - began
    base.close()
    return taken


def figures(best):
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.link.client import SocketClient
    from lazy_quarry.run.node.sockets import dial

    base = Path(tempfile.mkdtemp(prefix="lq-bench-"))
    locks = tempfile.mkdtemp(prefix="lq-bench-", dir="/dev/shm" if os.access("/dev/shm", os.W_OK) else None)
    os.environ["LQ_LOCKS"], os.environ["LQ_LINGER"] = locks, "1"
    clients = [SocketClient(base / "state") for _ in range(5)]
    asking = clients.pop()
    listeners = []
    try:
        cores = len(os.sched_getaffinity(0))
        sleeper = Submission(
            SCRIPT.replace("exec true", "exec sleep 600"), directory="/tmp", overrides=(f"ranks={cores}",)
        )
        first = clients[0].submit(sleeper).job
        waits: list[float] = []
        over = threading.Event()

        def ask() -> None:
            while not over.is_set():
                began = time.perf_counter()
                asking.jobs(limit=50)
                waits.append(time.perf_counter() - began)
                over.wait(0.1)

        def submit(client) -> None:
            for _ in range(SUBMITTED // len(clients)):
                client.submit(Submission(SCRIPT, directory="/tmp"))

        threads = [threading.Thread(target=submit, args=(client,)) for client in clients]
        listener = threading.Thread(target=ask)
        listener.start()
        began = time.perf_counter()
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        taken = time.perf_counter() - began
        over.set()
        listener.join()
        bare = bare_writes(base)
        yield "submit-over-4", taken, "s", bare, 40
        yield "submissions-a-second", 300 / (SUBMITTED / taken), "of 300", 1.0, 1
        yield "jobs-meanwhile-p95", statistics.quantiles(waits, n=20)[-1] if len(waits) > 2 else waits[-1], "s", 0.1, 1
        links = [dial(base / "state", "engine.sock") for _ in range(LISTENERS)]
        listeners = [link for link in links if link is not None]
        assert len(listeners) == LISTENERS
        engine = int(_engine_of(listeners[0]))
        for link in listeners:
            threading.Thread(target=_read, args=(link,), daemon=True).start()
        until = time.monotonic() + 60.0
        while time.monotonic() < until:  # the first ranges of all that waits are drawn without a rest
            before = cpu_s(engine)
            time.sleep(2.0)
            if cpu_s(engine) - before < 0.04:
                break
        for name, turns, bound in (("listeners-idle", 0, 0.01), ("listeners-one-a-second", 1, 0.2)):
            before, until, job = cpu_s(engine), time.monotonic() + WATCHED_S, first + 1
            while time.monotonic() < until:
                if turns:
                    clients[0].hold([job])
                    job += 1
                time.sleep(1.0)
            yield name, (cpu_s(engine) - before) / WATCHED_S, "of a core", 1.0, bound
        clients[0].cancel([one.job for one in clients[0].jobs(limit=5_000)])
    finally:
        for link in listeners:
            link.close()
        for client in (*clients, asking):
            client.close()
        for folder in (base, locks):
            shutil.rmtree(folder, ignore_errors=True)


def _engine_of(link) -> int:
    import msgspec

    return msgspec.json.decode(link.makefile("rb").readline())["params"]["pid"]


def _read(link) -> None:
    try:
        while link.recv(65536):
            pass
    except OSError:
        pass
