"""The locks on a machine's cores, and what another user can and can't do to them."""

import contextlib
import fcntl
import json
import multiprocessing
import os
import socket
import subprocess
import tempfile
import time
from pathlib import Path

import pytest

from lazy_quarry.run.node import locks
from lazy_quarry.run.node.locks import NOTE, CoresLock, CoresTaken, cores_holder, locks_folder, others_here
from lazy_quarry.run.node.process import identify
from lazy_quarry.run.node.registry import _beginnings, begun, registered
from tests.conftest import until

NOBODY = 65_534
ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="only root can be somebody else")


@pytest.fixture
def place(tmp_path, monkeypatch):
    """A sticky folder that every user may write, in place of those of the machine."""
    tmp_path.chmod(0o755)
    for above in tmp_path.parents:
        with contextlib.suppress(OSError):
            above.chmod(above.stat().st_mode | 0o055)
    found = tmp_path / "tmp"
    found.mkdir()
    found.chmod(0o1777)
    monkeypatch.delenv("LQ_LOCKS", raising=False)
    monkeypatch.setattr(locks, "PLACES", (str(found),))
    monkeypatch.setattr(locks, "_FORMER", (str(tmp_path / "former"),))
    (tmp_path / "former").mkdir()
    return found


def as_somebody(line, place):
    """Run a line as another user, in that place; whether it could be done."""
    if (pid := os.fork()) == 0:
        try:
            os.chdir(place)
            os.setgroups([])
            os.setgid(NOBODY)
            os.setuid(NOBODY)
            exec(line, {"os": os, "socket": socket})
        except OSError:
            os._exit(1)
        os._exit(0)
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 0


def made(place):
    return sorted(path.name for path in place.iterdir())


def test_a_folder_of_ones_own_is_made_and_found_again_whatever_the_umask(place, tmp_path):
    umask = os.umask(0)
    try:
        first = locks_folder()
    finally:
        os.umask(umask)
    assert first == locks_folder() and first.parent == place
    assert first.stat().st_mode & 0o7777 == 0o711
    held = CoresLock(tmp_path / "spool")
    modes = {path.name: path.stat().st_mode & 0o777 for path in first.iterdir()}
    assert modes == {"agent.lock": 0o600, "cores.lock": 0o600, NOTE: 0o644}
    assert cores_holder() == str(tmp_path / "spool")
    with pytest.raises(CoresTaken, match="spool"):
        CoresLock(tmp_path / "other")
    held.leave_single()


def _taken(place, name, going, told):
    locks.PLACES, locks._FORMER = (place,), (f"{place}/none",)
    going.wait()
    try:
        CoresLock(Path(f"/{name}/spool"))
        told.put(name)
        time.sleep(60)
    except CoresTaken:
        told.put("")


def test_one_of_many_that_come_at_once_has_the_cores(place):
    how = multiprocessing.get_context("fork")
    going, told = how.Event(), how.Queue()
    others = [how.Process(target=_taken, args=(str(place), f"s{number}", going, told)) for number in range(6)]
    for other in others:
        other.start()
    going.set()
    found = [told.get(timeout=60) for _ in others]
    assert len([name for name in found if name]) == 1
    for other in others:
        other.kill()
        other.join()


def test_a_folder_made_by_one_who_looked_before_gives_nobody_the_cores_twice(place, tmp_path, monkeypatch):
    """He found none, then somebody made one and took its locks, and only then he made his own, of a lower name."""
    first, made, listed = [], tempfile.mkdtemp, os.listdir

    def late(prefix, dir):
        monkeypatch.setattr(locks.tempfile, "mkdtemp", made)
        first.append(CoresLock(tmp_path / "first"))
        os.mkdir(lower := f"{dir}/{prefix}00000000", 0o700)
        return lower

    monkeypatch.setattr(locks.tempfile, "mkdtemp", late)
    with pytest.raises(CoresTaken, match="first"):
        CoresLock(tmp_path / "second")
    assert len(listed(place)) == 1 and cores_holder() == str(tmp_path / "first")
    os.mkdir(place / f"lazy-quarry-{os.getuid()}-00000000", 0o711)  # one that was left
    assert locks_folder() == first[0].folder and cores_holder() == str(tmp_path / "first")
    with pytest.raises(CoresTaken, match="first"):
        CoresLock(tmp_path / "third")


def test_a_folder_that_its_maker_takes_away_again_is_looked_for_anew(place, tmp_path, monkeypatch):
    opened, gone = locks.ours.opened, []

    def late(path, *more):
        if not gone:
            gone.append(path.parent)
            path.parent.rmdir()
        return opened(path, *more)

    monkeypatch.setattr(locks.ours, "opened", late)
    held = CoresLock(tmp_path / "spool")
    assert cores_holder() == str(tmp_path / "spool") and held.folder != gone[0] and made(place) == [held.folder.name]
    held.leave_single()


def test_a_look_at_the_lock_keeps_nobody_from_taking_it(place, tmp_path):
    folder = locks_folder()
    looking = os.open(folder / "cores.lock", os.O_RDWR | os.O_CREAT, 0o600)
    fcntl.flock(looking, fcntl.LOCK_EX)
    if (pid := os.fork()) == 0:
        time.sleep(0.2)
        os._exit(0)
    os.close(looking)  # the child still has it, for a moment
    CoresLock(tmp_path / "spool").leave_single()
    os.waitpid(pid, 0)


@ROOT
@pytest.mark.parametrize(
    "line",
    [
        "os.mkdir('lazy-quarry-0-AAAA'); os.mkfifo('lazy-quarry-0-AAAA/cores.lock', 0o666)",
        "os.mkdir('lazy-quarry-0-AAAA'); os.mkfifo('lazy-quarry-0-AAAA/agent.lock', 0o666)",
        "os.mkfifo('lazy-quarry-0-AAAA')",
        "os.mkdir('lazy-quarry-0-AAAA', 0o777)",
        "os.symlink('/root', 'lazy-quarry-0-AAAA')",
        "os.symlink('/', 'lazy-quarry-0-A\\n')",
        "socket.socket(socket.AF_UNIX).bind('lazy-quarry-0-AAAA')",
        "[os.mkdir(f'lazy-quarry-0-{n:04}') for n in range(500)]",
    ],
)
def test_a_folder_made_by_others_in_ones_name_does_not_count(place, tmp_path, line):
    assert as_somebody(line, place)
    before = made(place)
    folder = locks_folder()
    assert folder.name not in before and folder.stat().st_uid == 0
    CoresLock(tmp_path / "spool").leave_single()
    assert set(made(place)) - set(before) == {folder.name} and others_here() == []


@ROOT
def test_others_can_neither_take_the_lock_nor_read_it_nor_put_a_link_in_its_place(place, tmp_path):
    folder = locks_folder()
    victim = tmp_path / "precious"
    victim.write_text("untouched")
    (folder / "cores.lock").symlink_to(victim)
    with pytest.raises(OSError, match="a link"):
        CoresLock(tmp_path / "spool")
    assert victim.read_text() == "untouched" and cores_holder() is None
    (folder / "cores.lock").unlink()
    CoresLock(tmp_path / "spool").leave_single()
    for line in (
        f"os.open('{folder}/cores.lock', os.O_RDONLY)",
        f"os.rename('{folder}', 'gone')",
        f"os.listdir('{folder}')",
    ):
        assert not as_somebody(line, place)


@ROOT
def test_others_are_told_of_when_note_folder_and_process_are_of_one_user(place, tmp_path):
    folder = place / "lazy-quarry-1-abcd"
    folder.mkdir(mode=0o711)
    os.chown(folder, 1, 1)
    waits = subprocess.Popen(["sleep", "60"], user=1)
    mine = subprocess.Popen(["sleep", "60"])

    def told(pid, owner=1):
        path = folder / NOTE
        path.unlink(missing_ok=True)
        path.write_text(json.dumps(vars(identify(pid))))
        os.chown(path, owner, owner)
        return others_here()

    assert others_here() == [] and told(waits.pid) == ["daemon"]
    assert told(waits.pid, owner=2) == told(mine.pid) == told(2**22 + 5) == []
    for text in ("", "[]", '{"pid": "x"}', '{"pid": -1, "ticks": 0}', "[" * 9000, '{"pid": 1' + " " * 9000 + "}"):
        (folder / NOTE).write_text(text)
        os.chown(folder / NOTE, 1, 1)
        assert others_here() == []
    (folder / NOTE).unlink()
    os.mkfifo(folder / NOTE, 0o666)
    os.chown(folder / NOTE, 1, 1)
    assert others_here() == []  # and nobody waits for the pipe
    assert told(waits.pid) == ["daemon"]
    os.chown(folder, 2, 2)
    assert others_here() == []
    for one in (waits, mine):
        one.kill()
        one.wait()


def test_the_former_place_is_locked_too_and_its_claims_are_known(place, tmp_path):
    former = tmp_path / "former" / f"lazy-quarry-{os.getuid()}"
    former.mkdir(mode=0o711)
    (former / "claims").mkdir()
    spool = tmp_path / "spool"
    spool.mkdir()
    held = os.open(former / "cores.lock", os.O_RDWR | os.O_CREAT, 0o644)
    os.write(held, b'{"spool": "/old/spool"}')
    fcntl.flock(held, fcntl.LOCK_SH)
    assert cores_holder() == "/old/spool"
    with pytest.raises(CoresTaken, match="/old/spool"):
        CoresLock(spool)
    os.close(held)
    CoresLock(spool).leave_single()
    _beginnings.cache_clear()
    there = spool.stat()
    note = {"supervisor": vars(identify(os.getpid())), "over_by": 1.0}
    (former / "claims" / f"{there.st_dev}-{there.st_ino}-7-2-ab").write_text(json.dumps(note))
    assert registered(spool / "7-2-ab").over_by == 1.0 and begun(spool) == {7: 2}
    (spool / "8-1-cd").mkdir()
    (spool / "8-1-cd" / "claim.json").write_text("{}")
    (spool / "9-1-ef").mkdir()
    assert begun(spool) == {7: 2, 8: 1}
    _beginnings.cache_clear()
    former.chmod(0o777)  # anybody could have put this there
    assert cores_holder() == str(spool) and locks.former_folder() is None
    _beginnings.cache_clear()


@pytest.mark.parametrize("what", ["not sticky", "a network's", "not there"])
def test_without_a_place_for_locks_it_is_said_which_is_missing(place, monkeypatch, what):
    if what == "not sticky":
        place.chmod(0o777)
    elif what == "a network's":
        monkeypatch.setattr(locks, "is_shared", lambda _: True)
    else:
        place.rmdir()
    with pytest.raises(OSError, match="on a disk of this machine, writable and sticky"):
        locks_folder()
    assert cores_holder() is None and others_here() == []


def test_a_folder_that_is_used_is_kept_fresh(place, tmp_path, monkeypatch):
    held = CoresLock(tmp_path / "spool")
    long_ago = time.time() - 40 * 86_400
    (held.folder / "claims").mkdir()
    claim, stale = held.folder / "claims" / "claim", held.folder / "claims" / "stale"
    claim.touch()
    stale.touch()
    os.utime(stale, (long_ago, long_ago))
    paths = [claim, held.folder, *held.folder.iterdir()]
    for path in paths:
        os.utime(path, (long_ago, long_ago))
    held.keep_fresh([str(claim)])
    assert all(path.stat().st_mtime < long_ago + 10 for path in paths)
    monkeypatch.setattr(locks, "FRESH_EVERY_S", 0.0)
    held.keep_fresh([str(claim)])
    assert stale.stat().st_mtime < long_ago + 10
    assert all(path.stat().st_mtime > long_ago + 86_400 for path in paths)
    held.leave_single()


def test_a_folder_that_was_removed_under_an_agent_leaves_its_jobs_alone(machine):
    job = machine.submit("while [ ! -e go ]; do sleep 0.02; done")
    until(lambda: machine.state_of(job) == "running", "its start")
    import shutil

    shutil.rmtree(machine.environment["LQ_LOCKS"])
    (machine.work / "go").touch()
    assert machine.ended(job)["state"] == "done"
    assert machine.ended(machine.submit("true"))["state"] == "done"
