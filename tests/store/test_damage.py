"""Journals that are damaged, removed, replaced or cut short: nothing passes in silence, and what is whole can be saved."""

import os
import random
import shutil
import sqlite3
import stat
from contextlib import closing

import pytest

from lazy_quarry.core.engine.commands import Schedule, Submit
from lazy_quarry.core.engine.in_doubt import BY_RESCUE
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin, Phase
from lazy_quarry.errors import DamagedJournal, StateFolderError
from lazy_quarry.store import journal as journal_module
from lazy_quarry.store.folder import file_system, make_folder
from lazy_quarry.store.journal import EndedFilter, Journal
from lazy_quarry.store.journal_location import adopt
from lazy_quarry.store.rescue import rescue, use_rescued
from lazy_quarry.store.sqlite.sizes import sizes
from lazy_quarry.store.sqlite.tables import metadata
from tests.store.test_journal import Site, request

FILES = ("journal.db", "journal.db-wal", "journal.head")


def lived_in(folder, monkeypatch=None):
    """A folder whose engine was killed, with everything in it, and what it held."""
    site = Site(folder)
    for number in range(25):
        site.run(1000 * number, f"job{number % 5}")
    for number in range(4):
        site.do(Submit(100_000 + number, By("ada"), request("w"), Origin("#!/bin/sh\n" + "y" * 6000 * number)))
    site.do(Schedule(100_010))
    files = {name: (folder / name).read_bytes() for name in FILES}
    return site, files


def put(folder, files):
    for path in folder.iterdir():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    for name, data in files.items():
        (folder / name).write_bytes(data)


def everything(journal):
    jobs = range(1, 30)
    return journal.number, [event for job in jobs for event in journal.events_of(job)], journal.ended(EndedFilter())


def damaged(data, chance):
    data, at = bytearray(data), chance.randrange(len(data))
    how = chance.choice(["bit", "bytes", "page", "cut", "swap"])
    if how == "bit":
        data[at] ^= 1 << chance.randrange(8)
    elif how == "bytes":
        data[at : at + 16] = chance.randbytes(len(data[at : at + 16]))
    elif how == "page":
        data[at : at + 4096] = bytes(len(data[at : at + 4096]))
    elif how == "cut":
        del data[at:]
    else:
        other = chance.randrange(len(data))
        data[at : at + 64], data[other : other + 64] = data[other : other + 64], data[at : at + 64]
    return bytes(data)


@pytest.mark.parametrize("closed", [False, True])
def test_no_damage_passes_in_silence_and_every_whole_event_is_saved(tmp_path, closed):
    site, files = lived_in(tmp_path)
    state, held = site.engine.state, everything(site.journal)
    site.journal.close()
    if closed:
        files = {name: (tmp_path / name).read_bytes() for name in ("journal.db", "journal.head")}
    chance, told = random.Random(7), 0
    for _ in range(60):
        name = chance.choice([name for name in files if name != "journal.head"])
        put(tmp_path, {**files, name: damaged(files[name], chance)})
        try:
            journal = Journal(tmp_path)
            assert (journal.load(), everything(journal)) == (state, held)
            journal.close()
        except DamagedJournal as fault:
            told += 1
            assert "\n" not in str(fault) and "lazy-quarry journal rescue" in str(fault)
            if told % 6 == 0 and "0 events can still be read" not in str(fault):
                _check_rescue(tmp_path, held)
    assert told > 10


@pytest.mark.parametrize("table", metadata.tables.values(), ids=str)
def test_a_value_of_another_type_than_its_column_s_is_damage(tmp_path, table):
    site, _ = lived_in(tmp_path)
    site.journal.close()
    files = {path.name: path.read_bytes() for path in tmp_path.iterdir()}
    for column in table.columns:
        if column.primary_key and column.type.python_type is int and len(table.primary_key.columns) == 1:
            continue  # the number of the row itself, which has no type of its own
        put(tmp_path, files)
        with closing(sqlite3.connect(tmp_path / "journal.db")) as sql, sql:
            # As a bit of the type does that stands before every value: the text's bytes stay as they are.
            other = "'text'" if column.type.python_type is bytes else f"CAST({column.name} AS BLOB)"
            changed = sql.execute(f"UPDATE {table.name} SET {column.name} = {other}").rowcount
        if not changed:
            continue
        with pytest.raises(DamagedJournal, match=rf"{table.name}\.{column.name} holds"):
            everything(Journal(tmp_path))


def _what_an_end_tells(job):
    """Where the record of a job and its start are damaged, its end still tells so much."""
    return job.number, job.user, job.request, job.phase, job.ended_ms, job.allocated_core_ms, job.charge_core_ms


def _check_rescue(folder, held):
    before = {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()}
    found = rescue(folder)
    assert {path.name: path.read_bytes() for path in folder.iterdir() if path.is_file()} == before
    new = Journal(folder / "rescued")
    kept = everything(new)
    # More are ends that only the records of jobs tell of, and one that brings the sums of an account forward.
    assert 0 <= new.number - (found.whole - len(found.unfit)) - len(found.held) <= len(kept[2]) + 1
    assert {event for event in kept[1] if event.kind not in ("ended", "held")} <= set(held[1])
    ends, known = ({_what_an_end_tells(job) for job in jobs} for jobs in (kept[2], held[2]))
    assert ends <= known and not {job.number for job in kept[2]} & set(new.load().jobs)
    lost = sum(last - first + 1 for first, last in found.missing)
    assert found.whole + lost <= held[0]
    if not (found.missing or found.unfit) and found.whole == held[0]:
        assert kept == held
    new.load()
    new.close()


def test_a_rescued_journal_takes_the_old_one_s_place_and_holds_what_may_have_run(tmp_path):
    site, files = lived_in(tmp_path)
    rows = list(site.journal.storage.events(0))
    identity = site.journal.identity
    site.journal.close()
    data = bytearray((tmp_path / "journal.db").read_bytes())
    at = data.index(rows[10].body.encode())
    data[at : at + 8] = b"\0" * 8
    put(tmp_path, {"journal.db": bytes(data), "journal.head": files["journal.head"]})
    with pytest.raises(DamagedJournal, match=r"event 11 is not as it was written.*events can still be read"):
        Journal(tmp_path)
    found = rescue(tmp_path)
    assert found.missing == ((11, 11),)
    old = use_rescued(tmp_path)
    assert (old / "journal.db").read_bytes() == bytes(data)
    again = Journal(tmp_path)
    state = again.load()
    assert (again.identity, again.adopted) == (identity, "")
    assert state.jobs[26].phase is Phase.RUNNING
    waits = {number for number, job in state.jobs.items() if job.phase in (Phase.WAITING, Phase.BLOCKED)}
    assert not waits and {label for label, by in found.held if BY_RESCUE in by} >= {
        str(number) for number, job in state.jobs.items() if job.reason.startswith(BY_RESCUE)
    }


def test_an_end_whose_event_is_gone_is_taken_from_the_record_of_the_job(tmp_path):
    site, files = lived_in(tmp_path)
    row = next(row for row in site.journal.storage.events(0) if row.kind == "ended" and row.job == 25)
    ended = site.journal.ended(EndedFilter())
    site.journal.close()
    data = bytearray((tmp_path / "journal.db").read_bytes())
    at = data.index(row.body.encode())
    data[at : at + 8] = b"\0" * 8
    put(tmp_path, {"journal.db": bytes(data), "journal.head": files["journal.head"]})
    assert rescue(tmp_path).missing == ((row.number, row.number),)
    new = Journal(tmp_path / "rescued")
    state = new.load()
    assert 25 not in state.jobs and new.ended(EndedFilter()) == ended
    assert state.tallies == site.engine.state.tallies


@pytest.mark.parametrize("how", ["removed", "replaced", "cut short"])
@pytest.mark.parametrize("name", ["journal.db", "journal.db-wal"])
def test_a_journal_that_goes_under_a_running_engine_takes_nothing_more_in(tmp_path, name, how):
    site = Site(tmp_path)
    site.run(1000)
    path, kept = tmp_path / name, tmp_path / "kept"
    os.link(path, kept)
    if how == "removed":
        path.unlink()
    elif how == "replaced":
        path.unlink()
        shutil.copy(kept, path)
    else:
        os.truncate(path, 0)
    number = site.journal.number
    with pytest.raises(StateFolderError, match=f"{name} was {how}"):
        site.run(9000)
    assert site.journal.number == number
    if how != "cut short":
        os.replace(kept, path)
        site.run(9000)
        assert site.journal.number > number


def test_a_journal_that_is_gone_or_put_back_is_noticed_at_the_next_start(tmp_path):
    site, _ = lived_in(tmp_path)
    number = site.journal.number
    site.journal.close()
    whole = (tmp_path / "journal.db").read_bytes()
    (tmp_path / "journal.db").unlink()
    with pytest.raises(StateFolderError, match=f"journal.db is gone from .* it had {number} events"):
        Journal(tmp_path)
    (tmp_path / "journal.db").write_bytes(whole)
    site = Site(tmp_path)
    site.run(200_000)
    site.journal.close()
    (tmp_path / "journal.db").write_bytes(whole)
    with pytest.raises(DamagedJournal, match="the 3 that were written after it are missing"):
        Journal(tmp_path)
    adopt(tmp_path)
    assert Journal(tmp_path).number == number


def test_written_files_can_be_read_by_their_owner_alone_also_in_an_existing_folder(tmp_path):
    folder = tmp_path / "state"
    folder.mkdir(mode=0o755)
    (folder / "journal.db").touch(0o644)
    Site(folder).run(1000)
    assert stat.S_IMODE(folder.stat().st_mode) == 0o700
    assert {stat.S_IMODE(path.stat().st_mode) for path in folder.iterdir()} == {0o600}


def test_a_folder_on_a_network_file_system_is_refused_with_the_reason(tmp_path, monkeypatch):
    table = tmp_path / "mountinfo"
    line = "36 35 98:0 / {} rw,noatime master:1 - {} server:/home rw\n"
    table.write_text(line.format("/", "ext4") + line.format(str(tmp_path).replace(" ", "\\040"), "nfs4"))
    assert file_system(tmp_path / "state", str(table)) == "nfs4"
    assert file_system(tmp_path.parent, str(table)) == "ext4"
    monkeypatch.setattr("lazy_quarry.store.folder.file_system", lambda _: "nfs4")
    with pytest.raises(StateFolderError, match=r"network file system .nfs4.*--state"):
        make_folder(tmp_path / "state")


def test_a_repeated_script_is_kept_once_and_a_job_takes_two_kilobytes(tmp_path, monkeypatch):
    monkeypatch.setattr(journal_module, "KEEP_EVERY", 50)
    site, script = Site(tmp_path), "#!/bin/sh\n" + "work\n" * 2000
    origin = Origin(script, "/home/ada/surge/run.sh", "/home/ada/surge", (("HOME", "/home/ada"), ("PATH", "/bin" * 20)))
    jobs = 400
    for number in range(jobs):
        site.do(Submit(number * 1000, By("ada"), request("surge"), origin))
        site.do(Schedule(number * 1000))
        site.finish(site.engine.state.next_number - 1, number * 1000 + 900)
    assert site.journal.ended_job(1).origin == origin
    assert [event.origin for event in site.journal.events_of(7) if event.kind == "submitted"] == [origin]
    site.journal.close()
    assert (tmp_path / "journal.db").stat().st_size < jobs * 2048
    assert next(one for one in sizes(tmp_path) if "scripts" in one.what).count == 2
    assert Journal(tmp_path).load() == site.engine.state


def test_old_events_are_thinned_by_the_site_s_rule_and_everything_else_stays(tmp_path, monkeypatch):
    monkeypatch.setattr(journal_module, "KEEP_EVERY", 20)
    site, _ = lived_in(tmp_path)
    ended, tallies = site.journal.ended(EndedFilter()), site.engine.state.tallies
    assert site.journal.thin(5000, most=10) == 10
    thinned = 10 + site.journal.thin(10_500)
    assert thinned == 3 * 10 and site.journal.thin(10_500) == 0
    assert site.journal.events_of(3) == [] and len(site.journal.events_of(20)) == 3
    assert list(site.journal.problems()) == []
    site.journal.close()
    again = Journal(tmp_path)
    assert again.load() == site.engine.state and again.ended(EndedFilter()) == ended
    again.close()
    rescue(tmp_path)
    new = Journal(tmp_path / "rescued")
    assert new.ended(EndedFilter()) == ended and new.load().tallies == tallies


def test_a_rescue_made_twice_keeps_every_hold_and_says_what_it_holds_and_why(tmp_path):
    site, files = lived_in(tmp_path)
    rows = list(site.journal.storage.events(0))
    site.journal.close()
    started = next(row for row in rows if row.kind == "started" and row.job == 26)
    data = bytearray((tmp_path / "journal.db").read_bytes())
    at = data.index(started.body.encode())
    data[at : at + 8] = b"\0" * 8
    put(tmp_path, {"journal.db": bytes(data), "journal.head": files["journal.head"]})
    first = rescue(tmp_path, {26: 1})
    use_rescued(tmp_path)
    assert ("26", f"{BY_RESCUE}: its attempt 1 was begun") in first.held and "held are job" in first.words
    held = {number for number, job in Journal(tmp_path).load().jobs.items() if job.phase is Phase.HELD}
    assert held >= {26}
    again = rescue(tmp_path)
    assert again.missing == again.unfit == () and again.held == ()
    use_rescued(tmp_path)
    state = Journal(tmp_path).load()
    assert {number for number, job in state.jobs.items() if job.phase is Phase.HELD} == held
    assert not [job for job in state.jobs.values() if job.phase in (Phase.WAITING, Phase.BLOCKED)]


def test_a_rescue_in_a_copied_folder_runs_nothing_that_the_original_runs(tmp_path):
    one, two = tmp_path / "one", tmp_path / "two"
    one.mkdir()
    site, _ = lived_in(one)
    site.journal.close()
    (one / "spool" / "26-1-ab").mkdir(parents=True)
    shutil.copytree(one, two)
    found = rescue(two)
    assert found.lost == ("26", "27", "28", "29") and "copy" in found.words
    use_rescued(two)
    state = Journal(two).load()  # it belongs here now
    assert {job.phase for job in state.jobs.values()} <= {Phase.HELD} and not (two / "spool").exists()
    assert Journal(one).load().jobs[26].phase is Phase.RUNNING and (one / "spool" / "26-1-ab").exists()


def test_a_journal_that_was_put_back_runs_nothing_again_by_itself(tmp_path):
    site, _ = lived_in(tmp_path)
    site.journal.close()
    backup = (tmp_path / "journal.db").read_bytes()
    site = Site(tmp_path)
    site.run(200_000)
    site.journal.close()
    (tmp_path / "journal.db").write_bytes(backup)
    with pytest.raises(DamagedJournal, match=r"on hold: lazy-quarry journal rescue --use"):
        Journal(tmp_path)
    found = rescue(tmp_path)
    use_rescued(tmp_path)
    state = Journal(tmp_path).load()
    assert found.missing and {job.phase for job in state.jobs.values()} <= {Phase.HELD, Phase.RUNNING}
