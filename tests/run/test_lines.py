"""The line to a host: streams over one connection, and an attempt there that outlives it."""

import hashlib
import io
import json
import os
import shutil
import socket
import struct
import sys
import tempfile
import threading
import zipfile
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.run.agent_link import AgentLink
from lazy_quarry.run.hosts.archive import Archive, agent_archive
from lazy_quarry.run.hosts.line import AgentThere, Line
from lazy_quarry.run.hosts.reach import Unreached, reach
from lazy_quarry.run.node.attempt import Command, Intent, Limits, Paths, Results, Staging, intent_text, lay_out
from lazy_quarry.run.node.messages import Ensure, Hello, Over, Settle, Welcome, line_of, message_of
from lazy_quarry.run.node.remote import plain_json
from lazy_quarry.run.node.sockets import AGENT_SOCKET, FILES_SOCKET, dial
from lazy_quarry.run.node.streams import WINDOW, Garbled, Streams
from lazy_quarry.run.node.versions import NEWEST, OLDEST
from lazy_quarry.run.remote_files import RemoteFiles
from tests.conftest import until
from tests.run.test_hosts import FromHead, Pipe


@contextmanager
def two_ends(opened):
    """Two ends of a pair of pipes, each kept by a thread: that which opens streams, and that which has them opened."""
    (a_in, b_out), (b_in, a_out) = os.pipe(), os.pipe()
    near, far = Streams(a_in, a_out, lambda name: None, odd=True), Streams(b_in, b_out, opened, odd=False)
    ends, lock = threading.Event(), threading.Lock()

    def turn(end):
        while not ends.is_set():
            with lock:
                end.turn(0.0)

    threads = [threading.Thread(target=turn, args=(end,)) for end in (near, far)]
    for each in threads:
        each.start()

    def open_(name):
        mine, its = socket.socketpair()
        mine.settimeout(30)
        with lock:
            near.open(name, its)
        return mine

    yield open_
    ends.set()
    for each in threads:
        each.join()
    for end in (near, far):
        end.close()
    for fd in (a_in, a_out, b_in, b_out):
        os.close(fd)


def echo(name):
    """A socket that says again what it is told; of another name there is none."""
    if name != "echo":
        return None
    its, other = socket.socketpair()

    def serve():
        while some := its.recv(65536):
            its.sendall(some)
        its.close()

    threading.Thread(target=serve, daemon=True).start()
    return other


def exactly(link, length):
    found = b""
    while len(found) < length:
        some = link.recv(1 << 16)
        assert some, "it ended"
        found += some
    return found


def test_streams_keep_apart_and_nobody_who_does_not_read_holds_up_another():
    with two_ends(echo) as open_:
        lazy, busy = open_("echo"), open_("echo")
        content = os.urandom(3 * WINDOW)
        filling = threading.Thread(target=lambda: lazy.sendall(content))
        filling.start()  # more than is let through: it isn't read until the end
        for turn in range(5):
            said = os.urandom(WINDOW + turn)
            threading.Thread(target=busy.sendall, args=(said,)).start()
            assert exactly(busy, len(said)) == said
        assert exactly(lazy, len(content)) == content
        filling.join()
        assert open_("no such thing").recv(1) == b""
        busy.close()
        lazy.shutdown(socket.SHUT_WR)
        assert lazy.recv(1) == b""


@given(st.binary(max_size=60))
def test_what_is_no_frame_ends_the_connection_and_nothing_else(junk):
    inward, outward = os.pipe()
    back, there = os.pipe()
    streams = Streams(inward, there, echo, odd=True)
    os.write(outward, junk)
    os.close(outward)
    try:
        with pytest.raises((EOFError, Garbled)):
            while True:
                streams.turn(1.0)
    finally:
        streams.close()
        for fd in (inward, back, there):
            os.close(fd)


@pytest.mark.parametrize("frame", [(2, 0, b"echo"), (1, 9, b""), (2, 1, b"x")], ids=["ours", "kind", "unknown stream"])
def test_frames_that_nobody_may_send(frame):
    """An even number is this side's own; of a stream that isn't there nothing is said, since it may have just been closed."""
    number, kind, content = frame
    heard = struct.pack(">IBI", number, kind, len(content)) + content
    (inward, outward), (back, there) = os.pipe(), os.pipe()
    streams = Streams(inward, there, echo, odd=False, heard=heard)
    try:
        if kind == 1:
            assert streams.turn(0.0) == []
        else:
            with pytest.raises(Garbled):
                streams.turn(0.0)
    finally:
        streams.close()
        for fd in (inward, outward, back, there):
            os.close(fd)


def intent(spool, work, name="1-1-ab"):
    output = f"{work}/out.txt"
    job, attempt, mark = name.split("-")
    return Intent(
        int(job), int(attempt), "far", [("there", 1)], Paths(work, output, output, ""),
        Command({"PATH": os.defpath}, [], [], []), Limits([0], 100, 600, 1, None),
        Staging([], [], f"{spool}/{name}/scratch", f"{spool}/spared"), Results([], False, ""), "a-journal", mark, None,
    )  # fmt: skip


@dataclass
class Journal:
    """The identity and epoch that an engine greets with."""

    identity: str = "a-journal"
    epoch: int = 1


class Engine:
    """As much of an engine as starts an attempt at the other end of a line."""

    def __init__(self, folder):
        self.link = until(lambda: dial(folder, AGENT_SOCKET))
        self.link.settimeout(45)
        self.link.sendall(line_of(Hello(OLDEST, NEWEST, "a-journal", "here", 1)))
        self.heard = map(message_of, self.link.makefile("rb"))
        assert next(self.heard) == Welcome(NEWEST, 1)

    def say(self, *messages):
        self.link.sendall(b"".join(map(line_of, messages)))

    def over(self):
        return next(one for one in self.heard if isinstance(one, Over))


@pytest.fixture
def line(tmp_path):
    """Start a line, as given; it is closed at the end."""
    folder = Path(tempfile.mkdtemp(prefix="lq-line-"))
    kept = []

    def start(transport, **named):
        kept.append(Line(transport, folder, "a-journal", **named))
        kept[-1].start()
        return kept[-1]

    yield start
    for each in kept:
        each.close()
    assert not list(folder.iterdir()), "no socket is left"
    shutil.rmtree(folder)


def test_an_attempt_runs_at_the_other_end_and_its_files_are_read(line, tmp_path, monkeypatch):
    monkeypatch.setenv("LQ_LOCKS", str(tmp_path / "locks"))
    made = line(Pipe(), python=sys.executable, spool=str(tmp_path / "there"))
    engine = Engine(made.folder)
    assert made.connected and made.problem == "" and made.silent_since is None
    assert made.greeting["spool"] == str(tmp_path / "there" / "spool-a-journal")
    files = RemoteFiles(dial(made.folder, FILES_SOCKET), "a-journal", 1)
    files.prepare(["1-1-ab"])
    (tmp_path / "work").mkdir()
    script = "#!/bin/sh\nhead -c 3000000 /dev/zero | tr '\\0' w\nexit 4\n"
    files.lay_out("1-1-ab", intent_text(intent(made.greeting["spool"], str(tmp_path / "work"))), script)
    engine.say(Ensure(1, "1-1-ab"))
    assert engine.over().exit.exit == 4
    read = 0
    while raw := files.piece(str(tmp_path / "work" / "out.txt"), read).raw:
        read += len(raw)
    assert read == 3_000_000
    engine.say(Settle(1, "1-1-ab"))
    files.close()


def of_version(version):
    """The agent's archive, as a program of another version has it."""
    whole = agent_archive()
    held = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(whole.content)) as old, zipfile.ZipFile(held, "w") as new:
        for name in old.namelist():
            content = old.read(name)
            if name == "lazy_quarry/__init__.py":
                content = content.replace(b'__version__ = "', b'__version__ = "' + version.encode() + b'" or "')
            new.writestr(name, content)
    return Archive(held.getvalue(), hashlib.sha256(held.getvalue()).hexdigest())


def test_a_newer_agent_takes_over_from_an_older_one_and_its_jobs_go_on(line, tmp_path, monkeypatch):
    monkeypatch.setenv("LQ_LOCKS", str(tmp_path / "locks"))
    there, work = tmp_path / "there", tmp_path / "work"
    work.mkdir()
    with reach(Pipe(), sys.executable, str(there), of_version("0.0.9"), ("relay", "a-journal")) as old:
        spool = Path(old.greeting["spool"])
        made = spool / "1-1-ab"
        made.mkdir()
        script = f"#!/bin/sh\nwhile [ ! -e {work}/go ]; do sleep 0.1; done\nexit 6\n"
        lay_out(made, intent_text(intent(spool, str(work))), script)
        engine = Engine(spool)
        engine.say(Ensure(1, "1-1-ab"))
        until((work / "out.txt").exists)
        made = line(Pipe(), python=sys.executable, spool=str(there))
        engine = Engine(made.folder)
        (work / "go").touch()
        engine.say(Ensure(1, "1-1-ab"))
        assert engine.over().exit.exit == 6
        engine.say(Settle(1, "1-1-ab"))
    with pytest.raises(Unreached, match=r"of a newer version, 99\.1"):
        (spool / "agent.json").write_text('{"version": "99.1", "archive": "agent-other.pyz"}')
        reach(Pipe(), sys.executable, str(there), words=("relay", "a-journal"))


def test_two_journals_do_not_share_the_cores_of_a_host(line, tmp_path, monkeypatch):
    monkeypatch.setenv("LQ_LOCKS", str(tmp_path / "locks"))
    first = line(Pipe(), python=sys.executable, spool=str(tmp_path / "there"))
    Engine(first.folder)
    folder = tmp_path / "second"
    second = Line(Pipe(), folder, "another-journal", sys.executable, str(tmp_path / "there"))
    second.start()
    try:
        until(lambda: second.problem)
        assert f"in use by the jobs of {first.greeting['spool']}" in second.problem and not second.connected
    finally:
        second.close()


def test_a_job_outlives_its_connection_and_its_end_is_told_when_there_is_one_again(hosts, line):
    made = line(FromHead(hosts, "h3"))
    link = AgentLink(AgentThere(made), "here", Journal(), lambda descriptor: None)
    link.greet = lambda: link.send(Ensure(1, "1-1-ab"))
    until(lambda: made.connected)
    files = RemoteFiles(dial(made.folder, FILES_SOCKET), "a-journal", 1)
    files.prepare(["1-1-ab"])
    script = "#!/bin/sh\nwhile [ ! -e /shared/go ]; do sleep 0.1; done\nhostname\nexit 5\n"
    files.lay_out("1-1-ab", intent_text(intent(made.greeting["spool"], "/shared")), script)

    def heard():
        link.connect_again()
        return list(link.heard())

    until(lambda: heard() or (hosts.shared / "out.txt").exists())
    assert link.connected and link.refused == ""
    hosts.run(["ssh", "h3", "pkill -f 'sshd: root@notty'"])
    until(lambda: not list(link.heard()) and not link.connected)
    (hosts.shared / "go").touch()
    until(lambda: (hosts.shared / "out.txt").read_text() == "h3\n")
    made.again()
    (told,) = until(heard)
    assert (told.name, told.exit.exit, told.lost) == ("1-1-ab", 5, False)
    link.send(Settle(1, "1-1-ab"))
    link.drop()


def test_a_host_that_cannot_be_reached_is_tried_again_and_says_why(hosts, line):
    hosts.run("ssh h2 pkill -o sshd")
    made = line(FromHead(hosts, "h2"))
    until(lambda: made.problem)
    assert made.problem == "no SSH server answers there; is it running?" and made.silent_since is not None
    assert dial(made.folder, AGENT_SOCKET, 0.0) is None
    hosts.mend("h2")
    made.again()
    until(lambda: made.connected)
    assert made.problem == ""


@given(st.text(), st.integers(-(2**63), 2**63))
def test_what_a_relay_says_is_json_whatever_names_are_in_it(text, number):
    assert json.loads(plain_json({"a": text, "b": number})) == {"a": text, "b": number}
    raw = text.encode("utf-8", "surrogatepass")[:20] + b"\xff"  # a name that is no UTF-8
    assert os.fsencode(json.loads(plain_json({"a": os.fsdecode(raw)}))["a"]) == raw
