"""Code that runs inside a node needs nothing but the standard library of Python 3.9 or newer."""

import json
import os
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from lazy_quarry.run.node.attempt import (
    Command,
    Intent,
    Limits,
    Paths,
    Results,
    Staging,
    intent_text,
    lay_out,
    read_claim,
    read_exit,
)
from lazy_quarry.run.node.messages import (
    Ask,
    Ensure,
    Hello,
    Over,
    Refused,
    Renew,
    Welcome,
    line_of,
    message_of,
)
from lazy_quarry.run.node.process import start_ticks
from lazy_quarry.run.node.sockets import AGENT_SOCKET, dial, listen
from lazy_quarry.run.node.versions import NEWEST, OLDEST
from tests.conftest import until

SOURCE = Path(__file__).parents[2] / "src"


def interpreters():
    """Every Python of 3.9 or newer that is here, a version once."""
    places = [*Path.home().glob(".pyenv/versions/*/bin"), *map(Path, os.environ.get("PATH", "").split(":"))]
    found = {}
    for minor in range(9, 20):
        for place in places:
            path = place / f"python3.{minor}"
            if place.name != "shims" and path.exists():
                found.setdefault(minor, str(path))
    return sorted(found.values()) or [sys.executable]


class Alone:
    """An agent with one attempt, without the rest of the program and without what is installed beside it."""

    def __init__(self, base, python=sys.executable, lease_s=None, boot="", spool=None):
        self.spool, self.work = spool or base / "spool", base / "work"
        self.folder = self.spool / "1-1-ab"
        for each in (self.folder, self.work, base / "lq" / "lazy_quarry"):
            each.mkdir(parents=True, exist_ok=True)
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
        lay_out(self.folder, intent_text(self.intent), script)
        link = self.connect()
        link.sendall(line_of(Hello(OLDEST, NEWEST, "a journal", "here", 1)) + line_of(Ensure(1, "1-1-ab")))
        heard = map(message_of, link.makefile("rb"))
        assert next(heard) == Welcome(NEWEST, 1)
        return link, heard

    def connect(self):
        link = until(
            lambda: dial(self.spool, AGENT_SOCKET) or (self.agent.poll() and pytest.fail(self.agent.stderr.read()))
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
    if subprocess.run([python, "-c", ""], capture_output=True).returncode:
        pytest.skip(f"{python} does not work here")
    with Alone(tmp_path, python) as alone:
        _, heard = alone.start("#!/bin/sh\necho water; exit 4\n")
        told = next(heard)
        assert (told.name, told.lost, told.exit.exit, told.exit.mark) == ("1-1-ab", False, 4, "ab")
        assert read_exit(alone.folder, read_claim(alone.folder)) == told.exit
        assert (alone.work / "out.txt").read_text() == "water\n"


def test_an_attempt_goes_on_while_its_engine_renews_its_lease_and_not_because_somebody_is_connected(tmp_path):
    with Alone(tmp_path, lease_s=8.0) as alone:
        link, heard = alone.start("#!/bin/sh\ntouch began\nexec sleep 1000\n")
        asked = next(one for one in heard if isinstance(one, Ask))
        assert not (alone.work / "began").exists()  # nobody has said that it may
        last = asked.at
        while last < asked.at + 12.5:
            link.sendall(line_of(Renew(1, asked.name, last)))
            last = next(one for one in heard if isinstance(one, Ask)).at
        claim = read_claim(alone.folder)
        assert (alone.work / "began").exists() and read_exit(alone.folder, claim) is None
        told = next(one for one in heard if isinstance(one, Over))  # asked again and again, and not answered any more
        assert told.exit.cause == "lost" and "out of reach" in told.exit.reason


def test_an_attempt_that_nobody_lets_begin_never_does(tmp_path):
    with Alone(tmp_path, lease_s=0.5) as alone:
        link, heard = alone.start("#!/bin/sh\ntouch began\n")
        link.sendall(line_of(Renew(1, "1-1-ab", -1e9)))  # an answer that comes when it is over
        told = next(one for one in heard if isinstance(one, Over))
        assert told.exit.cause == "lost" and not (alone.work / "began").exists()


def test_an_engine_of_a_lower_epoch_or_another_version_is_not_listened_to(tmp_path):
    with Alone(tmp_path) as alone:
        lay_out(alone.folder, intent_text(alone.intent), "#!/bin/sh\nexec sleep 1000\n")
        first, later, newer = alone.connect(), alone.connect(), alone.connect()
        lines = [one.makefile("rb") for one in (first, later, newer)]
        first.sendall(line_of(Hello(1, 1, "a journal", "here", 4)))
        assert message_of(lines[0].readline()) == Welcome(1, 4)
        later.sendall(line_of(Hello(1, 1, "a journal", "here", 5)))
        assert message_of(lines[1].readline()) == Welcome(1, 5)
        first.sendall(line_of(Ensure(4, "1-1-ab")))
        assert message_of(lines[0].readline()) == Refused(OLDEST, NEWEST, 5)
        newer.sendall(line_of(Hello(NEWEST + 1, NEWEST + 3, "a journal", "here", 9)))
        assert message_of(lines[2].readline()) == Refused(OLDEST, NEWEST, 5)
        newer.sendall(b'{"ensure": "1-1-ab"}\n')  # as an engine did from before there was a greeting
        assert "stop the engine" in json.loads(lines[2].readline())["reason"]
        assert read_claim(alone.folder) is None
    with Alone(tmp_path / "again", spool=alone.spool) as again:  # another agent knows it too
        link = again.connect()
        link.sendall(line_of(Hello(1, 1, "a journal", "here", 4)))
        assert message_of(link.makefile("rb").readline()) == Refused(OLDEST, NEWEST, 5)


def test_a_claim_of_another_machine_or_boot_is_no_process_of_this_one(tmp_path):
    with Alone(tmp_path, boot="this boot") as alone:
        claim = {"boot": "another boot", "pid": os.getpid(), "ticks": start_ticks(os.getpid())}
        (alone.folder / "claim.json").write_text(json.dumps(claim))
        told = next(alone.start("#!/bin/sh\ntrue\n")[1])
        assert told.lost and told.name == "1-1-ab"


def test_whoever_connects_while_many_do_waits_for_their_turn(tmp_path):
    listener = listen(tmp_path, "many.sock")
    listener.listen(1)
    links = [dial(tmp_path, "many.sock", 0.0) for _ in range(2)]
    assert all(links) and dial(tmp_path, "many.sock", 0.0) is None
    turn = threading.Timer(0.3, lambda: links.append(listener.accept()[0]))
    turn.start()
    last = dial(tmp_path, "many.sock", 20.0)
    assert last is not None and last.getblocking()
    turn.join()
    for one in (listener, last, *links):
        one.close()
