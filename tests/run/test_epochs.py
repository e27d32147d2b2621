"""Engines that come back, journals that were put back, and agents of earlier versions."""

import json
import signal
import sqlite3
import subprocess
import sys
from contextlib import closing

from lazy_quarry.run.node.messages import Hello, Welcome, line_of, message_of
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FORMER_SOCKET, dial
from tests.conftest import until

WAITS = "touch began; until [ -e go ]; do sleep 0.05; done"


def epoch(machine):
    with closing(sqlite3.connect(f"file:{machine.state}/journal.db?mode=ro", uri=True)) as sql:
        return int(sql.execute("SELECT value FROM meta WHERE key = 'epoch'").fetchone()[0])


def known(machine):
    return json.loads((machine.state / "spool" / "epoch.json").read_text())


def test_an_agent_from_before_there_was_a_greeting_is_ended_and_jobs_start(machine):
    spool = machine.state / "spool"
    spool.mkdir(parents=True, mode=0o700)
    code = "from lazy_quarry.run.node.sockets import listen; from pathlib import Path; import sys\n"
    code += f"kept = listen(Path({str(spool)!r}), {FORMER_SOCKET!r}); print(flush=True); sys.stdin.read()"
    pipe = subprocess.PIPE
    with subprocess.Popen([sys.executable, "-c", code], stdin=pipe, stdout=pipe, env=machine.environment) as former:
        former.stdout.readline()
        assert machine.ended(machine.submit("true"))["state"] == "done"
        assert former.wait(30) == -signal.SIGTERM


def test_each_start_of_an_engine_is_an_epoch_and_one_that_is_superseded_leaves(machine):
    job = machine.submit(WAITS, "walltime=20m", "retries=0")
    until((machine.work / "began").exists, "the job's beginning")
    first, former = machine.engine(), epoch(machine)
    assert known(machine)["epoch"] == former
    link = dial(machine.state / "spool", AGENT_SOCKET)
    link.settimeout(30)
    link.sendall(line_of(Hello(1, 1, known(machine)["journal"], "here", former + 5)))  # one that came after it
    assert message_of(link.makefile("rb").readline()) == Welcome(1, former + 5)
    machine.submit("true")  # the agent is told of it by the first engine, and refuses
    until(lambda: first not in machine.processes("lazy_quarry.link.server"), "the first engine's end")
    assert machine.state_of(job) == "running"
    until(lambda: known(machine)["epoch"] > former + 5, "an engine of a number above that")
    (machine.work / "go").touch()
    assert machine.ended(job)["state"] == "done" and machine.ended(job + 1)["state"] == "done"
    assert epoch(machine) == known(machine)["epoch"]
    link.close()
