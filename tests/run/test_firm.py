"""The engine goes on, whatever stands where a file should be and whatever the machine lacks."""

import contextlib
import json
import os
import resource
import signal
import socket
import subprocess
import sys
import time

import pytest

from lazy_quarry.errors import EngineAway
from lazy_quarry.link.client import SocketClient
from lazy_quarry.run.agent_link import AgentHere, AgentLink
from lazy_quarry.run.node.attempt import read_intent
from lazy_quarry.run.node.sockets import dial
from lazy_quarry.site.session import Session
from tests.conftest import script, until

WAITS = "while [ ! -e go ]; do sleep 0.02; done"


def pipe(machine, name):
    path = machine.work / name
    path.unlink(missing_ok=True)
    os.mkfifo(path, 0o666)
    return path


def answers(machine):
    """Another job is taken in and done: the engine lives."""
    return machine.ended(machine.submit("true"))["state"] == "done"


# -- pipes where files should be -------------------------------------------------------------------


def test_a_job_that_puts_a_pipe_where_its_output_was_holds_nobody_up(machine):
    job = machine.submit("rm -f out.txt; mkfifo out.txt", 'output="out.txt"', "summary=true")
    assert machine.ended(job)["state"] == "done"
    told = machine.lq("output", str(job))
    assert "it is a pipe, not a file" in told.stdout + told.stderr
    machine.lq("show", str(job))
    machine.lq("jobs", "--ended", "--where", "printed:x")
    os.kill(machine.engine(), signal.SIGKILL)
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    assert answers(machine) and machine.state_of(job) == "done"


@pytest.mark.parametrize(
    "header, where, words",
    [
        ('output = "ff"', "submit", "is a pipe, not a file"),
        ('input = "ff"', "submit", "it is a pipe, not a file"),
        ('array.sweep.x = { lines = "ff" }', "submit", "ff cannot be read"),
        ('stage.in = ["ff"]', "end", "it is a pipe, not a file"),
        ('stage.in = ["folder"]', "end", "it is a pipe, not a file"),
        ('stage.in = ["/dev/zero"]', "end", "it is a device, not a file"),
    ],
)
def test_a_pipe_that_a_header_names_is_told_at_once(used_machine, header, where, words):
    pipe(used_machine, "ff")
    (used_machine.work / "folder").mkdir()
    os.mkfifo(used_machine.work / "folder" / "deep")
    (used_machine.work / "x.sh").write_text(script(f'walltime = "20s"\nmemory = "64 MiB/core"\n{header}'))
    done = used_machine.lq("submit", "x.sh")
    if where == "submit":
        assert done.returncode == 1 and words in done.stdout + done.stderr
    else:
        ended = used_machine.ended(int(done.stdout.split()[0]))
        assert ended["state"] == "failed" and words in ended["reason"]
    assert answers(used_machine)


def test_the_kernels_files_and_null_can_be_named(used_machine):
    job = used_machine.submit(
        'cp "$LQ_SCRATCH"/meminfo .; cat', 'stage.in=["/proc/meminfo"]', 'input="/dev/null"', 'errors="/dev/null"'
    )
    assert used_machine.ended(job)["state"] == "done" and "MemTotal" in (used_machine.work / "meminfo").read_text()


@pytest.mark.parametrize(
    "name",
    [
        "spool/agent.refused",
        "spool/epoch.json",
        "engine.log",
        "agent.log",
        "journal.head",
        "forecasts.json",
        "search.db",
        "bin/lq",
    ],
)
def test_a_pipe_or_link_among_our_own_files_is_told_or_replaced(machine, name):
    victim = machine.work / "precious"
    victim.write_text("untouched")
    for put in (os.mkfifo, lambda path: path.symlink_to(victim)):
        path = machine.state / name
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.unlink(missing_ok=True)
        put(path)
        began = time.monotonic()
        done = machine.lq("submit", "--set", "walltime=1m", "--set", "memory=64 MiB/core", "--", "true")
        assert time.monotonic() - began < 30 and victim.read_text() == "untouched"
        assert done.returncode == 0 or path.name in done.stderr
        path.unlink(missing_ok=True)
        machine.kill_all()
        until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    assert answers(machine)


# -- the engine's own steps ------------------------------------------------------------------------


@pytest.mark.parametrize(
    "fault", [RuntimeError("odd"), OSError(24, "Too many open files"), OSError(30, "Read-only file system")]
)
def test_a_fault_in_any_step_is_told_and_the_others_are_done(machine, monkeypatch, fault):
    import asyncio

    from lazy_quarry.link import server

    machine.ended(machine.submit("true"))
    os.kill(machine.engine(), signal.SIGKILL)
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
    monkeypatch.setattr(server, "core_numbers", lambda: [0])
    monkeypatch.setenv("LQ_LOCKS", machine.environment["LQ_LOCKS"])

    async def tried():
        found = server.Server(machine.state)
        steps = found.steps()
        for wrong in range(len(steps)):
            done = []

            def made(number, done=done, wrong=wrong):
                def step():
                    if number == wrong:
                        raise fault
                    done.append(number)

                return step

            monkeypatch.setattr(found, "steps", lambda made=made: tuple(made(number) for number in range(len(steps))))
            found.move_on()
            assert done == [number for number in range(len(steps)) if number != wrong]
            note = found.site.session.step_note
            lack = isinstance(fault, OSError)
            assert (
                ("tries again" in note and "engine.log" not in note)
                if lack
                else "engine.log in the state folder" in note
            )
            monkeypatch.setattr(found, "steps", lambda: ())
            found.move_on()
            assert found.site.session.step_note == ""

    asyncio.run(tried())


def test_without_file_descriptors_it_says_so_and_goes_on_when_there_are_some(machine):
    job = machine.submit(WAITS)
    until(lambda: machine.state_of(job) == "running", "its start")
    engine, agent = machine.engine(), machine.agent()
    client = SocketClient(machine.state, start=False)
    assert client.notices() is not None  # it has taken the connection, as long as it has a descriptor for it
    limits = {pid: resource.prlimit(pid, resource.RLIMIT_NOFILE) for pid in (engine, agent)}
    for pid, (_, most) in limits.items():
        resource.prlimit(pid, resource.RLIMIT_NOFILE, (3, most))
    (machine.work / "go").touch()
    supervisor = machine.supervisor(job)
    until(lambda: not os.path.exists(f"/proc/{supervisor}"), "the end of its supervisor")
    told = until(lambda: [one for one in client.notices() if "descriptors" in one], "the notice")
    assert client.job(job).phase in ("running", "done") and told
    others = [connecting(machine.state) for _ in range(20)]  # whom it has no descriptor for
    for _ in range(3):
        assert client.changes(client.changes(0, 0) + 1, 1.2) is not None and client.job(job).phase
    assert (machine.state / "engine.log").stat().st_size < 20_000
    for pid, limit in limits.items():
        resource.prlimit(pid, resource.RLIMIT_NOFILE, limit)
    assert machine.ended(job)["state"] == "done" and machine.agent() == agent and machine.engine() == engine
    until(lambda: not [one for one in client.notices() if "descriptors" in one], "no notice")
    client.close()
    for one in others:
        assert one.recv(5)
        one.close()
    assert answers(machine)


def connecting(folder):
    """A connection to an engine that may not have taken it yet."""
    found = socket.socket(socket.AF_UNIX)
    found.settimeout(45)
    found.connect(str(folder / "engine.sock"))
    return found


def test_a_link_to_the_agent_is_told_of_while_its_descriptor_is_still_its_own(tmp_path):
    seen = []
    link = AgentLink(
        AgentHere(tmp_path), "", None, lambda descriptor: seen.append((descriptor, os.fstat(descriptor).st_ino))
    )
    ours, its = socket.socketpair()
    link.link, known = ours, (ours.fileno(), os.fstat(ours.fileno()).st_ino)
    its.close()
    assert not list(link.heard()) and seen == [known] and not link.connected
    link.drop()
    assert seen == [known]


def test_an_engine_whose_socket_was_removed_listens_again(machine):
    assert answers(machine)
    engine = machine.engine()
    for put in (lambda path: None, os.mkfifo, lambda path: path.write_text("no socket")):
        (machine.state / "engine.sock").unlink()
        put(machine.state / "engine.sock")
        assert answers(machine) and machine.engine() == engine


def test_an_engine_that_is_stopped_and_does_not_listen_is_named(machine):
    assert answers(machine)
    engine = machine.engine()
    os.kill(engine, signal.SIGSTOP)
    (machine.state / "engine.sock").unlink()
    told = machine.lq("jobs")
    assert told.returncode == 2 and f"process {engine}" in told.stderr and f"kill -CONT {engine}" in told.stderr
    os.kill(engine, signal.SIGCONT)
    assert answers(machine)


def test_nobody_waits_for_an_engine_that_was_stopped_while_they_were_connected(machine, monkeypatch):
    monkeypatch.setattr("lazy_quarry.link.client.LOOK_S", 0.2)
    assert answers(machine)
    engine, client = machine.engine(), SocketClient(machine.state)
    assert client.jobs() == []
    os.kill(engine, signal.SIGSTOP)
    with pytest.raises(EngineAway, match=f"process {engine}, is stopped: jobs has no answer; kill -CONT {engine}"):
        client.jobs()
    with pytest.raises(EngineAway, match="whether it was done shows later"):
        client.hold([1])
    told = machine.lq("jobs")
    assert told.returncode == 2 and f"kill -CONT {engine}" in told.stderr
    os.kill(engine, signal.SIGCONT)
    assert client.jobs() == [] and answers(machine) and not client.replies
    client.close()


def test_logs_are_appended_to_and_what_we_write_is_for_its_owner_whatever_the_umask(machine):
    before = os.umask(0)
    try:
        assert answers(machine)
        os.kill(machine.engine(), signal.SIGKILL)
        until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's end")
        log = machine.state / "engine.log"
        log.write_text("said before\n")
        assert answers(machine)
    finally:
        os.umask(before)
    assert log.read_text().startswith("said before\n")
    open_to_others = [
        path
        for path in machine.state.rglob("*")
        if not path.is_symlink() and path.is_file() and path.stat().st_mode & 0o022
    ]
    assert open_to_others == [] and (machine.state / "agent.log").stat().st_mode & 0o777 == 0o600


def test_who_sends_many_calls_and_reads_nothing_delays_nobody_else(machine):
    assert answers(machine)
    mute = []
    for _ in range(20):
        link = dial(machine.state, "engine.sock")
        link.setblocking(False)
        with contextlib.suppress(BlockingIOError):
            for number in range(20_000):
                link.send(
                    json.dumps({"jsonrpc": "2.0", "id": number, "method": "board", "params": {}}).encode() + b"\n"
                )
        mute.append(link)
    client = SocketClient(machine.state, start=False)
    began = time.monotonic()
    for _ in range(5):
        client.names()
    assert time.monotonic() - began < 30  # each waits for one call of each of the others, not for all of them
    assert answers(machine)
    for link in mute:
        link.close()
    client.close()


# -- attempts that can't be started, and stops before a claim ---------------------------------------


def test_a_value_that_no_program_can_be_given_is_told_before_it_is_submitted(used_machine):
    (used_machine.work / "values").write_text("small\n" + "x" * 12_000_000 + "\n")
    header = 'walltime = "1m"\nmemory = "64 MiB/core"\narray.sweep.x = { lines = "values" }'
    (used_machine.work / "x.sh").write_text(script(header))
    for words in (("check", "x.sh"), ("submit", "x.sh")):
        done = used_machine.lq(*words)
        assert done.returncode == 1 and "12,000,000 letters" in done.stdout + done.stderr
    client = SocketClient(used_machine.state)
    from lazy_quarry.core.header.submission import Submission

    text = script('walltime = "1m"\nmemory = "64 MiB/core"')
    for arguments in (("y" * 200_000,), ("z" * 100_000,) * 30):
        receipt = client.submit(Submission(text, "x.sh", str(used_machine.work), (), arguments))
        assert receipt.job is None and "a program can be given" in receipt.diagnostics[0].message
    client.close()
    assert answers(used_machine)


def test_a_job_that_can_never_be_started_ends_as_failed(machine, monkeypatch):
    from lazy_quarry.run.node import attempt
    from lazy_quarry.run.nodes import Nodes
    from lazy_quarry.run.this_node import ThisNode

    monkeypatch.setattr(attempt, "MOST_INTENT", 10)
    monkeypatch.setenv("LQ_LOCKS", machine.environment["LQ_LOCKS"])
    from lazy_quarry.core.header.submission import Submission
    from lazy_quarry.probe.machine import this_machine
    from lazy_quarry.site.caller import Caller
    from lazy_quarry.site.site_in_use import SiteInUse
    from lazy_quarry.store.journal import Journal

    machine.state.mkdir(mode=0o700)
    journal = Journal(machine.state)
    site = SiteInUse(
        Session(
            this_machine(),
            journal,
            Nodes({"here": (here := ThisNode(machine.state, [0], journal))}, here, journal.identity),
            clock=lambda: int(time.time() * 1000),
        )
    )
    text = script('walltime = "1m"\nmemory = "64 MiB/core"')
    receipt = site.operations.submit(Caller("root"), Submission(text, "x.sh", str(machine.work)))
    assert receipt.job, receipt.diagnostics
    site.dispatcher.step()
    job = site.session.find(receipt.job)
    assert job.phase == "failed" and "it could not be started" in job.reason


def test_a_job_is_cancelled_before_anybody_has_claimed_it(machine):
    """Its supervisor cannot write its claim, so the agent tries again and again; the stop cannot be written either."""
    machine.submit("true")
    client = SocketClient(machine.state)
    agent = until(machine.agents, "the agent")[0]
    # No new file can get any content: neither a claim nor the file that says stop.
    soft = resource.prlimit(agent, resource.RLIMIT_FSIZE)
    resource.prlimit(agent, resource.RLIMIT_FSIZE, (0, soft[1]))
    job = machine.submit("echo ran > ran.txt")
    until(lambda: [one for one in client.notices() if "cannot start yet" in one], "the notice")
    assert client.cancel([job])[0].done
    ended = machine.ended(job)
    assert (ended["state"], ended["reason"]) == ("cancelled", "before it was started")
    with contextlib.suppress(ProcessLookupError):  # with nothing to do it leaves
        resource.prlimit(agent, resource.RLIMIT_FSIZE, soft)
    assert answers(machine) and not (machine.work / "ran.txt").exists()
    client.close()


# -- what has no output --------------------------------------------------------------------------------


@pytest.mark.parametrize("closed", [(0,), (1,), (2,), (0, 1), (0, 1, 2)])
def test_with_closed_streams_a_command_does_what_it_does(machine, closed):
    for words in (
        ("submit", "--set", "walltime=1m", "--set", "memory=64 MiB/core", "--", "true"),
        ("jobs",),
        ("show", "1"),
        ("check", "none"),
    ):

        def shut():
            for fd in closed:
                os.close(fd)

        done = subprocess.run(
            [sys.executable, "-m", "lazy_quarry", *words],
            capture_output=True,
            text=True,
            cwd=machine.work,
            env=machine.environment,
            preexec_fn=shut,
        )
        assert done.returncode == (2 if words[0] == "check" else 0), done.stderr
        assert "Traceback" not in done.stdout + done.stderr
        if words[0] == "submit" and 2 not in closed and 1 in closed:
            assert done.stderr.split("\n")[0] == "1"
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [
                sys.executable,
                "-m",
                "lazy_quarry",
                "submit",
                "--set",
                "walltime=1m",
                "--set",
                "memory=64 MiB/core",
                "--",
                "true",
            ],
            stdout=full,
            stderr=subprocess.PIPE,
            text=True,
            cwd=machine.work,
            env=machine.environment,
        )
    assert done.returncode == 0 and "No space left" in done.stderr and "\n2\n" in done.stderr


def test_an_engine_that_dies_after_the_connection_is_a_sentence(machine):
    machine.state.mkdir(mode=0o700, parents=True)
    listener = socket.socket(socket.AF_UNIX)
    with contextlib.chdir(machine.state):
        listener.bind("engine.sock")
    listener.listen()
    process = subprocess.Popen(
        [sys.executable, "-m", "lazy_quarry", "jobs"],
        stderr=subprocess.PIPE,
        text=True,
        env=machine.environment,
        cwd=machine.work,
    )
    listener.settimeout(0.1)
    while process.poll() is None:
        with contextlib.suppress(TimeoutError):
            listener.accept()[0].close()
    told = process.communicate()[1]
    assert process.returncode == 2 and "Traceback" not in told and "_socket" not in told
    listener.close()


def test_a_job_that_removed_its_own_folder_says_so_in_every_list(machine):
    job = machine.submit('rm -rf "${LQ_ATTEMPT_FOLDER%/own}"; sleep 0.2; kill -9 $PPID')
    ended = machine.ended(job)
    assert ended["state"] == "lost"
    listed = machine.lq("jobs", "--ended").stdout
    assert ended["reason"] in listed and "its node went" not in listed


def test_an_intent_that_is_not_whole_is_written_again(machine):
    job = machine.submit(WAITS)
    folder = until(lambda: machine.attempt(job), "its folder")
    assert read_intent(folder).job == job
    (machine.work / "go").touch()
    assert machine.ended(job)["state"] == "done"


@pytest.mark.parametrize("by_h", [3, -3])
def test_the_time_a_job_took_is_that_of_its_supervisors_clock_though_the_clock_is_set(machine, by_h):
    ahead = machine.work.parent / "ahead"
    ahead.write_text("0")
    machine.environment["LQ_CLOCK"] = str(ahead)
    job = machine.submit(WAITS, 'walltime="2m"', "retries=1")
    until(lambda: machine.state_of(job) == "running", "its start")
    (machine.state / "next").write_text(str(by_h * 3_600_000))
    (machine.state / "next").rename(ahead)
    client = SocketClient(machine.state, start=False)

    def followed():
        view = client.job(job)
        return view.phase == "running" and view.attempt_ms < 110_000

    until(followed, "its time by the clock as it is now")
    (machine.work / "go").touch()
    ended = machine.ended(job)
    assert ended["state"] == "done" and ended["elapsed_s"] < 110
    assert machine.lq("ledger", "--verify").returncode == 0
    listed = machine.lq("jobs", "--ended").stdout
    assert "3h" not in listed and "2h" not in listed
    client.close()
