"""Files that travel with a job: what comes whole, what is refused, what goes on after a cut."""

import errno
import hashlib
import os
import shutil
import zlib
from types import SimpleNamespace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase
from lazy_quarry.core.job.request import Memory, Request, Stage
from lazy_quarry.core.values import replace
from lazy_quarry.run.fetching import IN_FLIGHT
from lazy_quarry.run.hosts.carrier import CannotTravel, Carrying, bring_back, carry_in, told_of
from lazy_quarry.run.hosts.pace import LEAST_PIECE, Pace
from lazy_quarry.run.node.attempt import OWN
from lazy_quarry.run.node.carried import MOST_PIECE, PLACE
from lazy_quarry.run.node.file_service import FileService
from lazy_quarry.run.node.kept_inputs import KEPT_INPUTS, kept_files
from lazy_quarry.run.node.staging import copy_tree
from tests.conftest import SEEDS

NAME = "7-1-ab"


def job_in(folder, into=("in",), out=("out", "*.txt"), **more):
    request = Request(
        "x",
        "silt",
        ("all",),
        "steady",
        600,
        Memory(100),
        stage=Stage(tuple(into), tuple(out)),
        output="o-{job}.log",
        **more,
    )
    job = Job(7, "ada", request, Origin("#!/bin/sh\n", "", str(folder)), 0, Phase.RUNNING, attempt=1, mark="ab")
    return replace(job, started_ms=0, allocations=(Allocation("h3", 1, (0,), 100),))


@pytest.fixture
def place(tmp_path):
    """The folder of a job here, and a host's service with an attempt's folder."""
    (tmp_path / "here" / "in").mkdir(parents=True)
    spool = tmp_path / "there" / "spool"
    (spool / NAME).mkdir(parents=True)
    return tmp_path / "here", FileService(spool)


def sent(here, service, **more):
    """Have it carried, at a pace that no clock has a part in."""
    job = job_in(here, **more)
    there = service.make_place(NAME, told_of(job))
    carry_in(service, NAME, job, carrying=Carrying(Pace(clock=lambda: 0.0)))
    return job, there


def tree(top):
    """What is below a folder: bytes by name, the targets of links, and that there is a folder."""
    found = {}
    for folder, below, names in os.walk(os.fsencode(top)):
        for name in [*below, *names]:
            path = os.path.join(folder, name)
            key = os.path.relpath(path, os.fsencode(top))
            if os.path.islink(path):
                found[key] = ("link", os.readlink(path))
            elif os.path.isdir(path):
                found[key] = "folder"
            else:
                with open(path, "rb") as file:
                    found[key] = (file.read(), os.stat(path).st_mode & 0o777, os.stat(path).st_mtime_ns)
    return found


_NAMES = st.binary(min_size=1, max_size=20).map(lambda raw: raw.replace(b"/", b"-").replace(b"\0", b"0")).filter(
    lambda name: name not in (b".", b"..")
)  # fmt: skip


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.dictionaries(_NAMES, st.binary(max_size=300), max_size=6),
    st.dictionaries(_NAMES, st.sampled_from([0o600, 0o644, 0o755]), max_size=3),
)
def test_whatever_files_there_are_come_whole_with_their_names_modes_and_times(tmp_path_factory, files, others):
    top = tmp_path_factory.mktemp("carried")
    (top / "here" / "in" / "below").mkdir(parents=True)
    (top / "spool" / NAME).mkdir(parents=True)
    service = FileService(top / "spool")
    for name, content in files.items():
        with open(os.path.join(os.fsencode(top / "here" / "in"), name), "wb") as file:
            file.write(content) if name != b"below" else None
    for name, mode in others.items():
        path = os.path.join(os.fsencode(top / "here" / "in" / "below"), name)
        with open(path, "wb") as file:
            file.write(b"x" * 300_000 if mode == 0o755 else b"")
        os.chmod(path, mode)
    (top / "here" / "in" / "below" / "a link").symlink_to("../nowhere")
    _, there = sent(top / "here", service)
    assert tree(f"{there}/in") == tree(top / "here" / "in")


def test_what_a_job_made_comes_back_and_once(place):
    here, service = place
    _, there = sent(here, service)
    os.makedirs(f"{there}/out/deep")
    for name, content in (
        ("out/deep/a", b"1" * 3_000_000),
        ("out/e", b""),
        ("sum.txt", b"2"),
        ("o-7.log", b"said"),
        ("not", b"3"),
    ):
        with open(f"{there}/{name}", "wb") as file:
            file.write(content)
    os.mkfifo(f"{there}/out/pipe")
    told = service.carried(NAME)
    bring_back(service, NAME, told)
    assert (here / "out/deep/a").read_bytes() == b"1" * 3_000_000 and (here / "sum.txt").read_text() == "2"
    assert (here / "o-7.log").read_text() == "said" and not (here / "not").exists() and not (here / "out/pipe").exists()
    before = os.stat(here / "out/deep/a").st_ino
    bring_back(service, NAME, told)
    assert os.stat(here / "out/deep/a").st_ino == before  # what is here already isn't brought again
    service.forget(NAME)
    assert (service.spool / NAME).is_dir()  # nothing is removed before it is safe
    service.was_brought(NAME)
    service.forget(NAME)
    assert not (service.spool / NAME).exists()


class Cut(FileService):
    """A service whose link breaks after so many pieces."""

    left = 8
    sent = 0

    def put_piece(self, name, path, begin, piece, check):
        if self.left == 0:
            raise ConnectionError("cut")
        self.left -= 1
        self.sent += len(piece)
        super().put_piece(name, path, begin, piece, check)


def test_a_large_file_goes_on_where_it_was_cut_off(place):
    here, plain = place
    (here / "in" / "large").write_bytes(os.urandom(12_000_000))
    service = Cut(plain.spool)
    with pytest.raises(ConnectionError):
        sent(here, service)
    first = service.size_put(NAME, "in/large")
    assert 0 < first <= service.sent < 12_000_000
    service.left, service.sent = 1000, 0
    _, there = sent(here, service)
    assert tree(f"{there}/in") == tree(here / "in")
    assert service.sent <= 12_000_000 - first + IN_FLIGHT * MOST_PIECE  # what was there isn't sent again


def test_what_came_before_a_cut_is_compared_again(place):
    here, plain = place
    (here / "in" / "large").write_bytes(os.urandom(24_000_000))
    service = Cut(plain.spool)
    service.left = 22
    with pytest.raises(ConnectionError):
        sent(here, service)
    parts = list((plain.spool / NAME / "carry").iterdir())
    assert len(parts) == 2, "one is for the job, another is kept"
    for part in parts:
        with open(part, "r+b") as file:
            file.write(b"what a crash of the host left")
    service.left = 1000
    with pytest.raises(OSError, match="damaged on its way"):
        sent(here, service)
    _, there = sent(here, service)
    assert tree(f"{there}/in") == tree(here / "in")
    ((name, size, _),) = kept_files(plain.spool)
    assert (
        size == 24_000_000
        and (plain.spool.parent / KEPT_INPUTS / name).read_bytes() == (here / "in/large").read_bytes()
    )
    assert not list((plain.spool / NAME / "carry").iterdir())


@pytest.mark.parametrize("shares", [False, True])
def test_where_no_second_file_can_be_written_it_is_copied_afterwards(place, monkeypatch, shares):
    here, plain = place
    monkeypatch.setattr("lazy_quarry.run.node.carried.shares_blocks", lambda folder: shares)
    (here / "in" / "large").write_bytes(os.urandom(3_000_000))
    plain.make_place(NAME, told_of(job_in(here)))
    part = hashlib.sha256(b"in/large").hexdigest()[:32]
    if not shares:
        (plain.spool / NAME / "carry" / f"{part}.kept" / "in the way").mkdir(parents=True)
    _, there = sent(here, plain)
    assert tree(f"{there}/in") == tree(here / "in")
    assert [size for _, size, _ in kept_files(plain.spool)] == [3_000_000], "it was copied afterwards"


FOUR_GIB = (4 << 30) if SEEDS > 1 else 64 << 20
"""A boundary of numbers in files, tried in the long form only: reading that many zeros takes a minute."""


def test_a_file_beyond_four_gib_goes_there_and_back(place):
    here, service = place
    with open(here / "in" / "large", "wb") as file:
        for at in (0, FOUR_GIB - 3, FOUR_GIB + (3 << 20)):
            file.seek(at)
            file.write(b"seven b")
    _, there = sent(here, service)
    os.mkdir(f"{there}/out")
    os.rename(f"{there}/in/large", f"{there}/out/large")
    bring_back(service, NAME, service.carried(NAME))
    for one in (f"{there}/out/large", here / "out/large"):
        with open(one, "rb") as file:
            assert os.fstat(file.fileno()).st_size == FOUR_GIB + (3 << 20) + 7
            for at, found in ((0, b"seven b\0"), (FOUR_GIB - 4, b"\0seven b\0"), (FOUR_GIB + (3 << 20), b"seven b")):
                file.seek(at)
                assert file.read(len(found)) == found


def test_holes_stay_holes_there_and_back(place):
    here, service = place
    for name, begin in (("holes", 5 << 20), ("at the end", 0), ("nothing else", None)):
        with open(here / "in" / name, "wb") as file:
            if begin is not None:
                file.seek(begin)
                file.write(b"x" * 70_000)
            file.truncate(64 << 20)
    counted = Cut(service.spool)
    counted.left = 10
    _, there = sent(here, counted)
    before = tree(here / "in")
    assert tree(f"{there}/in") == before and counted.sent < 2 << 20
    assert os.stat(f"{there}/in/holes").st_blocks * 512 < 2 << 20
    os.rename(f"{there}/in", f"{there}/out")
    bring_back(service, NAME, service.carried(NAME))
    assert tree(here / "out") == before and os.stat(here / "out/holes").st_blocks * 512 < 2 << 20
    copy_tree(str(here / "in"), str(here / "staged"), lambda: True)  # as into and out of a scratch folder
    staged = tree(here / "staged")
    assert {name: found[0] for name, found in staged.items()} == {name: found[0] for name, found in before.items()}
    assert all(os.stat(path).st_blocks * 512 < 2 << 20 for path in (here / "staged").iterdir())
    whole = (here / "in/holes").read_bytes()
    for begin, most in ((0, 64 << 20), (3 << 20, 4 << 20), (1, 0), (60 << 20, 100 << 20)):
        digest = hashlib.sha256(whole[begin : begin + most]).hexdigest()
        assert service.place_digest(NAME, "out/holes", begin, most) == digest


def free_is(monkeypatch, free, spool):
    """The host's disk has so many bytes for files that came and what is kept of them."""

    def usage(path):
        used = sum(
            os.stat(os.path.join(top, name)).st_size for top, _, names in os.walk(spool.parent) for name in names
        )
        return SimpleNamespace(free=free - used)

    monkeypatch.setattr(shutil, "disk_usage", usage)


def test_the_next_job_has_what_came_before_and_room_is_made_for_others(place, monkeypatch):
    here, plain = place
    service, carrying = Cut(plain.spool), Carrying()
    service.left = 1000
    (here / "in" / "large").write_bytes(os.urandom(3_000_000))
    (here / "in" / "large").chmod(0o400)
    free_is(monkeypatch, 30_000_000, plain.spool)

    def second(name):
        (plain.spool / name).mkdir()
        there = service.make_place(name, {"folder": str(here), "out": [], "files": {}, "printed": {}})
        carry_in(service, name, job_in(here), carrying=carrying)
        return there

    there = second("8-1-ab")
    assert service.sent == 3_000_000
    os.chmod(f"{there}/in/large", 0o600)
    with open(f"{there}/in/large", "r+b") as file:
        file.write(b"changed by the job")
    assert tree(f"{second('9-1-ab')}/in") == tree(here / "in") and service.sent == 3_000_000
    carrying = Carrying()  # an engine that was started anew
    assert tree(f"{second('10-1-ab')}/in") == tree(here / "in") and service.sent == 3_000_000
    assert [size for _, size, _ in kept_files(plain.spool)] == [3_000_000]
    assert service.make_room(NAME, 20_000_000) > 20_000_000 and not list(kept_files(plain.spool))
    assert tree(f"{second('11-1-ab')}/in") == tree(here / "in") and service.sent == 6_000_000
    content = (here / "in" / "large").read_bytes()
    (here / "in" / "other").write_bytes(content[:-1] + bytes([content[-1] ^ 1]))  # as long, and another at its very end
    assert tree(f"{second('12-1-ab')}/in") == tree(here / "in") and service.sent == 9_000_000


def test_a_disk_without_room_refuses_the_start_and_holds_nothing(place, monkeypatch):
    here, service = place
    (here / "in" / "large").write_bytes(b"x" * 3_000_000)
    free_is(monkeypatch, 2_000_000, service.spool)
    with pytest.raises(OSError, match=r"its files need 2\.9 MiB there, and .+ of that are missing"):
        sent(here, service)
    assert not (service.spool / NAME / OWN / PLACE).exists()

    class Full(FileService):
        def put_piece(self, name, path, begin, piece, check):
            raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.undo()
    with pytest.raises(OSError, match="No space"):
        sent(here, Full(service.spool))
    assert not (service.spool / NAME / OWN / PLACE).exists() and not (service.spool / NAME / "carry").exists()


def test_the_pace_follows_the_way_and_keeps_to_a_rate():
    now = [0.0]
    waited = []

    def wait(seconds):
        waited.append(seconds)
        now[0] += seconds

    def pieces(pace, took, count):
        sizes = []
        for _ in range(count):
            sizes.append(pace.piece)
            with pace.turn(sizes[-1]):
                now[0] += took
        return sum(sizes[:-1])

    pace = Pace(clock=lambda: now[0], wait=wait)
    first = pace.piece
    pieces(pace, 0.01, 200)
    quick = pace.piece
    pieces(pace, 1.0, 30)
    assert pace.piece == LEAST_PIECE < first < quick == MOST_PIECE and not waited
    pieces(pace, 0.01, 400)
    assert pace.piece == MOST_PIECE  # it recovers
    slow, began = Pace(1 << 20, lambda: now[0], wait), now[0]
    assert pieces(slow, 0.0, 40) / (1 << 20) == pytest.approx(now[0] - began)


def test_what_is_damaged_or_changes_on_the_way_is_noticed(place, monkeypatch):
    here, service = place
    (here / "in" / "large").write_bytes(b"a" * 3_000_000)
    service.make_place(NAME, told_of(job_in(here)))
    with pytest.raises(OSError, match="damaged"):
        service.put_piece(NAME, "in/x", 0, b"abc", zlib.crc32(b"abd"))
    service.put_piece(NAME, "in/x", 0, b"abc", zlib.crc32(b"abc"))
    assert service.put_whole(NAME, "in/x", 4, 0o644, 0, 4, False) is None, "not all that was sent has come"
    service.drop_put(NAME, "in/x")
    assert service.size_put(NAME, "in/x") == 0
    (here / "missing").symlink_to("nowhere")
    for into, words in ((["none"], "is not in"), (["/etc/passwd"], "is outside of"), (["../x"], "is outside of")):
        with pytest.raises(CannotTravel, match=words):
            carry_in(service, NAME, job_in(here, into=into))

    class Growing(FileService):
        def put_piece(self, name, path, begin, piece, check):
            with open(here / "in" / "large", "ab") as file:
                file.write(b"more")

    with pytest.raises(CannotTravel, match="changed while it was read"):
        carry_in(Growing(service.spool), NAME, job_in(here))


@pytest.mark.parametrize("path", ["../x", "/etc/x", "a/../../x", "", ".", "a//b", "a/./b", "link/x"])
def test_nothing_outside_of_the_place_is_written_or_read(place, path, tmp_path):
    here, service = place
    _, there = sent(here, service)
    (tmp_path / "victim").mkdir()
    os.symlink(tmp_path / "victim", f"{there}/link")
    for attempt in (
        lambda: service.put_small(NAME, [[path, b"x", 0o644, 0]]),
        lambda: service.put_other(NAME, path, None),
        lambda: service.get_piece(NAME, path, 0, 100),
    ):
        with pytest.raises(OSError):
            attempt()
    assert not list((tmp_path / "victim").iterdir()) and not (tmp_path / "x").exists()


@pytest.mark.parametrize("when", ["before", "meanwhile"])
def test_what_comes_back_never_leads_out_of_the_folder(place, tmp_path, when):
    here, service = place
    _, there = sent(here, service)
    victim = tmp_path / "victim"
    victim.mkdir()
    os.makedirs(f"{there}/out/deep")
    for name in ("a", "deep/b", "deep/c", "z"):
        with open(f"{there}/out/{name}", "w") as file:
            file.write("bad")

    def turned(done=0, total=0):
        """The folder becomes a link to another, at once or when something was written."""
        if when == "before" or done:
            if (here / "out").is_dir() and not (here / "out").is_symlink():
                shutil.rmtree(here / "out")
            if not (here / "out").is_symlink():
                (here / "out").symlink_to(victim)

    if when == "before":
        turned()
    with pytest.raises(OSError, match=r"would lead out|No such file"):
        bring_back(service, NAME, service.carried(NAME), turned)
    assert not list(victim.iterdir())


def test_a_folder_that_is_reached_by_a_link_is_as_good_as_any(place, tmp_path):
    here, service = place
    (here / "in" / "x").write_text("x" * 400_000)
    (tmp_path / "link").symlink_to(here)
    _, there = sent(tmp_path / "link", service)
    assert tree(f"{there}/in") == tree(here / "in")
    os.rename(f"{there}/in", f"{there}/out")
    bring_back(service, NAME, service.carried(NAME))
    assert tree(here / "out") == tree(here / "in")
