"""A site's own past under other policies: the same engine, the same jobs; and what might have been otherwise."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.cli.study import study_json
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.site import Account, Limits, Node, Queue, Tier
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.of_study import study_figure
from lazy_quarry.errors import BadValue, QuarryError, Refused
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.site.study_view import StudyView
from lazy_quarry.site.study_words import study_lines
from lazy_quarry.study.own_past import PastJob, as_it_was, past_jobs, study
from lazy_quarry.study.replay import replay
from lazy_quarry.study.swf import Trace, TraceJob
from lazy_quarry.study.what_if import what_if
from tests.conftest import small_site, until

ON = lambda done, count: True  # noqa: E731
ONE = replace(
    small_site(),
    nodes=(Node("n1", 8, 8000),),
    queues=(Queue("all", ("n1",), None, memory_default_mib=1),),
    accounts=(Account("silt"),),
    tiers=(Tier("steady"),),
    default_queue="all",
)


def past(number, at_s, ran_s, cores, walltime_s=None, after=(), account="silt"):
    request = Request("j", account, ("all",), "steady", walltime_s or ran_s, Memory(1), ranks=cores, nodes=1, grace_s=0)
    return PastJob(number, "ada", request, at_s * 1000, at_s * 1000, ran_s * 1000, after)


@given(st.data(), st.sampled_from(["planned", "easy", "first-come"]))
@settings(max_examples=40)
def test_on_one_node_it_is_the_replay_of_a_trace(data, policy):
    """Two programs, one answer: the engine with all it knows, and the quick replay of a pool of cores."""
    jobs, at = [], 0
    for number in range(1, data.draw(st.integers(1, 25)) + 1):
        at += data.draw(st.integers(1, 90))
        walltime = data.draw(st.integers(60, 600))
        jobs.append(past(number, at, data.draw(st.integers(1, walltime)), data.draw(st.integers(1, 8)), walltime))
    # Recent use and size move standings here, which a trace knows nothing of.
    site = replace(ONE, standing=replace(ONE.standing, account_h=0.0, user_h=0.0, size_h=0.0))
    found = study(site, jobs, policy, ON)
    trace = Trace(
        tuple(
            TraceJob(one.number, one.submitted_ms / 1000, one.ran_ms / 1000, one.request.walltime_s, one.request.ranks)
            for one in jobs
        )
    )
    told = replay(trace, 8, policy)
    assert found.jobs == len(jobs) and found.wait_mean_s == pytest.approx(told.wait_mean_s, abs=0.01)
    assert found.wait_p95_s == pytest.approx(told.wait_p95_s, abs=0.01)
    assert found.slowdown_mean == pytest.approx(told.slowdown_mean, rel=1e-3)


def test_what_waits_for_others_comes_when_they_have_ended_and_what_could_never_run_is_told():
    jobs = [past(1, 0, 100, 8), past(2, 5, 50, 1, after=(1,)), past(3, 6, 10, 4, after=(77,)), past(4, 7, 9, 99)]
    found = study(ONE, jobs, "planned", ON)
    assert (found.jobs, found.refused) == (3, 1)
    waits = dict(found.accounts)["silt"]
    assert waits == pytest.approx((0 + 95 + 94) / 3)
    assert study(ONE, jobs, "planned", lambda done, count: False) is None
    assert study(ONE, [], "planned", ON).jobs == 0 and as_it_was([], 8).jobs == 0
    real = as_it_was(jobs, 8)
    assert real.wait_mean_s == 0 and found.apart_median_s > 0


@pytest.mark.parametrize(
    ("setting", "read"),
    [
        ("account.silt.cores=64", lambda site: site.account["silt"].limits.cores == 64),
        ("account.silt.cores=+64", lambda site: site.account["silt"].limits.cores == 74),
        ("account.silt.cores=none", lambda site: site.account["silt"].limits.cores is None),
        ("user.everyone.running-jobs=3", lambda site: site.limits_of("ada").running_jobs == 3),
        ("user.ada.gpus=1", lambda site: site.limits_of("ada").gpus == 1 and site.limits_of("bo").gpus is None),
        ("queue.all.walltime=12h", lambda site: site.queue["all"].walltime_limit_s == 43_200),
        ("queue.all.walltime=none", lambda site: site.queue["all"].walltime_limit_s is None),
        ("tier.double.cores=8", lambda site: site.tier["double"].limits.cores == 8),
        ("nodes.n1=+2", lambda site: site.cores == 48 and len(site.queue["all"].nodes) == 5),
        ("plan-depth=1", lambda site: site.plan_depth == 1),
    ],
)
def test_what_may_be_otherwise(setting, read):
    site = small_site()
    silt = replace(site.account["silt"], limits=Limits(cores=10))
    assert read(what_if(replace(site, accounts=(silt, site.account["eels"])), [setting]).site)


@pytest.mark.parametrize(
    ("setting", "told"),
    [
        ("x", "KEY=VALUE"),
        ("walltime=2", "such as 2x"),
        ("walltime=0.5x", "such as 2x"),
        ("account.sea.cores=1", 'no account "sea"; there are silt, eels'),
        ("account.silt.memory=1", "there are cores, gpus, running-jobs"),
        ("queue.all.walltime=soon", "soon"),
        ("queue.sea.cores=1", "no queue"),
        ("tier.double.cores=many", "write a number"),
        ("nodes.c99=+1", "no node"),
        ("moon=full", "means nothing here"),
    ],
)
def test_what_means_nothing_is_told(setting, told):
    with pytest.raises(BadValue, match=told):
        what_if(small_site(), [setting])


def test_nobody_asks_for_more_than_so_many_times_what_they_use():
    found = what_if(ONE, ["walltime=2x"]).jobs(
        [past(1, 0, 100, 1, 3600), past(2, 0, 10, 1, 3600), past(3, 0, 100, 1, 150)]
    )
    assert [one.request.walltime_s for one in found] == [200, 60, 150]


def test_the_demo_s_past_under_three_policies_with_progress_and_a_way_to_stop():
    rehearsed = Rehearsed(5)
    rehearsed.add_past(20)
    client = InProcessClient(rehearsed.site)
    with pytest.raises(Refused, match="nothing was studied"):
        client.studied()
    for policies, words in ((["quick"], 'no policy "quick"'), ([], "name policies")):
        with pytest.raises(BadValue, match=words):
            client.begin_study(policies)
    client.begin_study(["planned", "first-come"], "3d ago")
    with pytest.raises(Refused, match="another study"):
        client.begin_study(["planned"])
    view = until(lambda: (found := client.studied()).over and found)
    assert not view.problem and [row.policy for row in view.rows] == ["as it was", "planned", "first-come"]
    was, planned, first_come = view.rows
    assert was.jobs == view.jobs > 100 and planned.jobs + planned.refused == view.jobs
    assert first_come.wait_mean_s >= planned.wait_mean_s and 0 < planned.use < 1
    lines = "\n".join(study_lines(view))
    assert "as it was" in lines and "mean wait by account" in lines and "from when they did" in lines
    assert study_json(view)["rows"][1]["policy"] == "planned"
    figure = study_figure(view, "oxbow", 0)
    assert "jobs since" in figure.note and len(figure.panel.plots) == 2
    with pytest.raises(QuarryError, match="nothing to draw"):
        study_figure(StudyView(1, ("planned",), 0, (), 0), "oxbow", 0)
    client.begin_study(["planned", "easy", "first-come"], "18d ago", ["walltime=2x"])
    client.stop_study()
    view = until(lambda: (found := client.studied()).over and found)
    assert len(view.rows) < 4
    ended = rehearsed.present.journal.ended_after(-1, 0, 5000)
    assert {one.number for one in past_jobs(ended, 0)} <= {job.number for job in ended}
