"""A site's own past under other policies: the same engine, the same jobs; and what might have been otherwise."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.cli.commands.study import study_json
from lazy_quarry.core.engine.events import Held, NodeClosed, NodeOpened, Ordered, Released, Reserved, Unreserved
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Job, Origin, Phase, task_id
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.site import Account, Limits, Node, Queue, Tier, Window
from lazy_quarry.core.values import replace
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.figures.study_figures import study_figure
from lazy_quarry.errors import BadValue, QuarryError, Refused
from lazy_quarry.study.difference import difference
from lazy_quarry.study.own_past import PastAgain, as_it_was, free_of, study
from lazy_quarry.study.past import Past, PastJob, PastRun, past_of
from lazy_quarry.study.replay import replay
from lazy_quarry.study.swf import Trace, TraceJob
from lazy_quarry.study.what_if import what_if
from lazy_quarry.views.study_view import StudyView
from lazy_quarry.wording.study_words import study_lines
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


def past(number, at_s, ran_s, cores, walltime_s=None, **more):
    request = Request(
        "j", "silt", ("all",), "steady", walltime_s or ran_s, Memory(1), ranks=cores, nodes=1, grace_s=0, **more
    )
    return PastJob(number, "ada", request, at_s * 1000, {number: PastRun(at_s * 1000, ran_s * 1000)})


def of(jobs, *bounds, **more):
    runs = {number: run for one in (*jobs, *more.get("before", ())) for number, run in one.runs.items()}
    return Past(0, tuple(jobs), bounds=bounds, runs=runs, **more)


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
    found = study(site, of(jobs), policy, ON)
    trace = Trace(
        tuple(
            TraceJob(
                one.number,
                one.submitted_ms / 1000,
                one.runs[one.number].ran_ms / 1000,
                one.request.walltime_s,
                one.request.ranks,
            )
            for one in jobs
        )
    )
    told = replay(trace, 8, policy)
    assert found.jobs == len(jobs) and found.wait_mean_s == pytest.approx(told.wait_mean_s, abs=0.01)
    assert found.wait_p95_s == pytest.approx(told.wait_p95_s, abs=0.01)
    assert found.slowdown_mean == pytest.approx(told.slowdown_mean, rel=1e-3)


def starts(jobs, *bounds, **more):
    """When each starts, in seconds."""
    again = PastAgain(free_of(ONE, "planned", 10**9), of(jobs, *bounds, **more))
    assert again.whole(ON)
    return {number: at // 1000 for number, at in again.starts.items()}


def test_jobs_that_wait_for_others_come_when_these_have_ended_and_impossible_ones_are_told():
    jobs = [
        past(1, 0, 100, 8),
        past(2, 5, 50, 1, after=(("1", "fails"),)),  # it ran, so that is what 1 did
        past(3, 6, 10, 4, after=(("77", "succeeds"),)),
        past(4, 7, 9, 99),
        past(5, 8, 20, 1, after=(("2", "begins"),)),
        past(6, 9, 20, 1, not_before_ms=300_000),
    ]
    assert starts(jobs) == {1: 0, 2: 100, 3: 100, 5: 100, 6: 300}
    found = study(ONE, of(jobs), "planned", ON)
    assert (found.jobs, found.refused) == (5, 1)
    assert dict(found.accounts)["silt"] == pytest.approx((0 + 95 + 94 + 92 + 291) / 5)
    assert study(ONE, of(jobs), "planned", lambda done, count: False) is None
    assert study(ONE, of([]), "planned", ON).jobs == 0 and as_it_was(of([]), 8).jobs == 0
    real = as_it_was(of(jobs), 8)
    assert real.wait_mean_s == 0 and found.apart_median_s > 0


def test_an_array_keeps_to_what_it_runs_at_once_and_only_the_tasks_that_ran_are_there():
    request = Request("a", "silt", ("all",), "steady", 100, Memory(1), grace_s=0, array=Array(((1, 4, 1),), 2))
    runs = {task_id(1, index): PastRun(0, (index + 1) * 10_000) for index in (0, 1, 3)}
    jobs = [PastJob(1, "ada", request, 0, runs), past(2, 1, 5, 1, after=(("1", "finishes"),))]
    assert starts(jobs) == {task_id(1, 0): 0, task_id(1, 1): 0, task_id(1, 3): 10, 2: 50}


@pytest.mark.parametrize(
    ("bounds", "begins"),
    [
        ([], 50),
        ([NodeClosed(1, "n1", By(why="sick")), NodeClosed(2, "gone", By(why="sold")), NodeOpened(80_000, "n1")], 80),
        ([Reserved(1, Window(("n1", "gone"), 55_000, 90_000, "service", name="r"), By("op"))], 90),
        ([Reserved(1, Window(("gone",), 55_000, 90_000, "service", name="r"), By("op"))], 50),
        ([Reserved(1, Window(("n1",), 55_000, 90_000, "", name="r"), By("op")), Unreserved(60_000, "r", By("op"))], 60),
        ([Held(11_000, 2, By("ada")), Released(70_000, 2, By("ada"))], 70),
        ([Held(1, 2, By("ada")), Released(70_000, 2, By("ada")), Ordered(71_000, By("ada"), (2, 1))], 70),
    ],
)
def test_nodes_are_closed_and_reserved_and_jobs_held_when_they_were(bounds, begins):
    assert starts([past(1, 0, 50, 8), past(2, 10, 20, 8)], *bounds)[2] == begins


def test_jobs_that_ran_when_the_time_began_take_room_are_waited_for_and_not_counted():
    request = past(1, 0, 60, 8, after=()).request
    first = Job(1, "ada", request, Origin(""), 0, Phase.DONE, 1, started_ms=0, ended_ms=50_000)
    then = replace(first, number=2, request=replace(request, ranks=1, after=(("1", "finishes"),)), submitted_ms=10_000)
    whole = past_of([first, replace(then, started_ms=50_000, ended_ms=70_000)], 20_000)
    assert [one.runs for one in whole.before] == [{3: PastRun(20_000, 30_000)}]
    assert whole.jobs[0].request.after == (("3", "finishes"),)
    found = study(ONE, whole, "planned", ON)
    assert (found.jobs, found.wait_mean_s, found.apart_mean_s) == (1, 40.0, 0.0)
    view = StudyView(1, ("planned",), 0, (), 1, (as_it_was(whole, 8), found), own="planned")
    assert list(study_lines(view))[-1].endswith("all jobs start when they did, to the second.")
    found = study(ONE, of([past(2, 10, 20, 8)], before=(past(9, 0, 50, 8),)), "planned", ON)
    assert (found.jobs, found.wait_mean_s) == (1, 40.0)


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
def test_every_setting_of_a_study_changes_what_it_names(setting, read):
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
def test_a_setting_that_means_nothing_is_reported(setting, told):
    with pytest.raises(BadValue, match=told):
        what_if(small_site(), [setting])


def test_nobody_asks_for_more_than_so_many_times_what_they_use():
    jobs = [past(1, 0, 100, 1, 3600), past(2, 0, 10, 1, 3600), past(3, 0, 100, 1, 150)]
    found = what_if(ONE, ["walltime=2x"]).past(of(jobs))
    assert [one.request.walltime_s for one in found.jobs] == [200, 60, 150]


def test_the_demo_s_past_under_three_policies_with_progress_and_a_way_to_stop():
    rehearsed = Rehearsed(5)
    rehearsed.add_past(20)
    client = rehearsed.client()
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
    assert "as it was" in lines and "by account: wait, share" in lines and "So far off may" in lines
    assert study_json(view)["rows"][1]["policy"] == "planned"
    figure = study_figure(view, "oxbow", 0)
    assert "jobs since" in figure.note and len(figure.panel.plots) == 2
    with pytest.raises(QuarryError, match="nothing to draw"):
        study_figure(StudyView(1, ("planned",), 0, (), 0), "oxbow", 0)
    with pytest.raises(BadValue, match="1 to 10,000"):
        client.begin_study([], "3d ago", None, -1)
    client.begin_study([], "3d ago", None, 150)
    view = until(lambda: (found := client.studied()).over and found)
    assert not view.problem and [row.policy for row in view.rows] == ["as it was"] and len(view.forecasts) <= 150
    assert view.jobs > 100 and all(one.start_s is not None for one in view.forecasts)
    assert study_json(view)["forecasts"] == [] or study_json(view)["forecasts"][0]["name"] == "all"
    client.begin_study(["planned", "easy", "first-come"], "18d ago", ["walltime=2x"])
    client.stop_study()
    view = until(lambda: (found := client.studied()).over and found)
    assert len(view.rows) < 4
    ended = rehearsed.session.journal.ended_after(-1, 0, 5000)
    with_them = [event for _, event in rehearsed.session.journal.events_after(0) if event.kind in ("held", "task-made")]
    assert rehearsed.session.journal.events_of_kinds(["task-made", "held"]) == with_them != []
    assert set(past_of(ended, 0).runs) <= {job.number for job in ended}


def waited(policy, *by_day):
    """A row whose jobs, ten a day, wait so many seconds each day."""
    mean = sum(by_day) / len(by_day)
    days = tuple((day, 10.0 * each, 10) for day, each in enumerate(by_day))
    return replace(as_it_was(of([]), 8), policy=policy, jobs=10 * len(by_day), wait_mean_s=mean, days=days)


@given(st.lists(st.integers(0, 7200), min_size=1, max_size=60), st.integers(-7200, 7200))
def test_a_difference_of_policies_is_clear_where_days_agree_and_not_where_chance_makes_it(days, more):
    usual = waited("planned", *days)
    told = difference(waited("easy", *(day + more for day in days)), usual)
    assert told.mean_s == pytest.approx(more) and told.other == "planned"
    if len(days) < 5:
        assert told.low_s is None and not told.clear
        return
    assert told.low_s == pytest.approx(more, abs=0.01) == told.high_s and told.clear == (round(more) != 0)
    swings = difference(waited("easy", *(day + (-1) ** at * 3600 for at, day in enumerate(days))), usual)
    assert swings.low_s <= swings.mean_s <= swings.high_s


def test_differences_are_told_with_what_chance_makes_of_them():
    days = [3600 * (day % 5) for day in range(30)]
    rows = (
        waited("as it was", *days), waited("planned", *days), waited("easy", *(day + 600 for day in days)),
        waited("first-come", *(day + (4000 if at % 7 == 3 else -600) for at, day in enumerate(days))),
    )  # fmt: skip
    text = "\n".join(study_lines(StudyView(1, ("planned",), 0, (), 300, rows, own="planned")))
    assert "mean wait against planned" in text and "easy: +10m, between +10m and +10m\n" in text
    assert "no clear difference" in text.partition("first-come: ")[2].splitlines()[0]
    told = study_json(StudyView(1, ("planned",), 0, (), 300, rows, own="planned"))["rows"]
    assert [row["against"] and row["against"]["clear"] for row in told] == [False, None, True, False]
    few = (waited("planned", 1, 2), waited("easy", 601, 602))
    assert "nothing is known of chance" in "\n".join(study_lines(StudyView(1, (), 0, (), 4, few, own="x")))


def test_what_was_cancelled_while_it_waited_stands_in_the_way_until_then():
    ran, wide = past(1, 0, 100, 5), past(2, 5, 60, 8, 60)
    gone = replace(wide, runs={}, withdrawn_ms=50_000)
    narrow = past(3, 10, 80, 3, 200)
    assert starts([ran, narrow]) == {1: 0, 3: 10}
    assert starts([ran, gone, narrow]) == {1: 0, 3: 50}  # it would have delayed the wide one
    assert starts([replace(gone, submitted_ms=0), past(3, 10, 20, 1, 200)]) == {
        3: 50
    }  # it starts here, and runs until then
