import os
import shutil
import subprocess

import pytest
from sqlalchemy import text

from lazy_quarry.core.engine.commands import CancelJob, Finish, GrantHours, Schedule, Submit, SubmitChain
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin, Phase
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store import journal as journal_module
from lazy_quarry.store.journal import EndedFilter, Journal
from lazy_quarry.store.journal_location import adopt
from lazy_quarry.store.sqlite.tables import events, sums
from tests.conftest import rows_of, small_site


def request(name="j", ranks=2):
    return Request(name, "silt", ("all",), "double", 600, Memory(100), ranks=ranks, grace_s=0)


class Site:
    """An engine with a journal, journal first."""

    def __init__(self, folder):
        self.journal = Journal(folder)
        self.engine = Engine(small_site(), self.journal.load())

    def do(self, command):
        events = self.engine.decide(command)
        self.journal.append(events, self.engine.state)
        return self.engine.apply(events)

    def run(self, at, name="j", length=1000):
        self.do(Submit(at, By("ada"), request(name), Origin("#!/bin/sh\n")))
        self.do(Schedule(at))
        number = self.engine.state.next_number - 1
        self.finish(number, at + length)
        return number

    def finish(self, number, at):
        self.do(Finish(at, number, 1, exit=0))


def test_opening_again_brings_the_state_back(tmp_path):
    site = Site(tmp_path)
    site.run(1000)
    site.do(
        SubmitChain(2000, "season", By("ada"), (("a", ()), ("b", (("a", "fails"),))), "[jobs.a]", "/w/c.toml", "/w")
    )
    site.do(GrantHours(2000, "silt", 3_600_000, By("ada", why="more")))
    site.do(Submit(5000, By("ada"), request(), Origin("")))
    site.do(Schedule(5000))
    again = Site(tmp_path)
    assert again.engine.state == site.engine.state
    assert again.journal.number == site.journal.number
    assert again.engine.state.jobs[2].phase is Phase.RUNNING


def test_a_snapshot_shortens_the_replay_and_changes_nothing(tmp_path, monkeypatch):
    monkeypatch.setattr(journal_module, "KEEP_EVERY", 5)
    site = Site(tmp_path)
    for number in range(6):
        site.run(1000 * number)
    again = Journal(tmp_path)
    assert again.load() == site.engine.state
    assert again.number - again.kept_at < 8


def test_ended_jobs_and_sums_stand_in_the_same_transaction(tmp_path):
    site = Site(tmp_path)
    site.run(DAY_MS - 500, "over-midnight", 1000)
    site.run(DAY_MS + 5000, "later")
    rows = rows_of(site.journal, sums)
    assert [(row.day_ms, row.name, row.allocated_core_ms, row.jobs) for row in rows] == [
        (0, "over-midnight", 1000, 0),
        (DAY_MS, "later", 2000, 1),
        (DAY_MS, "over-midnight", 1000, 1),
    ]
    assert sum(row.charge_core_ms for row in rows) == site.engine.state.tallies["silt"].charged_core_ms == 8000
    assert [job.request.name for job in site.journal.ended(EndedFilter(user="ada"))] == ["later", "over-midnight"]
    assert site.journal.ended(EndedFilter(user="bo")) == []
    assert site.journal.ended(EndedFilter(since_ms=DAY_MS + 6000, accounts=("silt",)))[0].number == 2
    assert site.journal.ended_job(1).phase is Phase.DONE
    assert site.journal.ended_job(9) is None


def test_the_events_of_a_job_are_kept_in_order(tmp_path):
    site = Site(tmp_path)
    number = site.run(1000)
    assert [event.kind for event in site.journal.events_of(number)] == ["submitted", "started", "ended"]
    assert [row.kind for row in rows_of(site.journal, events)] == ["submitted", "started", "ended"]


def test_a_write_that_fails_leaves_nothing_behind(tmp_path):
    site = Site(tmp_path)
    site.run(1000)
    before = site.journal.number
    with site.journal.storage.sql.connect() as work:
        pages = work.execute(text("PRAGMA page_count")).scalar()
        work.execute(text(f"PRAGMA max_page_count = {pages}"))
    big = Origin("#!/bin/sh\n" + "x" * 500_000)
    with pytest.raises(StateFolderError, match="full"):
        site.journal.append(site.engine.decide(Submit(9000, By("ada"), request(), big)), site.engine.state)
    assert site.journal.number == before
    assert Journal(tmp_path).load() == site.engine.state


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_disk_that_is_really_full_is_told_and_nothing_is_lost(tmp_path):
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", disk], capture_output=True).returncode:
        pytest.skip("tmpfs cannot be mounted here")
    try:
        site = Site(disk / "state")
        site.run(1000)
        (disk / "filler").write_bytes(b"")
        with open(disk / "filler", "wb", buffering=0) as filler, pytest.raises(OSError):
            while True:
                filler.write(b"x" * 4096)
        with pytest.raises(StateFolderError, match="full"):
            for at in range(9000, 9400):
                site.do(Submit(at, By("ada"), request(), Origin("x" * 20_000)))
        lived = site.engine.state
        assert Journal(disk / "state").load() == lived  # it can be opened all the same
        (disk / "filler").unlink()
        assert Journal(disk / "state", reading=True).load() == lived
        site.do(Submit(10_000, By("ada"), request(), Origin("")))
        site.journal.close()
    finally:
        subprocess.run(["umount", "-l", disk], check=True)


def test_a_folder_from_a_newer_program_is_left_alone(tmp_path):
    site = Site(tmp_path)
    with site.journal.storage.sql.begin() as work:
        work.execute(text("UPDATE meta SET value = '99' WHERE key = 'version'"))
    with pytest.raises(StateFolderError, match="newer"):
        Journal(tmp_path)


def test_a_copied_folder_is_refused_until_it_is_adopted(tmp_path):
    site = Site(tmp_path / "one")
    site.do(Submit(1000, By("ada"), request(), Origin("")))
    site.do(Schedule(1000))
    site.journal.close()
    shutil.copytree(tmp_path / "one", tmp_path / "two")
    with pytest.raises(StateFolderError, match="is a copy of"):
        Journal(tmp_path / "two")
    adopt(tmp_path / "two")
    adopted = Journal(tmp_path / "two")
    assert adopted.adopted
    assert adopted.load() == site.engine.state
    adopted.settle_adoption()
    assert not Journal(tmp_path / "two").adopted


def test_a_moved_folder_goes_on(tmp_path):
    site = Site(tmp_path / "one")
    site.run(1000)
    site.journal.close()
    (tmp_path / "one").rename(tmp_path / "two")
    assert Journal(tmp_path / "two").load() == site.engine.state


def test_nothing_is_taken_from_an_engine_after_another_has_begun(tmp_path):
    first = Site(tmp_path)
    first.run(1000)
    second = Site(tmp_path)
    assert second.journal.epoch == first.journal.epoch + 1
    with pytest.raises(StateFolderError, match="another engine has taken over"):
        first.run(5000)
    with pytest.raises(StateFolderError, match="another engine has taken over"):
        first.journal.thin(9000)
    second.run(5000)
    second.journal.lift_epoch(41)  # as when a node has seen a later state of the journal than this
    second.run(9000)
    assert Journal(tmp_path, reading=True).epoch == 42 and Journal(tmp_path).epoch == 43


def test_a_damaged_journal_says_so(tmp_path):
    (tmp_path / "journal.db").write_bytes(b"this is no journal at all" * 100)
    with pytest.raises(StateFolderError, match="damaged"):
        Journal(tmp_path)


def test_a_folder_that_is_a_file_says_so(tmp_path):
    (tmp_path / "state").write_text("")
    with pytest.raises(StateFolderError):
        Journal(tmp_path / "state")
    with pytest.raises(StateFolderError, match="no journal"):
        adopt(tmp_path)


def test_a_past_is_brought_in_with_its_sums(tmp_path):
    source = Site(None)
    for number in range(3):
        source.run(1000 * number, f"old-{number}")
    target = Journal(tmp_path)
    target.import_past(source.journal.ended(EndedFilter()))
    assert len(target.ended(EndedFilter())) == 3
    assert sum(row.allocated_core_ms for row in rows_of(target, sums)) == 6000


def test_cancelling_what_waits_ends_it_without_charge(tmp_path):
    site = Site(tmp_path)
    site.do(Submit(0, By("ada"), request(), Origin("")))
    ended = site.do(CancelJob(5, 1, By("ada")))
    assert (ended[0].phase, ended[0].charge_core_ms) == (Phase.CANCELLED, 0)
    assert site.journal.ended_job(1).phase is Phase.CANCELLED


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_ends_are_recorded_on_a_full_disk_from_what_was_kept_in_reserve(tmp_path):
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", disk], capture_output=True).returncode:
        pytest.skip("tmpfs cannot be mounted here")
    try:
        site = Site(disk / "state")
        site.do(Submit(1000, By("ada"), request(), Origin("x")))
        site.do(Schedule(1000))
        reserve = disk / "state" / "journal.reserve"
        assert reserve.stat().st_blocks * 512 >= 512 * 1024
        for size in (4096, 64):
            with open(disk / "filler", "ab", buffering=0) as filler, pytest.raises(OSError):
                while True:
                    filler.write(b"x" * size)
        with pytest.raises(StateFolderError, match="full"):
            for at in range(3000, 4000):  # what is new is refused, and the reserve stays
                site.do(Submit(at, By("ada"), request(), Origin("x" * at)))
        assert reserve.exists()
        site.finish(1, 5000)
        assert site.journal.ended_job(1).phase is Phase.DONE and not reserve.exists()
        (disk / "filler").unlink()
        site.do(Submit(9000, By("ada"), request(), Origin("x")))
        assert reserve.exists()
        assert Journal(disk / "state").load() == site.engine.state
    finally:
        site.journal.close()
        subprocess.run(["umount", "-l", disk], check=True)
