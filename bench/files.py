"""Files to a host beside what the system's own programs take for the same: one large file, and many small ones."""

import os
import shutil
import subprocess
import tempfile
import threading
import time
from contextlib import suppress
from pathlib import Path

from bench.hosts import FromHead
from cluster.cluster import Cluster
from cluster.folder import CLUSTERS

LARGE, SMALL, EACH = 1 << 30, 10_000, 1 << 10
TRIES = 4
"""Of each, by turns; the shortest counts: on a shared machine the same copy takes up to twice as long."""
BESIDE_S = 0.5
"""The 95th percentile of what a question takes beside a copy: as long may a message wait that stops a job."""


def _seconds(work, *words) -> float:
    began = time.perf_counter()
    work(*words)
    return time.perf_counter() - began


def _have_memory(top: Path) -> None:
    """Have as much memory as what follows takes: a virtual machine is given slowly what it hasn't used for a while."""
    content = bytes(1 << 20)
    with open(top / "memory", "wb") as file:
        for _ in range(5 * LARGE // len(content)):
            file.write(content)
    (top / "memory").unlink()


def _drop_kept(service) -> None:
    """What is kept for the next job goes: each copy is one."""
    for name, *_ in service.kept():
        with suppress(OSError):
            service.drop(name)


def figures(best):
    from lazy_quarry.core.job.job import Allocation, Job, Origin
    from lazy_quarry.core.job.request import Memory, Request, Stage
    from lazy_quarry.run.hosts.carrier import Carrying, carry_in, told_of
    from lazy_quarry.run.hosts.line import Line
    from lazy_quarry.run.remote_files import FilesAtSocket

    if os.geteuid() != 0:
        return  # nobody else's session can be opened without root
    top = Path(tempfile.mkdtemp(prefix="lq-bench-", dir="/dev/shm"))
    (top / "large").mkdir()
    (top / "large" / "one").write_bytes(os.urandom(LARGE))
    (top / "small").mkdir()
    for number in range(SMALL):
        (top / "small" / f"f{number:05}").write_bytes(os.urandom(EACH))
    with Cluster.made(Path(CLUSTERS) / f"bench-{os.getpid()}") as cluster:
        room = "mount -o remount,size=8g /tmp"  # for the files of two jobs, one that is kept, and that beside
        subprocess.run(cluster.on_head(["ssh", "h1", room]), check=True)
        line = Line(FromHead(cluster, "h1"), top / "line", "bench")
        line.start()
        try:
            while not line.connected:
                time.sleep(0.02)
            service = FilesAtSocket(top / "line", "h1", "bench", lambda: 1)

            def ours(what: str, name: str, carrying: "Carrying | None" = None) -> None:
                request = Request("x", "a", ("q",), "t", 600, Memory(100), stage=Stage((what,), ()))
                job = Job(1, "u", request, Origin("", "", str(top)), 0, allocations=(Allocation("h1", 1, (0,), 1),))
                service.prepare([name])
                service.make_place(name, told_of(job))
                carry_in(service, name, job, carrying=carrying)
                service.was_brought(name)

            def theirs(source: str) -> None:
                # One connection for each, as it is kept for ours.
                words = cluster.on_head(
                    ["ssh", "h1", "rm -rf /var/tmp/x; mkdir /var/tmp/x; cd /var/tmp/x; " + source.partition("|")[2]]
                )
                taking = subprocess.Popen(words, stdin=subprocess.PIPE)
                subprocess.run(["sh", "-c", source.partition("|")[0]], stdout=taking.stdin, check=True)
                taking.stdin.close()
                taking.wait()

            for name, what, source, bound in (
                ("files-large", "large", f"cat {top}/large/one|cat > one", 1 / 0.7),
                ("files-small", "small", f"tar -C {top} -cf - small|tar -xf -", 2.0),
            ):
                firsts, agains, others = [], [], []
                for tried in range(TRIES):
                    if what == "large":
                        _have_memory(top)
                    attempts, carrying = [f"{tried + 1}-{each}-ab" for each in (1, 2)], Carrying()
                    firsts.append(_seconds(ours, what, attempts[0], carrying))
                    agains.append(_seconds(ours, what, attempts[1], carrying))
                    for attempt in attempts:
                        service.forget(attempt)
                    _drop_kept(service)
                    others.append(_seconds(theirs, source))
                yield name, min(firsts), "s", min(others), bound
                if what == "large":
                    yield "files-again", min(agains), "s", min(firsts), 0.1
            asking = FilesAtSocket(top / "line", "h1", "bench", lambda: 1)
            copying = threading.Thread(target=ours, args=("large", "8-1-ab"))
            copying.start()
            took = []
            while copying.is_alive():
                took.append(_seconds(asking.is_claimed, "8-1-ab"))
                time.sleep(0.01)
            yield "files-beside", sorted(took)[len(took) * 95 // 100], "s", BESIDE_S, 1.0
        finally:
            line.close()
            shutil.rmtree(top, ignore_errors=True)
