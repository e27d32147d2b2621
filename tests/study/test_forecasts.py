"""Forecasts tried on a past: what is said at a submission rests on what had ended before, and is held against what came."""

import pytest

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Account, Node, Queue, Tier, Window
from lazy_quarry.core.values import replace
from lazy_quarry.site.fast_search import loaded
from lazy_quarry.study.forecast_groups import COLUMNS, by_group, csv_rows
from lazy_quarry.study.forecasting import trace_forecasts
from lazy_quarry.study.own_forecasts import forecasts_of
from lazy_quarry.study.own_past import study
from lazy_quarry.study.past import Past, PastJob, PastRun
from lazy_quarry.study.studied import ForecastMade
from lazy_quarry.study.swf import Trace
from lazy_quarry.study.workload import make_trace
from lazy_quarry.wording.forecast_words import forecast_lines
from tests.conftest import small_site

CORES = 64
TRACE = make_trace(900, CORES, 0.9, 5)
SITE = replace(
    small_site(),
    nodes=tuple(Node(f"n{number}", 16, 64_000) for number in range(4)),
    queues=(Queue("all", tuple(f"n{number}" for number in range(4)), None, memory_default_mib=1),),
    accounts=(Account("silt"),),
    tiers=(Tier("steady"),),
    default_queue="all",
)


def made(jobs, sample=0):
    return trace_forecasts(Trace(tuple(jobs)), CORES, lambda started: None, sample)


def past_of_trace(jobs):
    """The same jobs on nodes, none wider than one of them."""
    found = []
    for job in jobs:
        walltime = max(1, int(job.walltime_s))
        request = Request(
            "j", "silt", ("all",), "steady", walltime, Memory(1), ranks=min(16, job.cores), nodes=1, grace_s=0
        )
        at, ran = int(job.submit_s * 1000), max(1, int(min(job.run_s, walltime) * 1000))
        found.append(PastJob(job.number, "ada", request, at, {job.number: PastRun(at, ran)}))
    return Past(-1, tuple(found), runs={number: run for one in found for number, run in one.runs.items()})


def site_forecasts(jobs, sample=10_000, site=SITE):
    return forecasts_of(site, past_of_trace(jobs), sample, lambda done, count: True, loaded())


@pytest.mark.parametrize("forecasts", [made, site_forecasts])
def test_a_forecast_knows_only_what_had_happened_before(forecasts):
    """A trace that is cut short has the same forecasts, though later jobs may have changed when its own started."""
    jobs = TRACE[:100]
    known = {one.job: one for one in forecasts(jobs)}
    for one in forecasts(jobs[:75]):
        whole = known[one.job]
        assert (one.early_s, one.middle_s, one.late_s, one.plan_s) == (
            whole.early_s,
            whole.middle_s,
            whole.late_s,
            whole.plan_s,
        )


@pytest.mark.parametrize(("forecasts", "jobs", "most"), [(made, 400, 0), (site_forecasts, 200, 60)])
def test_ranges_are_in_order_and_of_a_sample_only_so_many_are_made(forecasts, jobs, most):
    said = [one for one in forecasts(TRACE[:jobs], most) if one.counts]
    assert len(said) > (10 if most else 30)
    for one in said:
        assert one.submit_s - 1 <= one.early_s <= one.middle_s <= one.late_s
        assert one.start_s >= one.submit_s <= one.plan_s
    fewer = [one for one in forecasts(TRACE[:200], 10) if one.counts]
    assert 0 < len(fewer) <= 10


def test_the_starts_are_those_of_a_study_under_the_same_policy_and_windows_bound_ranges():
    ends = 40 * 3_600_000
    site = replace(SITE, windows=(Window(tuple(node.name for node in SITE.nodes), ends // 2, ends, "pumps"),))
    jobs = TRACE[:200]
    said = site_forecasts(jobs, 25, site)
    again = study(site, past_of_trace(jobs), "planned", lambda done, count: True)
    waits = [one.start_s - one.submit_s for one in said if one.start_s is not None]
    assert again.jobs == 200 and max(waits) > again.wait_mean_s > 0
    over = [one for one in said if one.counts and ends / 2000 - one.walltime_s < one.submit_s < ends / 1000]
    assert over and all(one.early_s >= ends / 1000 for one in over)  # it would not end before the window


def test_groups_say_what_the_rows_say_and_a_group_of_few_is_left_out():
    rows = [
        ForecastMade(
            job=place,
            submit_s=0.0,
            early_s=100.0,
            middle_s=200.0,
            late_s=300.0,
            plan_s=1000.0 * place,
            start_s=250.0 if place % 5 else 400.0,
            cores=64 if place < 3 else 1,
            tier="spare" if place < 10 else "steady",
        )
        for place in range(1, 41)
    ]
    groups = {group.name: group for group in by_group([*rows, ForecastMade(job=99, submit_s=5.0, start_s=5.0)])}
    whole = groups["all"]
    assert (whole.forecasts, whole.held, whole.width_s, whole.off_s) == (40, 0.8, 200.0, 50.0)
    assert whole.score_s == pytest.approx(200 + 10 * 100 / 5) and whole.plan_off_s > 10_000
    assert groups["1 core"].forecasts == 38 and "more cores" not in groups and groups["tier spare"].forecasts == 9
    assert sum(group.forecasts for name, group in groups.items() if name.startswith("plan's wait")) == 40
    table = list(csv_rows([*rows[:1], ForecastMade(job=99, submit_s=5.0, start_s=5.0)]))
    assert table[0] == list(COLUMNS) and table[2] == [99, 5.0, "", "", "", "", 5.0]
    assert "80 %" in "\n".join(forecast_lines(rows)) and "no range" in next(forecast_lines([]))
