"""Whatever of the three processes is killed, whenever: nothing is lost, nothing runs twice."""

import asyncio
import contextlib
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from collections import Counter
from pathlib import Path

import pytest

from lazy_quarry.core.engine.events import Started
from lazy_quarry.core.job.by import By
from lazy_quarry.run.node import groups
from lazy_quarry.site.caller import Caller
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.sqlite.tables import events
from tests.conftest import SEEDS, rows_of, script, until

RUNS = 'echo "$LQ_JOB-$LQ_ATTEMPT" >> ran.txt\nsleep 1.2\necho through'
WAITS = RUNS.replace("sleep 1.2", "until [ -e go ]; do sleep 0.05; done")
"""It runs until it is let go."""


def let_go(machine):
    (machine.work / "go").touch()


def ran(machine):
    path = machine.work / "ran.txt"
    return path.read_text().split() if path.exists() else []


def kill(pid):
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def began(machine, job, attempt=1):
    until(lambda: f"{job}-{attempt}" in ran(machine), "the job's first line")


@pytest.mark.parametrize("victims", ["engine", "agent", "engine agent"])
def test_a_job_goes_on_when_those_above_its_supervisor_are_killed(machine, victims):
    job = machine.submit(WAITS)
    began(machine, job)
    pids = {"engine": machine.engine(), "agent": machine.agent()}
    for victim in victims.split():
        kill(pids[victim])
    let_go(machine)
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("done", 1)
    assert ran(machine) == [f"{job}-1"]


@pytest.mark.parametrize(
    "victims",
    ["supervisor", "agent supervisor", "engine supervisor", "engine agent supervisor", "supervisor agent engine"],
)
def test_an_attempt_without_its_supervisor_is_lost_and_run_once_more(machine, victims):
    job = machine.submit(WAITS)
    began(machine, job)
    pids = {"engine": machine.engine(), "agent": machine.agent(), "supervisor": machine.supervisor(job)}
    for victim in victims.split():
        kill(pids[victim])
    let_go(machine)
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("done", 2)
    assert ran(machine) == [f"{job}-1", f"{job}-2"]
    assert any(event["what"].startswith("lost") for event in found["events"])


def test_without_retries_a_lost_attempt_is_the_end(machine):
    job = machine.submit(
        "(trap '' TERM HUP; sleep 1000) & env -i sleep 1000 & " + RUNS.replace("1.2", "1000"), "retries=0"
    )
    began(machine, job)
    kill(machine.supervisor(job))
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("lost", 1)
    left = subprocess.run(["pgrep", "-f", "^sleep 1000$"], capture_output=True, text=True).stdout.split()
    mine = [
        pid for pid in left if os.path.exists(f"/proc/{pid}") and os.readlink(f"/proc/{pid}/cwd") == str(machine.work)
    ]
    assert mine == []


def test_a_job_ends_and_is_recorded_with_nobody_above_it(machine):
    job = machine.submit(WAITS)
    began(machine, job)
    engine, agent, supervisor = machine.engine(), machine.agent(), machine.supervisor(job)
    folder = machine.attempt(job)
    kill(engine)
    kill(agent)
    let_go(machine)
    until(lambda: not os.path.exists(f"/proc/{supervisor}"), "the supervisor's end")
    assert (folder / f"exit.{supervisor}").exists()
    assert machine.ended(job)["state"] == "done"
    until(lambda: not folder.exists(), "the tidying of the spool")


def test_walltime_is_kept_with_nobody_above(machine):
    job = machine.submit("exec sleep 1000", 'walltime = "2s"', 'grace = "1s"')
    supervisor = machine.supervisor(job)
    kill(machine.engine())
    kill(machine.agent())
    until(lambda: not os.path.exists(f"/proc/{supervisor}"), "the supervisor's end")
    assert machine.ended(job)["state"] == "overtime"


def test_a_cancel_reaches_a_job_whose_agent_was_killed(machine):
    job = machine.submit("exec sleep 1000")
    machine.supervisor(job)
    kill(machine.agent())
    assert machine.lq("cancel", str(job)).returncode == 0
    assert machine.ended(job)["state"] == "cancelled"


@pytest.mark.parametrize("seed", range(SEEDS))
def test_kills_at_any_instant_lose_nothing_and_run_nothing_twice(machine, seed):
    chance = random.Random(seed)
    jobs = [
        machine.submit(RUNS.replace("1.2", f"{chance.uniform(0, 0.8):.2f}"), "memory=16 MiB/core", "retries=6")
        for _ in range(10)
    ]
    pause = random.Random(seed + 100)
    for _ in range(10):
        pids = [*machine.processes("lazy_quarry.link.server"), *machine.agents()]
        if pids:
            for pid in chance.sample(pids, chance.randint(1, len(pids))):
                kill(pid)
        machine.lq("jobs")  # the next command brings the engine back
        time.sleep(pause.uniform(0, 0.4))  # only to vary the instant; nothing is concluded from it
    assert machine.lq("wait", *map(str, jobs)).returncode in (0, 1)
    counts = Counter(ran(machine))
    assert max(counts.values()) == 1, counts
    for job in jobs:
        found = machine.show(job)
        assert found["state"] in ("done", "lost")
        if found["state"] == "done":
            assert f"{job}-{found['attempt']}" in counts


def test_an_attempt_placed_but_never_claimed_is_started_after_all(machine):
    """The engine is killed between the journal's entry and the supervisor's claim."""
    job = machine.submit(RUNS, "retries=0")
    began(machine, job)
    machine.ended(job)
    kill(machine.engine())
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    journal = Journal(machine.state)
    state = journal.load()
    from lazy_quarry.core.engine.commands import Schedule, Submit
    from lazy_quarry.core.engine.engine import Engine
    from lazy_quarry.probe.machine import user_name
    from lazy_quarry.site.site_file.site_file import local_site

    ended = journal.ended_job(job)
    engine = Engine(local_site(), state)
    at = state.at_ms + 1
    for command in (Submit(at, By(user_name()), ended.request, ended.origin), Schedule(at)):
        events = engine.decide(command)
        journal.append(events, engine.state)
        engine.apply(events)
    assert isinstance(events[-1], Started)
    journal.close()
    (machine.state / "spool" / f"{job + 1}-1").mkdir()  # made before the start was recorded
    found = machine.ended(job + 1)
    assert (found["state"], found["attempt"]) == ("done", 1)
    assert ran(machine) == [f"{job}-1", f"{job + 1}-1"]


def test_a_copied_folder_neither_runs_again_nor_harms_the_original(machine):
    job = machine.submit(WAITS)
    waiting = machine.submit("true", "ranks=" + str(len(os.sched_getaffinity(0))))
    began(machine, job)
    copy = machine.state.with_name("copy")
    shutil.copytree(machine.state, copy, ignore=shutil.ignore_patterns("*.sock", "*.lock"))
    told = machine.lq("jobs", "--state", str(copy))
    assert told.returncode == 2 and "is a copy of" in told.stderr and "adopt" in told.stderr
    assert machine.lq("adopt", "--state", str(copy)).returncode == 0
    there = json.loads(machine.lq("show", str(job), "--state", str(copy), "--format", "json").stdout)
    assert there["state"] == "lost"
    held = json.loads(machine.lq("show", str(waiting), "--state", str(copy), "--format", "json").stdout)
    assert held["state"] == "held"
    (machine.work / "go").touch()
    assert machine.ended(job)["state"] == "done"
    assert ran(machine) == [f"{job}-1"]
    for pid in machine.processes("lazy_quarry.link.server"):
        kill(pid)


def test_a_second_folder_does_not_promise_the_same_cores(machine):
    cores = len(os.sched_getaffinity(0))
    first = machine.submit("sleep 1000", f"ranks={cores}")
    machine.supervisor(first)
    other = str(machine.state.with_name("other"))
    done = machine.lq("submit", "--state", other, "--set", "walltime=1m", "--", "true")
    assert done.returncode == 2
    assert f"in use by the jobs of {machine.state}" in done.stderr
    machine.lq("cancel", str(first))
    machine.ended(first)
    submit = ("submit", "--state", other, "--set", "walltime=1m", "--", "true")
    until(lambda: machine.lq(*submit).returncode == 0, "the cores")
    assert machine.lq("wait", "1", "--state", other).returncode == 0
    for pid in list(machine.processes("lazy_quarry")):
        kill(pid)


def test_a_folder_that_cannot_be_written_says_so(machine):
    machine.environment["LQ_STATE"] = "/proc/nowhere/state"
    done = machine.lq("jobs")
    assert done.returncode == 2
    assert "/proc/nowhere/state" in done.stderr and len(done.stderr.strip().split("\n")) == 1


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_read_only_folder_says_so(machine):
    machine.ended(machine.submit("true"))
    for pid in [*machine.processes("lazy_quarry.link.server"), *machine.agents()]:
        kill(pid)
    mount = subprocess.run(["mount", "--bind", machine.state, machine.state], capture_output=True)
    if mount.returncode:
        pytest.skip("bind mounts are not allowed here")
    try:
        subprocess.run(["mount", "-o", "remount,ro,bind", machine.state], check=True)
        done = machine.lq("jobs")
        assert done.returncode == 2
        assert "cannot be written" in done.stderr
    finally:
        subprocess.run(["umount", "-l", machine.state], check=True)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_full_disk_refuses_and_loses_nothing(machine):
    machine.state.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", machine.state], capture_output=True
    ).returncode:
        pytest.skip("tmpfs cannot be mounted here")
    filler = machine.state / "filler"
    try:
        running = machine.submit(RUNS)
        began(machine, running)
        with open(filler, "wb", buffering=0) as file:
            try:
                while True:
                    file.write(b"x" * 65536)
            except OSError:
                pass
            try:
                while True:
                    file.write(b"x" * 512)
            except OSError:
                pass
        refused = machine.lq("submit", "--set", "walltime=1m", "--", "echo " + "x" * 100_000)
        assert refused.returncode == 2
        assert "is full" in refused.stderr
        filler.unlink()
        assert machine.ended(running)["state"] == "done"
        assert machine.ended(machine.submit("true"))["state"] == "done"
        assert ran(machine).count(f"{running}-1") == 1
    finally:
        machine.kill_all()
        subprocess.run(["umount", "-l", machine.state], check=True)


def test_the_journal_replays_to_what_was_shown(machine):
    for body in ("true", "exit 1"):
        machine.ended(machine.submit(body))
    shown = [machine.show(job)["state"] for job in (1, 2)]
    kill(machine.engine())
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    journal = Journal(machine.state, reading=True)
    kinds = [row.kind for row in rows_of(journal, events)]
    journal.close()
    assert kinds == ["submitted", "started", "ended"] * 2
    assert [machine.show(job)["state"] for job in (1, 2)] == shown == ["done", "failed"]


# -- what a job may do to those above it ----------------------------------------------------------


def test_a_job_that_removes_its_own_folder_loses_nothing(machine):
    job = machine.submit('lq phase first -- true\nrm -rf "$LQ_ATTEMPT_FOLDER"\nsleep 0.3\nexit 3', "retries=0")
    found = machine.ended(job)
    assert (found["state"], found["exit"]) == ("failed", 3) and found["reason"] != "lost"


@pytest.mark.parametrize("victims", ["", "engine", "agent", "engine agent"])
def test_an_attempt_whose_folder_is_gone_never_runs_again_keeps_its_walltime_and_is_lost(machine, victims):
    body = 'echo "$LQ_JOB-$LQ_ATTEMPT" >> ran.txt\nrm -rf "${LQ_ATTEMPT_FOLDER%/own}"\ntouch gone\nsleep 1000'
    job = machine.submit(body, "retries=0", "walltime=4s", "grace=1s")
    until((machine.work / "gone").exists, "the removal")
    agents = [pid for pid in machine.agents() if not _below_an_agent(pid)]
    pids = {"engine": machine.engine(), "agent": agents[0]}
    for victim in victims.split():
        kill(pids[victim])
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("lost", 1)
    assert "folder in the spool was removed" in found["reason"]
    assert ran(machine) == [f"{job}-1"]
    assert not _sleepers(machine)


@pytest.mark.parametrize("leaves", ["mkdir -m 700", "touch"])
def test_an_attempt_that_made_its_folder_anew_and_ended_unseen_never_runs_again(machine, leaves):
    body = f'rm -rf "${{LQ_ATTEMPT_FOLDER%/own}}"\n{leaves} "${{LQ_ATTEMPT_FOLDER%/own}}"\n{WAITS}'
    job = machine.submit(body, "retries=0")
    began(machine, job)
    kill(machine.engine())
    let_go(machine)
    until(lambda: not machine.agents(), "the agent's leave, when nothing runs and nobody is connected")
    found = machine.ended(job)
    assert (found["state"], ran(machine)) == ("lost", [f"{job}-1"])


def _below_an_agent(pid):
    parent = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1]
    with contextlib.suppress(OSError):
        return b"lazy_quarry.run.node.agent" in Path(f"/proc/{parent}/cmdline").read_bytes()


def _sleepers(machine):
    found = []
    for name in os.listdir("/proc"):
        if name.isdigit():
            with contextlib.suppress(OSError):
                line = Path(f"/proc/{name}/cmdline").read_bytes()
                if line.startswith(b"sleep\0") and os.readlink(f"/proc/{name}/cwd") == str(machine.work):
                    found.append(int(name))
    return found


def test_a_job_whose_folder_is_gone_can_be_cancelled(machine):
    job = machine.submit('rm -rf "${LQ_ATTEMPT_FOLDER%/own}"\ntouch gone\nsleep 1000', "walltime=20m", "retries=0")
    until((machine.work / "gone").exists, "the removal")
    assert machine.lq("cancel", str(job)).returncode == 0
    assert machine.ended(job)["state"] == "cancelled"
    assert not _sleepers(machine)


@pytest.mark.parametrize("how", ["env -i setsid sleep 1000 &", "(setsid env -i setsid sleep 1000 &) &"])
@pytest.mark.parametrize("victims", ["supervisor", "agent supervisor"])
def test_no_process_escapes_when_the_supervisor_is_killed(machine, how, victims):
    job = machine.submit(f"{how}\n{WAITS}", "retries=0")
    began(machine, job)
    until(lambda: _sleepers(machine), "the process that hides")
    pids = {"agent": machine.agent(), "supervisor": machine.supervisor(job)}
    for victim in victims.split():
        kill(pids[victim])
    assert machine.ended(job)["state"] == "lost"
    assert not _sleepers(machine)


@pytest.mark.parametrize("number", ["STOP", "KILL"])
def test_a_job_may_stop_or_kill_its_supervisor_and_ends_in_time_all_the_same(machine, number):
    job = machine.submit(f"kill -{number} $PPID\nsleep 1000", "walltime=3s", "grace=1s", "retries=0")
    found = machine.ended(job)
    assert found["state"] == ("overtime" if number == "STOP" else "lost")
    assert not _sleepers(machine)


def test_a_disk_that_fills_after_the_claim_loses_nothing(tmp_path, monkeypatch):
    """Nothing that the supervisor writes after the start may be fatal: not its session, not what it uses, not the end."""
    from lazy_quarry.run.node.start import Start

    class Full:
        def __truediv__(self, _name):
            return self

        def write_text(self, _text):
            raise OSError(28, "No space left on device")

    start = Start.__new__(Start)
    start.folder = Full()
    start.folder.name = "1-1-ab"
    limits = type("Limits", (), {"memory_mib": 64, "cores": os.sched_getaffinity(0)})
    monkeypatch.setattr(groups, "group_bases", dict)  # this process itself would go through them
    command = type("Command", (), {"environment": {}, "arguments": []})
    start.intent = type("Intent", (), {"command": command, "limits": limits})
    start.take_on = lambda: None
    start.command_file = lambda: "/bin/true"
    start.source = start.output = start.errors = os.open("/dev/null", os.O_RDWR)
    monkeypatch.chdir(tmp_path)
    pid = start.spawn(60)
    assert os.waitpid(pid, 0)[1] == 0


def test_a_client_that_says_nothing_reads_nothing_or_raves_halts_nobody(machine):
    job = machine.submit(WAITS)
    began(machine, job)
    from lazy_quarry.run.node.sockets import dial

    mute = dial(machine.state / "spool", "node.sock")
    for nonsense in (
        b"5\n",
        b"[]\n",
        b"{}\n",
        b'{"ensure": 7}\n',
        b'{"ensure": "../../etc"}\n',
        b'{"is": "hello"}\n{"is": "ensure", "epoch": 0, "name": "1-1"}\n{"is": ["ensure"]}\n',
        b'{"is": "hello", "oldest": 1, "newest": 1, "journal": "x", "site": "y", "epoch": "1"}\n',
        b"\xff" * 200_000,
        b"[" * 9000 + b"\n",
    ):
        raving = dial(machine.state / "spool", "node.sock")
        with contextlib.suppress(OSError):
            raving.sendall(nonsense)
        raving.close()
    agent = machine.agent()
    let_go(machine)
    assert machine.ended(job)["state"] == "done"
    assert [machine.ended(machine.submit("true"))["state"] for _ in range(2)] == ["done", "done"]
    assert machine.agent() == agent
    mute.close()


def test_a_large_journal_is_read_whole_beside_the_work_and_damage_is_told(machine, monkeypatch):
    from lazy_quarry.link import server
    from lazy_quarry.store import journal

    machine.ended(machine.submit("true"))
    kill(machine.engine())
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    monkeypatch.setattr(journal, "CHECKED_BYTES", 0)
    monkeypatch.setattr(server, "CHECK_AFTER_S", 0.0)
    monkeypatch.setattr(server, "core_numbers", lambda: [0])
    monkeypatch.setenv("LQ_LOCKS", machine.environment["LQ_LOCKS"])
    with contextlib.closing(sqlite3.connect(machine.state / "journal.db")) as sql:
        sql.execute("UPDATE ended SET name = 'another'")  # opening doesn't read this
        sql.commit()

    async def opened():
        return server.Server(machine.state)

    found = asyncio.run(opened())
    notice = until(lambda: found.site.session.damage, "the notice")
    assert "is damaged" in notice and found.site.queries.notices(Caller("ada"))[0] == notice


def test_two_engines_never_have_one_folder_though_every_lock_file_is_removed(machine):
    job = machine.submit(WAITS)
    began(machine, job)
    first = machine.engine()
    for path in machine.state.glob("*.lock"):
        path.unlink()
    (machine.state / "engine.sock").unlink()
    machine.lq("jobs")
    until(lambda: machine.processes("lazy_quarry.link.server") == [first], "the end of the one that came too late")
    kill(first)
    let_go(machine)
    assert machine.ended(job)["state"] == "done"


def test_a_new_job_of_a_number_is_not_taken_for_an_old_one(machine):
    """The journal is deleted and begun anew while the old job 1 has left its end in the spool."""
    job = machine.submit(WAITS)
    began(machine, job)
    kill(machine.engine())
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    for path in machine.state.glob("journal*"):
        path.unlink()
    let_go(machine)
    (machine.work / "ran.txt").unlink()
    again = machine.submit('echo "$LQ_JOB-$LQ_ATTEMPT" >> ran.txt\nexit 3', "retries=0")
    assert again == job == 1
    found = machine.ended(again)
    assert (found["state"], found["exit"]) == ("failed", 3)
    assert ran(machine)[-1] == "1-1"


@pytest.mark.parametrize("name", ["..", ".", "-x", "_x", "...sh"])
def test_a_name_leads_nowhere_else(used_machine, name):
    done = used_machine.lq("submit", "--set", "walltime=1m", "--set", f'name="{name}"', "--", "true")
    assert done.returncode == 1 and "with a letter or digit first" in done.stdout + done.stderr
    (used_machine.work / "...sh").write_text(
        script('walltime = "1m"\nmemory = "64 MiB/core"\nstage = { out = ["x"], keep = true }')
    )
    assert used_machine.ended(int(used_machine.lq("submit", "...sh").stdout.split()[0]))["name"] == "script"


@pytest.mark.parametrize("path", ["..", "../x", "a/../../x", ".", "", "/etc/passwd"])
def test_a_path_that_a_person_wrote_stays_below_its_folder(tmp_path, path):
    from lazy_quarry.run.node.staging import Outside, inside

    with pytest.raises(Outside):
        inside(str(tmp_path), path)
    assert inside(str(tmp_path), "a/../b") == str(tmp_path / "b")
