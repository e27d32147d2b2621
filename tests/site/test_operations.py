"""A site in use between engine, journal and runner: clocks that jump, journals that fail."""

import pytest

from lazy_quarry.cli.output.job_text import show_lines
from lazy_quarry.core.engine.events import ClockHeld, Ended
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Phase, task_id
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused, StateFolderError
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.sqlite.tables import events as events_table
from lazy_quarry.wording.sentences import spans_words, state_words, verdict
from tests.conftest import SiteUnderTest, rows_of, script, small_site

HEADER = 'walltime = "10m"\nmemory = "64 MiB/core"\n\n[rehearsal]\nruntime = "1m"'


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


def test_a_failure_after_an_event_is_recorded_undoes_nothing_and_is_reported(site, capsys):
    def fails(number, happened, ended):
        raise ValueError("no more paper")

    site.session.heard.append(fails)
    receipt = site.submit(Submission(script(HEADER)))
    assert receipt.job and site.job(receipt.job).phase is Phase.RUNNING
    assert any("no more paper; the event itself is kept" in notice for notice in site.board().notices)
    assert "no more paper" in capsys.readouterr().err


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


def test_an_array_that_has_ended_tells_of_its_tasks_and_nothing_that_never_was(site, clock):
    header = HEADER.replace(
        "[rehearsal]", '[array.sweep]\nlevel = [1, 2, 3]\n\n[rehearsal]\nexit = 3\nmemory = "48 MiB"'
    )
    number = site.submit(Submission(script(header), directory="/work")).job
    for _ in range(20):
        clock.ms += 30_000
        site.step()
    detail = site.detail(number)
    view, told = detail.view, detail.told
    assert view.phase is Phase.FAILED and dict(view.counts) == {"failed": 3}
    assert told.ran == 3 and told.took_s == (60, 60, 60) and told.walltime_s == 600 and told.cores == 1
    assert told.memory_mib == (48, 48, 48) and told.asked_mib == 64
    assert told.failed[0] == f"{number}/1 (level=1): exit 3" and len(told.failed) == 3
    assert view.output.endswith(f"-{number}-{{task}}.out")
    lines = "\n".join(show_lines(detail))
    assert "3 of 3 tasks failed: 1, 2, 3" in lines and "waited 0s, ran" in lines and "in all" not in lines
    later = replace(view, submitted_ms=view.submitted_ms - 60_000, waited_before_ms=60_000)
    assert spans_words(later) == "waited 1m, ran 1m, 2m in all"
    assert "each task  of the 3 that ran" in lines and "walltime   1m; of 10m" in lines
    for untrue in ("did not start", "no node yet", "-.out", "1m of"):
        assert untrue not in lines
    assert f"lq output {number}/1" in site.output(number, "output").problem
    assert site.job(number).failed_tasks == (1, 2, 3)


@pytest.mark.parametrize(
    ("phase", "code", "reason", "told"),
    [
        (Phase.DONE, 0, "0.; 0.075", "Done in 1m, exit 0. 0.; 0.075."),
        (
            Phase.DONE,
            0,
            "2 of its processes were left behind and stopped",
            "2 of its processes were left behind and stopped.",
        ),
        (
            Phase.FAILED,
            0,
            "it promised a.nc, which is empty",
            "though it ended with exit 0: it promised a.nc, which is empty.",
        ),
        (Phase.FAILED, 2, "", "Failed after 1m with exit 2."),
    ],
)
def test_a_verdict_is_made_of_sentences(site, clock, phase, code, reason, told):
    number = site.submit(Submission(script(HEADER))).job
    clock.ms += 60_000
    site.step()
    view = replace(site.job(number), phase=phase, exit=code, reason=reason)
    assert told in verdict(view) and ".." not in verdict(view)
    if phase is Phase.FAILED and code == 0:
        assert state_words(view, clock.ms) == f"failed, {reason}" and "exit 0" not in state_words(view, clock.ms)


def test_tasks_that_have_not_started_can_be_named_and_numbers_of_ours_never_show(site, clock):
    header = HEADER.replace("[rehearsal]", '[array]\ntasks = "1..9"\nat-once = 2\n\n[rehearsal]')
    number = site.submit(Submission(script(header))).job
    started, unstarted, beyond = task_id(number, 0), task_id(number, 5), task_id(number, 50)
    view = site.job(unstarted)
    assert (view.label, view.phase) == (f"{number}/6", Phase.WAITING) and "start in turn" in view.why
    assert site.detail(unstarted).view == view and site.ladder(unstarted) == []
    assert site.hold([unstarted])[0].message == f"{number}/6 held" and not site.hold([unstarted])[0].done
    assert site.job(unstarted).phase is Phase.HELD and dict(site.job(number).counts)["held"] == 1
    assert site.release([unstarted])[0].done and not site.release([unstarted])[0].done
    told = [*site.hold([started]), *site.change([unstarted], ["walltime=5m"])]
    told += [*site.again([unstarted]), *site.hold([beyond, task_id(77, 5)]), site.order([unstarted])]
    for one in told:
        assert not one.done and "000" not in one.message
    assert told[1].message.startswith(f"{number}/6 has not started")
    for one, label in zip(told[3:5], (f"{number}, task 51", "77, task 6"), strict=True):
        assert one.message.startswith(f"there is no job {label}; lq jobs lists")
    for ask in (lambda: site.compare(unstarted, number), lambda: site.job(beyond)):
        with pytest.raises(Refused) as fault:
            ask()
        assert "000" not in str(fault.value)
    assert site.cancel([unstarted])[0].done
    assert site.job(unstarted).phase is Phase.CANCELLED


def test_tasks_are_held_and_cancelled_by_number_and_by_state(site, clock):
    header = HEADER.replace("[rehearsal]", '[array]\ntasks = "1..6"\nat-once = 2\n\n[rehearsal]')
    number = site.submit(Submission(script(header))).job
    site.hold([task_id(number, index) for index in range(2, 6)])
    assert dict(site.job(number).counts) == {"running": 2, "held": 4}
    assert site.cancel([number], "running")[0].message.endswith("is being stopped")
    until_counts(site, clock, number, {"cancelled": 2, "held": 4})
    stands = site.job(number)
    assert stands.phase is Phase.HELD and "all tasks that could start are held" in stands.why
    assert "no task" in site.cancel([number], "running")[0].message
    assert site.release([number])[0].done and dict(site.job(number).counts) == {
        "cancelled": 2,
        "running": 2,
        "waiting": 2,
    }
    assert site.cancel([number], "waiting")[0].done
    assert dict(site.job(number).counts) == {"cancelled": 4, "running": 2}
    single = site.submit(Submission(script(HEADER))).job
    assert "is running" in site.cancel([single], "waiting")[0].message


def until_counts(site, clock, number, counts):
    """Time goes on until the tasks of an array stand so."""
    for _ in range(200):
        if dict(site.job(number).counts) == counts:
            return
        clock.ms += 1000
        site.step()
    raise AssertionError(site.job(number).counts)
