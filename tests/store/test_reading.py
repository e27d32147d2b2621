"""A journal that is only read, beside the one that is written."""

import pytest

from lazy_quarry.core.engine.commands import CancelJob, HoldJob, Submit
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.proof import prove
from lazy_quarry.store.storage import Wanted
from tests.store.test_damage import lived_in, put
from tests.store.test_journal import request

ALL = Wanted(0, 2**60, ("account", "name"))


def files(folder):
    """The bytes of the journal's files, without SQLite's index of its log, which every reader may write."""
    return {
        path.name: data for path in folder.iterdir() if not path.name.endswith("-shm") and (data := path.read_bytes())
    }


def test_a_reader_takes_in_all_that_is_written_beside_it(tmp_path):
    site, _ = lived_in(tmp_path)
    reader = Journal(tmp_path, reading=True)
    state = reader.load()
    reader.sums.rows(ALL)
    assert state == site.engine.state
    site.do(Submit(150_000, By("ada"), request("held"), Origin("#!/bin/sh\nheld\n")))
    waits = site.engine.state.next_number - 1
    site.do(HoldJob(150_000, waits, By("ada")))

    def heard(first, events):
        nonlocal told
        assert first == told + 1
        for event in events:
            state.apply(event)
        told += len(events)

    for number in range(120):  # more than are taken in together, at last
        site.run(200_000 + 2000 * number, f"job{number % 7}", 1500)
        if number in (0, 1, 119):
            told = reader.number
            reader.follow(state, heard)
            assert state == site.engine.state and told == reader.number == site.journal.number
    site.do(CancelJob(900_001, waits, By("ada")))
    told = reader.number
    reader.follow(state, heard)
    reader.follow(state, lambda first, events: pytest.fail("nothing has happened since"))
    assert waits not in state.jobs and reader.ended_job(waits) == site.journal.ended_job(waits)
    assert sorted(reader.sums.rows(ALL)) == sorted(site.journal.sums.rows(ALL)) == sorted(reader.storage.sums(ALL))
    assert not prove(reader).wrong


def test_a_reader_changes_nothing_not_even_what_an_engine_left(tmp_path):
    site, left = lived_in(tmp_path / "one")
    folder = tmp_path / "two"
    folder.mkdir()
    put(folder, left)  # as after a kill: what was written last stands in the log alone
    assert left["journal.db-wal"]
    reader = Journal(folder, reading=True)
    assert reader.load() == site.engine.state and not list(reader.problems())
    for write in (lambda: reader.thin(2**60), reader.settle_adoption, lambda: reader.import_past([])):
        with pytest.raises(StateFolderError, match="open for reading only"):
            write()
    reader.close()
    assert files(folder) == {name: data for name, data in left.items() if not name.endswith("-shm")}


def test_a_reader_leaves_a_journal_of_an_earlier_version_as_it_is(tmp_path):
    journal = Journal(tmp_path)
    journal.storage.set_meta({"version": "6"})
    journal.close()
    before = files(tmp_path)
    with pytest.raises(StateFolderError, match=r"of an earlier version, 6.*lq jobs, brings it up to date"):
        Journal(tmp_path, reading=True)
    assert files(tmp_path) == before
