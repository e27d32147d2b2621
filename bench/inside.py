"""The helpers inside of a job: a thousand tasks of ``true`` beside a bare loop of that width, a long journal, a phase."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from lazy_quarry.inside.spread_journal import SpreadJournal

TASKS, MANY = 1_000, 100_000
HELPER = [sys.executable, "-I", "-S", "-c"]
MAIN = "import sys; sys.path.insert(0, {!r}); from lazy_quarry.inside.main import leave; leave()"


def bare(width: int) -> None:
    """Run commands, so many at a time: start one whenever one has ended."""
    left, running = TASKS, 0
    while left or running:
        while left and running < width:
            os.posix_spawnp("true", ["true"], os.environ)
            left, running = left - 1, running + 1
        os.wait()
        running -= 1


def figures(best):
    source = str(Path(__file__).resolve().parent.parent / "src")
    main, quiet = MAIN.format(source), {"stderr": subprocess.DEVNULL}
    with tempfile.TemporaryDirectory() as folder:
        width = len(os.sched_getaffinity(0))
        loop = best(5, lambda: bare(width))
        numbers = iter(range(10**6))

        def spread() -> None:
            words = ["spread", "--with", f"n=range 1..{TASKS}", "--journal", f"{folder}/{next(numbers)}", "--", "true"]
            subprocess.run([*HELPER, main, *words], check=True, **quiet)

        yield "spread-1000", best(5, spread), "s", loop, 3

        path = f"{folder}/long"
        journal = SpreadJournal(path, ["true"])
        entry = {
            "attempt": 1,
            "exit": 0,
            "signal": None,
            "seconds": 0.1,
            "cpu_s": 0.1,
            "memory_peak_mib": 9,
            "node": "here",
        }
        for number in range(MANY - 100):
            journal.note({"task": number + 1, "parameters": {"n": str(number + 1)}, "outcome": "done", **entry})
        os.close(journal.fd)
        told = "import sys, resource; sys.path.insert(0, {!r}); from lazy_quarry.inside.main import main; "
        told += "main(sys.argv[1:]); print(resource.getrusage(resource.RUSAGE_SELF)[2])"
        words = ["spread", "--with", f"n=range 1..{MANY}", "--journal", path, "--", "true"]
        shell = [
            "sh",
            "-c",
            '"$@"; exit $?',
            "sh",
        ]  # in between, since a process begins with the peak of what started it
        run = subprocess.run([*shell, *HELPER, told.format(source), *words], check=True, capture_output=True, text=True)
        yield "spread-100k-memory", int(run.stdout.split()[-1]) / 1024, "MiB", 100.0, 1

        nothing = best(9, lambda: subprocess.run([sys.executable, "-c", "pass"], check=True))
        phase = [*HELPER, main, "phase", "x", "--", "true"]
        yield "phase", best(9, lambda: subprocess.run(phase, check=True)), "s", nothing, 6
