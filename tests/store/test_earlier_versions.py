"""State folders that earlier versions made open, and go on."""

import shutil
from pathlib import Path

import pytest

from lazy_quarry.core.instants import parse_instant
from lazy_quarry.core.job.by import NOBODY, By
from lazy_quarry.core.job.job import Phase, task_id
from lazy_quarry.core.site import Account, Node, Queue
from lazy_quarry.core.values import replace
from lazy_quarry.store.journal import EndedFilter, Journal
from lazy_quarry.store.proof import prove
from lazy_quarry.store.sqlite.tables import VERSION, sums
from tests.conftest import SiteUnderTest, rows_of, small_site

CORPUS = Path(__file__).parents[1] / "corpus" / "journals"
VERSIONS = sorted(folder.name for folder in CORPUS.iterdir() if folder.is_dir())
NOW = parse_instant("2026-11-26T12:00:00")
EARLIER_SITE = replace(
    small_site(),
    nodes=(Node("vm", 2, 8192),),
    queues=(Queue("here", ("vm",), 30 * 86_400),),
    accounts=(Account("root"),),
    default_queue="here",
)


@pytest.fixture(params=VERSIONS)
def folder(request, tmp_path):
    shutil.copytree(CORPUS / request.param, tmp_path / "state")
    return tmp_path / "state"


def opened(folder, now=NOW):
    return SiteUnderTest(EARLIER_SITE, lambda: now, Journal(folder), "root")


def test_all_that_an_earlier_version_kept_is_there(folder):
    site = opened(folder)
    live = {view.job: (view.name, view.phase) for view in site.jobs()}
    assert live == {
        4: ("later", Phase.WAITING),
        5: ("second", Phase.HELD),
        6: ("many", Phase.WAITING),
        7: ("clean-up", Phase.BLOCKED),
        8: ("ends-unseen", Phase.RUNNING),
    }
    assert {view.job: view.phase for view in site.jobs(ended=True)} == {
        1: Phase.DONE,
        2: Phase.FAILED,
        3: Phase.FAILED,
    }
    assert dict(site.job(3).counts) == {"done": 3, "failed": 3}
    assert dict(site.job(6).counts) == {"cancelled": 1, "waiting": 49}
    assert site.job(8).cores_by_node == {"vm": (0,)}
    assert site.job(4).walltime_s == 300
    assert [window.name for window in site.board().site.windows] == ["course", "upkeep"]
    assert "held by root" in [record.what for record in site.detail(5).record]
    assert len(site.journal.ended(EndedFilter(array=3))) == 6


def test_a_journal_of_an_earlier_version_goes_on_and_opens_again(folder):
    site = opened(folder)
    site.release([5])
    site.cancel([4, task_id(6, 8)])
    site.step()
    assert site.job(7).phase is Phase.SKIPPED
    later = opened(folder, parse_instant("2036-01-01T00:00:00"))
    later.step()
    assert (later.job(5).phase, dict(later.job(6).counts)["running"]) == (Phase.WAITING, 2)  # put before it by its user
    again = Journal(folder)
    assert again.load() == later.engine.state


def test_the_journal_as_it_was_is_kept_beside_the_upgraded_one(folder):
    before = (folder / "journal.db").read_bytes()
    Journal(folder).close()
    [copy] = folder.glob("journal-version-*.db")
    assert len(copy.read_bytes()) == len(before)
    (folder / "journal.db").write_bytes(copy.read_bytes())
    (folder / "journal.head").unlink(missing_ok=True)
    again = Journal(folder)
    assert again.load().jobs and list(again.problems()) == []


def test_books_of_version_5_agree_afterwards_and_planned_skips_are_no_failures_any_more(tmp_path):
    """Made by version 5: a job of three attempts, an array, chains of jobs that were skipped, as planned and not."""
    folder = tmp_path / "state"
    shutil.copytree(CORPUS.parent / "books" / "version-5", folder)
    journal = Journal(folder)
    state = journal.load()
    proof = prove(journal, state.jobs.values())
    assert not proof.wrong and not proof.unknown and list(journal.problems()) == []
    jobs = {job.number: job for job in journal.ended(EndedFilter())}
    assert {number for number, job in jobs.items() if job.planned} == {5, 6}  # 8 waited for a success, and 7 failed
    failed = sum(row.failed for row in rows_of(journal, sums))
    assert (failed, state.tallies["root"].failed) == (3, 3)
    assert jobs[1].attempt == 3 and jobs[1].times.held_ms == jobs[1].allocated_core_ms > 3000
    assert 1000 <= jobs[1].attempt_ms(0) < 1500 and jobs[1].waited_ms(0) < 500
    assert jobs[3].task_cores == 2 and jobs[3].elapsed_ms(0) == jobs[3].ended_ms - jobs[3].started_ms
    assert jobs[3].waited_ms(0) == jobs[3].started_ms - jobs[3].submitted_ms > 400  # behind job 1
    waiting = state.jobs[9]
    assert waiting.times.waiting_since_ms == waiting.request.not_before_ms and waiting.waited_ms(NOW) == 0


def test_a_journal_of_version_6_is_taken_as_it_is(tmp_path):
    """Later versions only know more events."""
    shutil.copytree(CORPUS.parent / "books" / "version-5", tmp_path / "state")
    folder = tmp_path / "state"
    journal = Journal(folder)
    state, number = journal.load(), journal.number
    journal.storage.set_meta({"version": "6"})
    journal.close()
    again = Journal(folder)
    assert (again.load(), again.number) == (state, number) and again.storage.meta()["version"] == str(VERSION)
    assert not list(again.problems()) and (folder / "journal-version-6.db").exists()


def test_who_caused_an_event_of_version_7_is_told_by_that_of_today(tmp_path):
    """Made by version 7, in which it was one word: a person's, a job's, a node's or the site's own."""
    folder = tmp_path / "state"
    shutil.copytree(CORPUS.parent / "books" / "version-7", folder)
    journal = Journal(folder)
    before = list(journal.storage.events(0))
    state, happened = journal.load(), [event for _, event in journal.events_after(0)]
    assert list(journal.problems()) == [] and list(journal.storage.events(0)) == before  # nothing is written anew
    found = {(event.kind, getattr(event, "cause", "")): event for event in happened}
    root = By("root")
    for kind in ("submitted", "held", "released", "ordered", "changed", "reserved", "unreserved", "chained"):
        told = {event.by for event in happened if event.kind == kind}
        assert root in told or (kind == "submitted" and By("ada") in told), kind
    stuck = By(why="this site, for 3 attempts in a row got no further")
    assert found["held", ""].by == stuck and state.jobs[found["held", ""].job].reason == stuck.why
    assert found["granted", ""].by == By("root", why="more for the winter")
    assert found["node-closed", ""].by == By(why="closed by hand") and found["node-opened", ""].by == NOBODY
    assert (found["stopping", "lost"].due_to, found["stopping", "lost"].by) == ("vm2", NOBODY)
    assert (found["stopping", "gave-way"].due_to, found["stopping", "cancelled"].by) == ("4", root)
    assert {one.kind for one in happened} >= {"members-changed", "chain-changed", "chain-linked", "node-opened"}
    assert state.closures == {"vm2": "closed by hand"} and state.grants["root"][0].why == "more for the winter"
