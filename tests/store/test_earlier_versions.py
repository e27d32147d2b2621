"""State folders that earlier versions made open, and go on."""

import shutil
from dataclasses import replace
from pathlib import Path

import pytest

from lazy_quarry.core.instants import parse_instant
from lazy_quarry.core.job.job import Phase, task_id
from lazy_quarry.core.site import Account, Node, Queue
from lazy_quarry.store.journal import EndedFilter, Journal
from tests.conftest import SiteUnderTest, small_site

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


def test_it_goes_on_and_opens_again(folder):
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
