"""The desk between engine, journal and runner: clocks that jump, journals that fail."""

import pytest

from lazy_quarry.core.engine.events import ClockHeld, Ended
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import StateFolderError
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.views import Submission
from lazy_quarry.store.journal import Journal
from tests.conftest import script, small_site

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
def desk(clock):
    return Operations(small_site(), Journal(None), RehearsalRunner(1), "ada", clock)


def events(desk, kind):
    return [body for _, name, body in desk.journal.all_events() if name == kind.kind]


def test_a_clock_set_back_is_held_told_once_and_loses_nothing(desk, clock):
    number = desk.submit(Submission(script(HEADER))).job
    clock.ms += 10_000
    desk.hold([desk.submit(Submission(script(HEADER, "true"), overrides=("ranks=25",))).job])
    clock.ms -= 8_000_000
    for _ in range(3):
        desk.step()
    assert len(events(desk, ClockHeld)) == 1
    assert desk.now() == 1_010_000
    assert desk.job(number).phase is Phase.RUNNING
    clock.ms += 9_000_000
    desk.step()
    assert desk.job(number).phase is Phase.DONE


def test_a_clock_set_far_forward_ends_what_is_over_and_no_more(desk, clock):
    number = desk.submit(Submission(script(HEADER))).job
    clock.ms += 400 * 86_400_000
    desk.step()
    assert desk.job(number).phase is Phase.DONE
    assert desk.submit(Submission(script(HEADER))).forecast_ms == clock.ms


def test_an_end_that_could_not_be_written_is_written_later(desk, clock, monkeypatch):
    number = desk.submit(Submission(script(HEADER))).job
    clock.ms += 61_000

    def full(happened, state):
        raise StateFolderError("the disk is full")

    with monkeypatch.context() as patch:
        patch.setattr(desk.journal, "append", full)
        desk.step()
        assert desk.engine.state.jobs[number].phase is Phase.RUNNING
        assert desk.board().notices == ("the disk is full",)
        with pytest.raises(StateFolderError):
            desk.submit(Submission(script(HEADER)))
    desk.step()
    assert desk.job(number).phase is Phase.DONE
    assert len(events(desk, Ended)) == 1
    assert desk.board().notices == ()


def test_a_draft_and_a_submission_are_told_the_same(desk):
    wrong = Submission(script('walltime = "9d"\nranks = 99'))
    assert desk.check(wrong).diagnostics == desk.submit(wrong).diagnostics
    assert desk.submit(wrong).job is None
    right = Submission(script(HEADER))
    assert desk.check(right).ladder[0].start_ms == desk.submit(right).forecast_ms


def test_who_holds_a_job_is_still_known_after_opening_again(tmp_path, clock):
    first = Operations(small_site(), Journal(tmp_path), RehearsalRunner(1), "ada", clock)
    desk_full = first.submit(Submission(script(HEADER), overrides=("ranks=25",))).job
    number = first.submit(Submission(script(HEADER), overrides=("ranks=25",))).job
    first.hold([number])
    again = Operations(small_site(), Journal(tmp_path), RehearsalRunner(1), "ada", clock)
    assert again.job(number).why.startswith("held by ada")
    assert again.job(desk_full).phase is Phase.RUNNING
