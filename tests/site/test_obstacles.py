"""A start that cannot be is never promised: whoever tells of it says the same thing that is in the way."""

import json

import pytest

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import HOUR_MS, core_hours_apart
from lazy_quarry.wording.book_words import cost_words
from lazy_quarry.wording.sentences import state_words
from tests.conftest import SiteUnderTest, script, small_site, until

NOW = 1_800_000_000_000


def draft(header):
    return Submission(script(f'account = "silt"\nmemory = "100 MiB/core"\n{header}'), directory="/tmp")


@pytest.fixture
def poor():
    return SiteUnderTest(small_site(budget=0.3), lambda: NOW)


@pytest.mark.parametrize(
    ("header", "starts"),
    [
        ('walltime = "30m"\nthreads = 2', False),
        ('walltime = "9m"\nthreads = 2', False),  # its grace is charged too
        ('walltime = "8m"\nthreads = 2', True),
        ('walltime = "10m"\n[array]\ntasks = "1..3"', True),  # one by one
        ('walltime = "30m"\n[array]\ntasks = "1..3"', False),
    ],
)
def test_forecast_check_submission_and_list_agree_on_whether_a_budget_lets_it_start(poor, header, starts):
    report = poor.check(draft(header))
    told = [one.message for one in report.diagnostics if one.code == "budget"]
    assert (report.place.start_ms is not None) is starts and bool(report.place.obstacle) is not starts
    assert [rung.start_ms is not None for rung in report.starts.ladder if rung.asked] == [starts]
    if not starts:
        assert "the budget of silt does not cover it" in report.place.obstacle and told
        assert all(rung.start_ms is None for rung in report.starts.ladder if rung.walltime_s > 1800)
        assert any(rung.last_ms is None for rung in report.starts.finish) or not report.starts.finish
    receipt = poor.submit(draft(header))
    assert (receipt.forecast_ms is not None) is starts
    view = next(view for view in poor.jobs() if view.job == receipt.job)
    assert (view.phase is not Phase.WAITING) is starts
    if not starts:
        assert state_words(view, NOW) == "waiting, beyond its budget"
        assert poor.detail(receipt.job).view.why == report.place.obstacle


def test_room_offers_only_what_the_budget_covers(poor):
    rooms = [one for one in poor.room("all") if one.cores]
    assert rooms
    for room in rooms:
        lines = [f"{key} = {json.dumps(value)}" for key, value in room.header if key not in ("account", "memory")]
        report = poor.check(
            Submission(script('account = "silt"\nmemory = "512 MiB/core"\n' + "\n".join(lines)), directory="/tmp")
        )
        assert report.place.start_ms is not None, (room, report.place.obstacle)


def test_amounts_that_differ_are_told_apart():
    assert core_hours_apart(3_600_000, 1_080_000) == ("1.00", "0.30")
    assert core_hours_apart(0, 0) == ("0", "0")
    for amounts in (
        (1500 * HOUR_MS, 1500 * HOUR_MS + 1),
        (360_000, 361_000),
        (1, 0),
        (10 * HOUR_MS, 10 * HOUR_MS + 40_000),
    ):
        assert len(set(core_hours_apart(*amounts))) == 2


def test_the_cost_names_the_grace(poor):
    assert "(30m + 30s grace) = at most 0.51" in cost_words(poor.check(draft('walltime = "30m"')))


def test_cores_that_another_folder_has_are_told_by_check_forecast_and_survey(machine, tmp_path):
    machine.submit("sleep 600")
    other = {"LQ_STATE": str(tmp_path / "state")}
    machine.environment |= other
    (machine.work / "b.sh").write_text(script('walltime = "1m"\nmemory = "10 MiB/core"'))
    said = f"in use by the jobs of {machine.state}"
    assert said in machine.lq("check", "b.sh").stderr
    forecast = machine.lq("forecast", "b.sh").stdout
    assert said in forecast and " now" not in forecast and "cores in use elsewhere" in forecast
    assert said in machine.lq("submit", "b.sh").stderr and said in machine.lq("jobs").stderr
    assert until(lambda: "no jobs" in machine.lq("jobs").stdout)
