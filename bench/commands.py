"""Commands against a running engine with 100 live jobs, an array among them; each against ``python -c pass``."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.link.client import SocketClient

SCRIPT = """#!/bin/sh
# /// job
# walltime = "10m"
# memory = "64 MiB/core"
# not-before = 2099-01-01T00:00:00Z
# ///
true
"""
JOBS = 99
TURNS = 12


def figures(best):
    def beside_bare(words, environment):
        """Best times of a command and of a bare Python, taken in turn: a machine's pace changes within seconds."""
        taken, bare = float("inf"), float("inf")
        for _ in range(TURNS):
            bare = min(bare, best(1, lambda: _run([sys.executable, "-c", "pass"], dict(os.environ))))
            taken = min(taken, best(1, lambda: _lq(words, environment)))
        return taken, "s", bare

    with tempfile.TemporaryDirectory() as base:
        folder = Path(base) / "state"
        environment = {**os.environ, "LQ_STATE": str(folder), "LQ_LOCKS": base, "LQ_LINGER": "300"}
        os.environ.update({name: environment[name] for name in ("LQ_LOCKS", "LQ_LINGER")})
        script = Path(base) / "late.sh"
        script.write_text(SCRIPT)
        client = SocketClient(folder)
        array = Submission(SCRIPT, "array", base, ('array.tasks="1..50"',))
        job = client.submit(array).job
        for number in range(JOBS):
            client.submit(Submission(SCRIPT, f"late-{number}", base))
        completing = environment | {"_LAZY_QUARRY_COMPLETE": "bash", "LQ_COMPLETE_LINE": "lq show "}
        commands = {
            "jobs": ["jobs", "--columns", "job,name,state,words,why"],
            "show": ["show", str(job + 1)],
            "why": ["why", str(job + 1)],
            "submit": ["submit", str(script)],
        }
        for name, words in commands.items():
            yield name, *beside_bare(words, environment), 10
        yield "completion", *beside_bare([], completing), 10
        for name in ("help", "version"):
            yield name, *beside_bare([f"--{name}"], environment), 6
        client.cancel([view.job for view in client.jobs()])
        client.leave()


def _lq(words: list[str], environment: dict[str, str]) -> None:
    _run([sys.executable, "-m", "lazy_quarry", *words], environment)


def _run(words: list[str], environment: dict[str, str]) -> None:
    subprocess.run(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment, check=True)
