"""A path is not a file until that is known."""

import contextlib
import os
import socket
import threading
import time

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st

from lazy_quarry.files import given, ours, system
from lazy_quarry.files.kinds import NotAFile
from lazy_quarry.files.logs import MOST_BYTES, keep_short, opened_log
from lazy_quarry.run.node.file_kinds import file_found

KINDS = ("file", "empty", "folder", "pipe", "socket", "link", "dangling", "loop", "device", "closed", "absent", "below")


def put(folder, kind):
    """Something of a kind in a folder; its path."""
    path = folder / f"{kind} with\na line end"
    if kind in ("file", "empty", "closed"):
        path.write_bytes(b"water\n" * 100 if kind != "empty" else b"")
    if kind == "closed":
        path.chmod(0)
    elif kind == "folder":
        path.mkdir()
    elif kind == "pipe":
        os.mkfifo(path)
    elif kind == "socket":
        with contextlib.chdir(folder), socket.socket(socket.AF_UNIX) as listener:
            listener.bind(path.name)
    elif kind == "link":
        target = folder / "target"
        target.write_bytes(b"behind a link")
        path.symlink_to(target)
    elif kind in ("dangling", "loop"):
        path.symlink_to(folder / "nowhere" if kind == "dangling" else path)
    elif kind == "device":
        path.symlink_to("/dev/full")
    elif kind == "below":
        path.write_text("no folder")
        path = path / "name"
    return path


def quick(work):
    """Do some work, which may raise an OSError or Timeout; that it ends at once is the promise."""
    found = []

    def run():
        try:
            found.append(work())
        except OSError as fault:
            found.append(fault)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(30)
    assert found, "it waits for somebody"
    return found[0]


@pytest.mark.parametrize("kind", KINDS)
def test_whatever_stands_there_nobody_is_held_up(tmp_path, kind):
    path = put(tmp_path, kind)
    theirs, own = quick(lambda: given.read(path, 1000)), quick(lambda: ours.read(path))
    may = kind in ("file", "empty") or (kind == "closed" and os.geteuid() == 0)
    assert isinstance(own, bytes) == may
    assert isinstance(theirs, bytes) == (may or kind == "link")
    for found in (own, theirs):
        assert isinstance(found, bytes) or found.strerror
    if kind in ("folder", "pipe", "socket"):
        assert isinstance(theirs, NotAFile) and isinstance(own, NotAFile) and kind in theirs.strerror
    assert quick(lambda: file_found(str(path))).path == str(path)
    written = quick(lambda: os.close(ours.opened(path, os.O_WRONLY | os.O_CREAT)))
    assert (written is None) == (may or kind == "absent")
    if kind not in ("absent", "below"):
        appended = quick(lambda: os.close(given.opened(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT)))
        assert (appended is None) == (may or kind in ("link", "dangling"))


def test_a_pipe_with_somebody_at_its_other_end_is_no_file_either(tmp_path):
    path = put(tmp_path, "pipe")
    other = os.open(path, os.O_RDWR)
    for flags in (os.O_RDONLY, os.O_WRONLY, os.O_WRONLY | os.O_CREAT | os.O_TRUNC):
        assert isinstance(quick(lambda flags=flags: given.opened(path, flags)), NotAFile)
        assert isinstance(quick(lambda flags=flags: ours.opened(path, flags)), NotAFile)
    os.close(other)


def test_null_may_be_read_and_written_and_the_kernels_files_are_read_as_far_as_they_are(tmp_path):
    assert given.read("/dev/null", 10) == b""
    os.close(given.opened("/dev/null", os.O_WRONLY | os.O_APPEND | os.O_CREAT))
    for device in ("/dev/zero", "/dev/full", "/dev/tty"):
        assert isinstance(quick(lambda device=device: given.read(device, 10)), OSError)
    assert b"MemTotal" in given.read("/proc/meminfo", 1 << 20) and b"MemTotal" in system.read("/proc/meminfo")
    quick(lambda: given.read("/proc/kmsg", 10))


def test_a_range_of_a_file_that_grows_is_read(tmp_path):
    path, over = tmp_path / "grows", threading.Event()

    def grow():
        with open(path, "ab") as file:
            while not over.is_set():
                file.write(b"x" * 65536)

    path.write_bytes(b"begin")
    thread = threading.Thread(target=grow)
    thread.start()
    try:
        assert len(quick(lambda: given.read(path, 100_000))) <= 100_000
        assert len(quick(lambda: given.read(path, 10, -10))) <= 10
        assert quick(lambda: file_found(str(path))).size >= 5
    finally:
        over.set()
        thread.join()


@drawn(data=st.binary(max_size=200), most=st.integers(0, 300), begin=st.integers(-300, 300))
def test_a_range_is_that_of_the_bytes(tmp_path_factory, data, most, begin):
    path = tmp_path_factory.mktemp("range") / "a"
    path.write_bytes(data)
    first = max(0, len(data) + begin) if begin < 0 else begin
    assert given.read(path, most, begin) == data[first : first + most]
    if len(data) > most:
        with pytest.raises(OSError, match="more than"):
            given.read_whole(path, most)
        with pytest.raises(OSError, match="more than"):
            ours.read(path, most)
    else:
        assert given.read_whole(path, most) == ours.read(path, most) == data


def test_a_path_that_hangs_is_given_up_and_its_file_system_left_alone_for_a_while(monkeypatch):
    monkeypatch.setattr(given, "_silent", {})
    hangs = threading.Event()
    with pytest.raises(TimeoutError, match="did not answer within"):
        given.in_time(hangs.wait, "/far/away/file", 0.05)
    began = time.monotonic()
    with pytest.raises(TimeoutError, match="does not answer"):
        given.in_time(lambda: 1, "/far/away/other", 60)
    assert time.monotonic() - began < 30 and given.in_time(lambda: 1, "/near/by") == 1
    with pytest.raises(ValueError, match="its own"):
        given.in_time(lambda: int("its own"), "/near/by")
    hangs.set()


def test_a_small_file_is_written_whole_or_not_at_all_with_the_mode_that_it_should_have(tmp_path, monkeypatch):
    write, umask = os.write, os.umask(0)
    try:
        monkeypatch.setattr(ours.os, "write", lambda fd, data: write(fd, data[:3]))
        ours.write_whole(tmp_path / "a", "all of it")
        os.umask(0o777)
        ours.write(tmp_path / "b", b"this too", 0o644)
    finally:
        os.umask(umask)
    assert ours.read(tmp_path / "a") == b"all of it" and ours.read_text(tmp_path / "b") == "this too"
    assert [os.stat(tmp_path / name).st_mode & 0o777 for name in "ab"] == [0o600, 0o644]

    def full(fd, data):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(ours.os, "write", full)
    with pytest.raises(OSError, match="No space"):
        ours.write_whole(tmp_path / "c", "all of it")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a", "b"]


def test_a_file_that_cannot_be_looked_at_does_not_count_as_absent(tmp_path, monkeypatch):
    (tmp_path / "a").write_text("[1]")
    (tmp_path / "half").write_text('{"a')
    assert ours.read_json(tmp_path / "a") == [1]
    assert ours.read_json(tmp_path / "none") is ours.read_json(tmp_path / "half") is ours.read_json(tmp_path) is None

    def none_left(*_, **__):
        raise OSError(24, "Too many open files")

    monkeypatch.setattr(ours.os, "open", none_left)
    with pytest.raises(OSError, match="Too many"):
        ours.read_json(tmp_path / "a")
    assert ours.glance_json(tmp_path / "a") is None


def test_a_log_is_appended_to_and_three_of_a_size_are_kept(tmp_path, monkeypatch):
    path, kept = tmp_path / "engine.log", [os.dup(1), os.dup(2)]
    for number in range(6):
        fd = opened_log(path)
        os.write(fd, str(number).encode() * MOST_BYTES)
        os.close(fd)
    assert sorted(one.name for one in tmp_path.iterdir()) == ["engine.log", "engine.log.1", "engine.log.2"]
    assert [path.read_bytes()[:1], (tmp_path / "engine.log.2").read_bytes()[:1]] == [b"5", b"3"]
    fd = opened_log(path)
    os.write(fd, b"begin" * (MOST_BYTES // 4))
    try:
        os.dup2(fd, 2)
        keep_short(path)
        os.write(2, b"after")
    finally:
        for own, to in zip(kept, (1, 2), strict=True):
            os.dup2(own, to)
            os.close(own)
        os.close(fd)
    assert path.read_bytes() == b"after" and (tmp_path / "engine.log.1").read_bytes()[:5] == b"begin"
