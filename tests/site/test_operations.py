"""A site in use between engine, journal and runner: clocks that jump, journals that fail."""

import pytest

from lazy_quarry.core.engine.events import ClockHeld, Ended
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.tables import events as events_table
from tests.conftest import SiteUnderTest, rows_of, script, small_site

HEADER = 'walltime = "10m"\nmemory = "64 MiB/core"\n\n[rehearsal]\nruntime = "1m"'


class Clock:
    def __init__(self):
        self.ms = 1_000_000

    def __call__(self):
        return self.ms


@pytest.fixture
def clock():
    return Clock()


@pytest.fixture
def site(clock):
    return SiteUnderTest(small_site(), clock)


def events(site, kind):
    return [row.body for row in rows_of(site.journal, events_table) if row.kind == kind.kind]


def test_a_clock_set_back_is_held_told_once_and_loses_nothing(site, clock):
    number = site.submit(Submission(script(HEADER))).job
    clock.ms += 10_000
    site.hold([site.submit(Submission(script(HEADER, "true"), overrides=("ranks=25",))).job])
    clock.ms -= 8_000_000
    for _ in range(3):
        site.step()
    assert len(events(site, ClockHeld)) == 1
    assert site.now() == 1_010_000
    assert site.job(number).phase is Phase.RUNNING
    clock.ms += 9_000_000
    site.step()
    assert site.job(number).phase is Phase.DONE


def test_a_clock_set_far_forward_ends_what_is_over_and_no_more(site, clock):
    number = site.submit(Submission(script(HEADER))).job
    clock.ms += 400 * 86_400_000
    site.step()
    assert site.job(number).phase is Phase.DONE
    assert site.submit(Submission(script(HEADER))).forecast_ms == clock.ms


def test_an_end_that_could_not_be_written_is_written_later(site, clock, monkeypatch):
    number = site.submit(Submission(script(HEADER))).job
    clock.ms += 61_000

    def full(happened, state):
        raise StateFolderError("the disk is full")

    with monkeypatch.context() as patch:
        patch.setattr(site.journal, "append", full)
        site.step()
        assert site.engine.state.jobs[number].phase is Phase.RUNNING
        assert site.board().notices == ("the disk is full",)
        with pytest.raises(StateFolderError):
            site.submit(Submission(script(HEADER)))
    site.step()
    assert site.job(number).phase is Phase.DONE
    assert len(events(site, Ended)) == 1
    assert site.board().notices == ()


def test_a_draft_and_a_submission_are_told_the_same(site):
    wrong = Submission(script('walltime = "9d"\nranks = 99'))
    assert site.check(wrong).diagnostics == site.submit(wrong).diagnostics
    assert site.submit(wrong).job is None
    right = Submission(script(HEADER))
    assert site.check(right).starts.ladder[0].start_ms == site.submit(right).forecast_ms


def test_who_holds_a_job_is_still_known_after_opening_again(tmp_path, clock):
    first = SiteUnderTest(small_site(), clock, Journal(tmp_path))
    site_full = first.submit(Submission(script(HEADER), overrides=("ranks=25",))).job
    number = first.submit(Submission(script(HEADER), overrides=("ranks=25",))).job
    first.hold([number])
    again = SiteUnderTest(small_site(), clock, Journal(tmp_path))
    assert again.job(number).why.startswith("held by ada")
    assert again.job(site_full).phase is Phase.RUNNING
