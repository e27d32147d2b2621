"""What runs inside a node needs nothing but the standard library of Python 3.9 or newer."""

import json
import os
import shutil
import subprocess
import sys
from dataclasses import asdict
from pathlib import Path

import pytest

from lazy_quarry.run.node.attempt import (
    Command,
    Intent,
    Limits,
    Paths,
    Results,
    Staging,
    read_claim,
    read_exit,
    write_intent,
)
from lazy_quarry.run.node.process import start_ticks
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


class Alone:
    """An agent with one attempt, without the rest of the program and without what is installed beside it."""

    def __init__(self, base, python=sys.executable, lease_s=None, boot=""):
        self.spool, self.work = base / "spool", base / "work"
        self.folder = self.spool / "1-1-ab"
        for each in (self.folder, self.work, base / "lq" / "lazy_quarry"):
            each.mkdir(parents=True)
        for part in ("run/node", "files"):
            shutil.copytree(SOURCE / "lazy_quarry" / part, base / "lq" / "lazy_quarry" / part)
        for package in ("", "run"):
            shutil.copy(SOURCE / "lazy_quarry" / package / "__init__.py", base / "lq" / "lazy_quarry" / package)
        output = str(self.work / "out.txt")
        self.intent = Intent(
            1,
            1,
            "alone",
            [("here", 1)],
            Paths(str(self.work), output, output, ""),
            Command({"PATH": os.environ["PATH"]}, [], [], []),
            Limits(sorted(os.sched_getaffinity(0))[:1], 100, 60, 1, None),
            Staging([], [], str(self.folder / "scratch"), str(base / "spared")),
            Results([], False, ""),
            "a journal",
            "ab",
            lease_s,
        )
        environment = {**os.environ, "PYTHONPATH": str(base / "lq"), "LQ_LOCKS": str(base / "locks"), "LQ_BOOT": boot}
        command = [python, "-S", "-m", "lazy_quarry.run.node.agent", str(self.spool)]
        self.agent = subprocess.Popen(
            command, env=environment, start_new_session=True, stderr=subprocess.PIPE, text=True
        )

    def start(self, script):
        write_intent(self.folder, self.intent, script)
        link = self.connect()
        link.sendall(b'{"ensure": "1-1-ab"}\n')
        return link

    def connect(self):
        link = until(
            lambda: dial(self.spool, "agent.sock") or (self.agent.poll() and pytest.fail(self.agent.stderr.read()))
        )
        link.settimeout(30)
        return link

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.agent.kill()
        self.agent.wait()
        self.agent.stderr.close()


@pytest.mark.parametrize("python", interpreters())
def test_the_agent_and_the_supervisor_run_a_job_by_themselves(python, tmp_path):
    with Alone(tmp_path, python) as alone:
        told = json.loads(alone.start("#!/bin/sh\necho water; exit 4\n").makefile().readline())
        assert (told["ended"], told["exit"]["exit"], told["exit"]["mark"]) == ("1-1-ab", 4, "ab")
        assert asdict(read_exit(alone.folder, read_claim(alone.folder))) == told["exit"]
        assert (alone.work / "out.txt").read_text() == "water\n"


def test_an_attempt_with_a_lease_ends_when_its_site_is_out_of_reach(tmp_path):
    with Alone(tmp_path, lease_s=2.0) as alone:
        link = alone.start("#!/bin/sh\nexec sleep 1000\n")
        lease = alone.folder / "lease"
        first = until(lambda: lease.exists() and lease.read_text(), "the first renewal")
        until(
            lambda: float(lease.read_text()) > float(first) + 3, "renewals past the lease, while the engine is in reach"
        )
        link.close()
        ended = until(lambda: read_exit(alone.folder, read_claim(alone.folder)), "the end")
        assert ended.cause == "lost" and "out of reach" in ended.reason


def test_a_claim_of_another_machine_or_boot_is_no_process_of_this_one(tmp_path):
    with Alone(tmp_path, boot="this boot") as alone:
        claim = {"boot": "another boot", "pid": os.getpid(), "ticks": start_ticks(os.getpid())}
        (alone.folder / "claim.json").write_text(json.dumps(claim))
        told = json.loads(alone.start("#!/bin/sh\ntrue\n").makefile().readline())
        assert told["lost"] == "1-1-ab"
