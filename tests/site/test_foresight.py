"""Forecast ranges of a site in use: published beside the plan, checked by what happens, kept in their file."""

import json
import re
import threading

import pytest

from lazy_quarry.cli.output.job_text import why_lines
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import clock_time
from lazy_quarry.site.foresight import FILE, MOST_SHARE, Foresight
from lazy_quarry.site.work_share import HURRIES_S, MOST_OWED_S, PIECE_S, WorkShare
from lazy_quarry.store.journal import Journal
from lazy_quarry.views.chain_views import ChainSource
from lazy_quarry.wording.json_form import job_json, report_json, why_json
from lazy_quarry.wording.sentences import all_done_words, range_words, state_words
from tests.conftest import SiteUnderTest, script, small_site, until

MINUTE = 60_000


def request(minutes, ranks=24, runtime="10m", name="grid", more=""):
    return Submission(
        script(
            f'name = "{name}"\nwalltime = "{minutes}m"\nmemory = "64 MiB/core"\nranks = {ranks}\nnodes = 3\n{more}\n'
            f'[rehearsal]\nruntime = "{runtime}"'
        )
    )


def on(site, clock, ms):
    """Let time pass, with all that happens meanwhile."""
    end = clock.ms + ms
    while clock.ms < end:
        clock.ms = min(end, site.session.runner.next_report_ms() or end)
        site.step()


@pytest.fixture
def site(clock):
    """A site on which eight whole-cluster jobs took ten minutes each of the two hours that they asked for."""
    site = SiteUnderTest(small_site(budget=None), clock)
    for _ in range(8):
        site.submit(request(120))
    on(site, clock, 90 * MINUTE)
    assert len(site.jobs(ended=True)) == 8
    return site


def test_a_range_is_far_before_the_plan_where_jobs_take_less_than_they_ask_for(site, clock):
    running, first, second = (site.submit(request(120)).job for _ in range(3))
    site.step()
    foresight = site.site.foresight
    assert foresight.step() and not foresight.step()  # nothing has changed since
    view = site.job(first)
    assert site.job(running).phase is Phase.RUNNING and site.job(running).range is None
    assert view.range.early_ms <= view.range.likely_ms <= view.range.late_ms < view.forecast_ms
    assert abs(view.range.likely_ms - clock.ms - 10 * MINUTE) < 2 * MINUTE
    assert abs(site.job(second).range.likely_ms - clock.ms - 20 * MINUTE) < 4 * MINUTE
    words = range_words(view.range, view.forecast_ms, clock.ms)
    assert words.startswith("about ") and "by the plan" in words  # with a range, where its ends differ by a minute
    assert f"it starts {words.partition(';')[0]}" in list(why_lines(site.detail(first), now_ms=clock.ms))[1]
    told = job_json(view)
    assert told["forecast_early"] <= told["forecast_likely"] <= told["forecast_late"] < told["forecast"]
    assert why_json(site.detail(first))["forecast_late"] == told["forecast_late"]
    board = site.board()
    assert next(one for one in board.jobs if one.job == first).range == view.range
    early, late = (clock_time(at, clock.ms) for at in (view.range.early_ms, view.range.late_ms))
    assert state_words(view, clock.ms) == f"starts {early} to {late}"  # it is wide, as nothing was seen of earlier ones


def test_a_draft_has_a_range_too_and_blocked_jobs_behind_those_they_wait_for(site, clock):
    jobs = [site.submit(request(120)).job for _ in range(2)]
    after = site.submit(request(60, more=f'after = {{ {jobs[1]} = "succeeds" }}')).job
    array = site.submit(request(60, more='\n[array]\ntasks = "1..3"\n')).job
    site.step()
    site.site.foresight.step()
    report = site.check(request(30))
    assert report.range is not None and clock.ms < report.range.likely_ms < report.place.start_ms
    assert report_json("x", report)["forecast_likely"] is not None
    assert site.job(after).range.likely_ms >= site.job(jobs[1]).range.likely_ms + 5 * MINUTE
    assert site.job(array).range is not None
    assert site.check(request(30, ranks=999)).range is None


def test_a_chain_that_nobody_has_submitted_has_ranges_and_a_likely_end(site, clock):
    for _ in range(2):
        site.submit(request(120))
    site.step()
    site.site.foresight.step()
    chain = '[jobs.a]\nscript = "a.sh"\n[jobs.b]\nscript = "a.sh"\nafter = { a = "succeeds" }\n[jobs.c]\nscript = "a.sh"\nafter = { a = "fails" }\n'
    source = ChainSource(text=chain, scripts={"a.sh": request(60).script}, folder="/tmp", name="test")
    view = site.report_chain(source, [], {}).chain
    parts = {one.name: one for one in view.parts}
    first, then = parts["a"].range, parts["b"].range
    assert clock.ms < first.likely_ms < parts["a"].starts_ms and parts["c"].range is None
    assert first.likely_ms + 5 * MINUTE < then.likely_ms < view.likely_end_ms < view.ends_ms
    assert re.fullmatch(r"all done about \S+, at the latest \S+", all_done_words(view))
    assert site.report_chain(source, ["a"], {}).chain.likely_end_ms is None  # a supposition is the plan's


def test_no_range_contradicts_what_is_certain(clock):
    """Runs that took ten minutes leave no doubt that a walltime of two hours doesn't fit before a window."""
    begins, ends = clock.ms + 150 * MINUTE, clock.ms + 600 * MINUTE
    windows = (Window(("n1", "n2", "n3"), begins, ends, "pumps"),)
    site = SiteUnderTest(small_site(budget=1000, windows=windows), clock)
    for _ in range(8):
        site.submit(request(20))
    on(site, clock, 85 * MINUTE)
    assert len(site.jobs(ended=True)) == 8
    running, short, long = (site.submit(request(minutes)).job for minutes in (20, 20, 120))
    dear = site.submit(request(1440)).job  # 24 cores for a day: what is left will not cover it
    late = site.submit(request(20, more='not-before = "1971-01-02"')).job
    after = site.submit(request(20, more=f'after = {{ {long} = "succeeds" }}')).job
    site.grant("silt", -400 * 60 * MINUTE, "spent elsewhere")
    site.step()
    site.site.foresight.step()
    ranges = {job: site.job(job).range for job in (short, long, dear, late, after)}
    assert site.job(running).phase is Phase.RUNNING and ranges[short].late_ms < begins
    assert ranges[long].early_ms >= ends <= ranges[after].early_ms
    assert ranges[late].early_ms >= 366 * 86_400_000
    assert site.job(dear).forecast_ms is None and ranges[dear] is None
    assert site.check(request(120)).range.early_ms >= ends


def test_outcomes_of_forecasts_are_kept_and_an_unreadable_file_is_begun_anew(tmp_path, clock):
    journal = Journal(tmp_path)
    site = SiteUnderTest(small_site(budget=None), clock, journal)
    foresight = site.site.foresight
    for _ in range(4):
        jobs = [site.submit(request(120)).job for _ in range(12)]
        site.step()
        foresight.step()
        on(site, clock, 150 * MINUTE)
        foresight.step()
        assert all(site.job(number).phase.final for number in jobs)
    seen = foresight.calibration.seen(("new", "steady"))
    assert seen >= 30
    foresight.close()
    again = Foresight(site.session)
    assert again.calibration.seen(("new", "steady")) == seen
    assert json.loads((tmp_path / FILE).read_text())["journal"] == journal.identity
    for damage in (b"{", b"\xff\x00", b'{"journal": "another", "groups": []}'):
        (tmp_path / FILE).write_bytes(damage)
        assert Foresight(site.session).calibration.seen(("new", "steady")) == 0
    site.submit(request(120))
    site.submit(request(120))
    site.step()
    again.learn_past()
    again.step()
    assert all(one.checked == seen for one in site.session.ranges.values() if one.checked)


def test_held_changed_and_cancelled_jobs_are_no_misses(site, clock):
    jobs = [site.submit(request(120)).job for _ in range(5)]
    site.step()
    foresight = site.site.foresight
    foresight.step()
    seen = foresight.calibration.seen(("new", ""))
    site.hold([jobs[2]])
    site.cancel([jobs[3]])
    site.change([jobs[4]], ["walltime=30m"])
    foresight.step()
    assert foresight.calibration.seen(("new", "")) == seen - 3 + 1  # the changed one is new
    assert jobs[2] not in site.session.ranges and jobs[3] not in site.session.ranges


def test_a_round_is_given_up_when_none_of_its_jobs_waits_any_more(site, clock):
    jobs = [site.submit(request(120)).job for _ in range(2)]
    site.step()
    foresight, paused = site.site.foresight, []

    def pause():
        if len(paused) == 1:
            site.cancel(jobs)
        paused.append(foresight.work.hurry)

    assert foresight.step(pause) and len(paused) < 6 and not site.session.ranges
    assert foresight.step() and not site.session.ranges


def test_its_thread_publishes_by_itself_answers_for_drafts_and_leaves_when_told(site, clock):
    jobs = [site.submit(request(120)).job for _ in range(3)]
    site.step()
    before, foresight = set(threading.enumerate()), site.site.foresight
    assert site.check(request(30)).range is None  # nothing is known yet
    foresight.start()
    until(lambda: jobs[2] in site.session.ranges and foresight.supposed.present, "ranges")
    drafts = [request(30), request(45)]
    for _ in range(2):  # a person may have two before them: no answer takes the other's place
        for one in drafts:
            seen = site.session.version
            if site.check(one).range is None:
                until(lambda seen=seen: site.session.version > seen, "an answer")
    ranges = [site.check(one).range for one in drafts]
    assert all(one.likely_ms > clock.ms for one in ranges)
    newcomer = site.submit(request(120)).job  # it doesn't wait until the rest for all that is over
    until(lambda: newcomer in site.session.ranges, "a range of the new one")
    foresight.close()
    assert not set(threading.enumerate()) - before


def test_new_jobs_are_told_of_after_a_few_draws_and_work_done_in_a_hurry_is_rested_for(site, monkeypatch):
    for _ in range(3):
        site.submit(request(120))
    site.step()
    foresight, told = site.site.foresight, []
    monkeypatch.setattr(
        site.session, "say_foreseen", lambda ranges, anew=False: told.append((ranges, foresight.work.hurry))
    )
    foresight.step()
    (first, hurried), (whole, _) = told
    assert hurried and first.keys() == whole.keys() and len(whole) == 2
    waited = []
    work = WorkShare(foresight.share, lambda seconds: waited.append(seconds) or min(seconds, 20.0))
    work.hurry = True
    work.rest(0.5)
    work.hurry = False
    work.rest(0.1)
    work.rest(0.3)
    owed = 0.5 * 9 - 0.5
    left = max(0.0, owed + 9.9 - 20)
    assert waited == pytest.approx([0.5, owed + 9.9, left + 29.7])
    work.hurry = True
    for _ in range(100):
        work.rest(9.0)
    assert HURRIES_S < work.owed_s <= MOST_OWED_S
    work.pause()
    assert waited[-1] > PIECE_S  # all the work of this thread until now
    foresight.pace = lambda: 60.0
    assert work.share() == MOST_SHARE
    # While jobs come and start one after another it stands back, in a hurry too.
    busy, waited = [True], []
    work = WorkShare(lambda: 0.01, lambda seconds: waited.append(seconds) or seconds, lambda: busy[0])
    work.hurry = True
    work.rest(0.02)
    busy[0] = False
    work.rest(0.02)
    assert waited == pytest.approx([0.02 * 9, 0.02])
