"""A node's files are the same asked of in this process, and over the channel of an agent that runs by itself."""

import errno
import json
import os
import socket
import threading
import time
from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.run.node import file_server, file_service
from lazy_quarry.run.node.channel import Broken, Channel, packed, unpacked
from lazy_quarry.run.node.file_server import WORKERS, FileServer
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.messages import Hello, Welcome, line_of, message_of
from lazy_quarry.run.node.sockets import FILES_SOCKET, dial
from lazy_quarry.run.node.versions import NEWEST, OLDEST
from lazy_quarry.run.remote_files import AskedFiles, RemoteFiles, Turned
from tests.conftest import until
from tests.run.test_node_alone import Alone

NAME = "7-1-ab.1"
INTENT = json.dumps({"ranks": [["here", 2], ["there", 1]]})


@pytest.fixture
def local(tmp_path):
    (tmp_path / "spool").mkdir()
    return FileService(tmp_path / "spool")


@pytest.fixture
def remote(local):
    here, there = socket.socketpair()
    serving = threading.Thread(target=FileServer(there, local.spool).serve)
    serving.start()
    files = RemoteFiles(here, "j", 1, local.spool)
    yield files
    files.close()
    serving.join()


@pytest.fixture(params=["local", "remote"])
def service(request):
    return request.getfixturevalue(request.param)


def test_an_attempt_is_laid_out_told_of_and_forgotten(service):
    folder = service.spool / NAME
    service.prepare([NAME, "8-1"])
    assert not service.is_laid_out(NAME) and service.live(NAME) is None and service.ran_ms(NAME) is None
    service.lay_out(NAME, INTENT, "#!/bin/sh\necho \u00e4 \udcff\n".replace("\udcff", "x"))
    assert service.is_laid_out(NAME) and (folder / "nodes").read_text() == "here\nhere\nthere\n"
    assert os.access(folder / "script", os.X_OK) and (folder / "own").is_dir()
    (folder / "live.json").write_text('{"cpu_ms": 5, "samples": [[1, 0.5, 3]]}')
    assert service.live(NAME) == {"cpu_ms": 5, "samples": [[1, 0.5, 3]]}
    service.write_stop(NAME, "cancelled")
    assert json.loads((folder / "stop").read_text()) == {"cause": "cancelled"}
    inside = folder / "own" / "inside"
    assert service.inside(NAME, None, []) is None
    inside.mkdir()
    (inside / "parts.jsonl").write_text('{"id": "s1", "kind": "spread", "name": "tasks"}\nnonsense\n')
    (inside / "field-s1").write_bytes(b"dd.f")
    told = service.inside(NAME, None, [])
    assert told.lines.endswith(b"nonsense\n") and told.fields == {"s1": b"dd.f"}
    again = service.inside(NAME, told.mark, ["s1", "../script"])
    assert again.lines is None and again.fields == {"s1": b"dd.f"} and again.mark == told.mark
    service.sweep([NAME], 0)
    assert folder.is_dir() and not (service.spool / "8-1").exists()
    service.forget(NAME)
    assert not folder.exists()
    with pytest.raises(FileNotFoundError):
        service.lay_out(NAME, INTENT, "")


def test_a_jobs_own_files_are_read_looked_at_found_and_removed(service, tmp_path):
    work = tmp_path / "work"
    work.mkdir()
    odd = os.fsdecode(b"odd \n\xff.csv")
    raw = bytes(range(256)) * 3000
    (work / "out").write_bytes(raw)
    (work / odd).write_text("a,b\n1\n")
    first = service.piece(str(work / "out"), 0)
    assert first.raw == raw[: file_service.CHUNK] and first.size == len(raw)
    assert (
        service.piece(str(work / "out"), -7).raw == raw[-7:] and service.piece(str(work / "out"), len(raw)).raw == b""
    )
    with pytest.raises(FileNotFoundError) as fault:
        service.piece(str(work / "none"), 0)
    assert fault.value.filename == str(work / "none")
    with pytest.raises(OSError, match="folder"):
        service.piece(str(work), 0)
    found = service.look_at([str(work / odd), str(work / "none")])
    assert [(one.kind, bool(one.problem)) for one in found] == [("CSV", True), ("", True)]
    made = service.made(str(work), 0, None)
    assert {one.path for one in made.files} == {"out", odd} and not made.problem
    assert service.made(str(work / "none"), 0, None).problem
    assert service.remove(str(work), [odd, "../x"], 0)[0] == 1 and not (work / odd).exists()
    assert service.unusable(str(work), {"output": str(work)}, "") == {
        "output": f"{work} is a folder; name a file in it"
    }
    assert service.unusable(str(work / "none"), {}, "").keys() == {"directory"}


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5) | st.binary(max_size=9),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=12,
)


@given(VALUES, st.binary(max_size=3))
@settings(max_examples=200)
def test_whatever_is_packed_into_a_frame_is_unpacked_from_it(value, more):
    head, body = packed(value)
    assert unpacked(json.loads(json.dumps(head)), body) == value
    if more:
        with pytest.raises(Broken):
            unpacked(head, body + more)


@given(st.recursive(st.none() | st.integers(-3, 9) | st.sampled_from(["bytes", "entries"]),
                    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["bytes", "entries", "x"]), inner)),
       st.binary(max_size=6))  # fmt: skip
def test_a_frame_of_somebody_else_is_a_value_or_broken(head, body):
    with suppress(Broken):
        unpacked(head, body)


@pytest.mark.parametrize(
    "frame",
    [
        {"number": 1, "method": "serve", "arguments": []},
        {"number": 1, "method": "forget", "arguments": [".."]},
        {"number": 1, "method": "prepare", "arguments": [["7-1", "../x"]]},
        {"number": "1", "method": "live", "arguments": ["7-1"]},
        {"number": 1, "method": "live"},
        ["live"],
        None,
    ],
)
def test_a_message_that_is_no_request_ends_the_connection_and_touches_nothing(frame, tmp_path):
    (tmp_path / "spool" / "7-1").mkdir(parents=True)
    here, there = socket.socketpair()
    serving = threading.Thread(target=FileServer(there, tmp_path / "spool").serve)
    serving.start()
    channel = Channel(here)
    channel.send({"journal": "j", "epoch": 1})
    assert channel.receive()[0]["welcome"]
    channel.send(frame)
    with pytest.raises(Broken):
        channel.receive()
    serving.join()
    assert (tmp_path / "spool" / "7-1").is_dir()


def test_a_request_that_a_disk_holds_up_is_given_up_and_delays_no_other(remote, monkeypatch):
    """As many requests hang as are worked on at once: another waits, then all have answers, and so has the next."""
    monkeypatch.setattr(file_server, "ANSWER_S", 0.2)
    hangs, began = threading.Event(), []
    monkeypatch.setattr(FileService, "live", lambda *_: (began.append(1), hangs.wait()))
    faults = []

    def ask():
        with pytest.raises(TimeoutError) as fault:
            remote.ask("live", "7-1")
        faults.append(fault.value.errno)

    asking = [threading.Thread(target=ask) for _ in range(WORKERS + 2)]
    for each in asking:
        each.start()
    for each in asking:
        each.join()
    assert faults == [errno.ETIMEDOUT] * (WORKERS + 2) and len(began) >= WORKERS
    hangs.set()
    until(lambda: remote.is_laid_out("7-1") is False)


def test_more_than_may_wait_is_refused(remote, monkeypatch):
    hangs = threading.Event()
    monkeypatch.setattr(FileService, "live", lambda *_: hangs.wait())
    faults = []

    def ask():
        try:
            remote.ask("live", "7-1")
        except OSError as fault:
            faults.append(fault.errno)

    asking = [threading.Thread(target=ask) for _ in range(WORKERS + file_server.MOST_QUEUED + 10)]
    for each in asking:
        each.start()
    until(lambda: len(faults) >= 10)
    hangs.set()
    for each in asking:
        each.join()
    assert len(faults) == 10 and set(faults) == {errno.EBUSY}


def test_an_agent_serves_its_files_in_a_process_of_its_own(tmp_path):
    with Alone(tmp_path) as alone:
        link = alone.connect()
        link.sendall(line_of(Hello(OLDEST, NEWEST, "a journal", "here", 4)))
        assert message_of(link.makefile("rb").readline()) == Welcome(NEWEST, 4)
        with pytest.raises(Turned):
            RemoteFiles(dial(alone.spool, FILES_SOCKET), "a journal", 3)
        files = RemoteFiles(dial(alone.spool, FILES_SOCKET), "a journal", 4)
        files.prepare(["9-1"])
        assert (alone.spool / "9-1").is_dir()
        (alone.work / "big").write_bytes(b"x" * 1_000_000)
        assert files.piece(str(alone.work / "big"), 999_990).raw == b"x" * 10
        alone.agent.kill()
        alone.agent.wait()
        with pytest.raises(OSError):
            while True:  # its server ends with it
                files.is_laid_out("9-1")
                time.sleep(0.01)


def test_a_link_that_ends_is_told_to_whoever_waits(tmp_path):
    here, there = socket.socketpair()
    (tmp_path / "spool").mkdir()
    channel = Channel(there)
    greeting = threading.Thread(target=lambda: (channel.receive(), channel.send({"welcome": True}), channel.receive()))
    greeting.start()
    files = RemoteFiles(here, "j", 1)
    closing = threading.Thread(target=lambda: (greeting.join(), channel.close()))
    closing.start()
    with pytest.raises(Broken):
        files.live("7-1")
    with pytest.raises(Broken):
        files.live("7-1")
    closing.join()


@pytest.mark.parametrize(
    "method, arguments, answer",
    [
        ("is_claimed", ("7-1",), 1),
        ("look_at", (["a"],), [["a", "large"]]),
        ("piece", ("a", 0), ["text", 0, 4, 1, 1]),
        ("kept_of_size", ("7-1", 4), None),
    ],
)
def test_an_answer_that_is_none_is_a_fault_and_says_of_what(tmp_path, method, arguments, answer):
    class Mistaken(AskedFiles):
        def ask(self, asked, *_):
            return answer

    with pytest.raises(OSError, match=f"answers {method} with what is no answer"):
        getattr(Mistaken(tmp_path), method)(*arguments)
