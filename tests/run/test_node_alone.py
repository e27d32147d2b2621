"""What runs inside a node needs nothing but the standard library of Python 3.9 or newer."""

import json
import os
import shutil
import subprocess
import sys
from dataclasses import asdict
from pathlib import Path

import pytest

from lazy_quarry.run.node.attempt import Command, Intent, Limits, Paths, Results, Staging, read_exit, write_intent
from lazy_quarry.run.node.sockets import dial
from tests.conftest import until

SOURCE = Path(__file__).parents[2] / "src"


def interpreters():
    """Every Python of 3.9 or newer that is here, this one's version once."""
    places = [*os.environ.get("PATH", "").split(":"), *map(str, Path.home().glob(".pyenv/versions/*/bin"))]
    found = {}
    for minor in range(9, 20):
        for place in places:
            path = Path(place) / f"python3.{minor}"
            works = path.exists() and subprocess.run([path, "-c", ""], capture_output=True).returncode == 0
            if works:
                found.setdefault(minor, str(path))
    return sorted(found.values()) or [sys.executable]


@pytest.mark.parametrize("python", interpreters())
def test_the_agent_and_the_supervisor_run_a_job_by_themselves(python, tmp_path):
    spool, work = tmp_path / "spool", tmp_path / "work"
    folder = spool / "1-1-ab"
    for each in (folder, work, tmp_path / "lq" / "lazy_quarry"):
        each.mkdir(parents=True)
    # Alone: without the rest of the program, and without what is installed beside it.
    shutil.copytree(SOURCE / "lazy_quarry" / "run" / "node", tmp_path / "lq" / "lazy_quarry" / "run" / "node")
    for package in ("", "run"):
        shutil.copy(SOURCE / "lazy_quarry" / package / "__init__.py", tmp_path / "lq" / "lazy_quarry" / package)
    output = str(work / "out.txt")
    intent = Intent(
        1,
        1,
        "alone",
        [("here", 1)],
        Paths(str(work), output, output, ""),
        Command({"PATH": os.environ["PATH"]}, [], [], []),
        Limits(sorted(os.sched_getaffinity(0))[:1], 100, 60, 5, None),
        Staging([], [], str(folder / "scratch"), str(tmp_path / "spared")),
        Results([], False, ""),
        "a journal",
        "ab",
    )
    write_intent(folder, intent, "#!/bin/sh\necho water; exit 4\n")
    environment = {**os.environ, "PYTHONPATH": str(tmp_path / "lq"), "LQ_LOCKS": str(tmp_path / "locks")}
    command = [python, "-S", "-m", "lazy_quarry.run.node.agent", str(spool)]
    agent = subprocess.Popen(command, env=environment, start_new_session=True, stderr=subprocess.PIPE, text=True)
    try:
        link = until(lambda: dial(spool, "agent.sock") or (agent.poll() and pytest.fail(agent.stderr.read())))
        link.settimeout(30)
        link.sendall(b'{"ensure": "1-1-ab"}\n')
        told = json.loads(link.makefile().readline())
        assert (told["ended"], told["exit"]["exit"], told["exit"]["mark"]) == ("1-1-ab", 4, "ab")
        assert asdict(read_exit(folder)) == told["exit"]
        assert (work / "out.txt").read_text() == "water\n"
    finally:
        agent.kill()
        agent.wait()
        agent.stderr.close()
