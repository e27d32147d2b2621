from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import ChangeJob, Finish, HoldJob, LoseNode, OrderJobs, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.explain.comparison import compared
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.formats.calendar import read_calendar, write_calendar
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Job, Origin, Phase, task_id
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.ledger.recent_use import RecentUse, lightness
from lazy_quarry.core.plan.standing import standing_of
from lazy_quarry.core.site import Limits, Standing, Tier, Window
from lazy_quarry.core.units import HOUR_MS, parse_duration, parse_size
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from tests.conftest import small_site


def asked(ranks, walltime_s=3600, **more):
    return Request("j", "silt", ("all",), "steady", walltime_s, Memory(100), ranks=ranks, grace_s=0, **more)


def engine_with(*requests, site=None):
    engine = Engine(site or small_site((8, 8)))
    for request in requests:
        engine.apply(engine.decide(Submit(0, By("ada"), request, Origin(""))))
        engine.apply(engine.decide(Schedule(0)))
    return engine


def explain(engine, number):
    explainer = Explainer(engine, 0)
    job: Job = engine.state.jobs[number]
    return explainer.why(job, "ada").because, explainer.explained(job).instead


def test_a_job_waits_for_the_limit_of_the_one_before_it():
    because, _ = explain(engine_with(asked(16, nodes=2), asked(4)), 2)
    assert "waits for 1 node of all with 4 free cores and 400 MiB; none has that now" in because
    assert "comes free at 01:00 at the latest, when 1 reaches its limit" in because


def test_a_shorter_walltime_that_would_start_now_is_found_and_does():
    requests = (asked(8, 3600), asked(16, 3600, nodes=2), asked(8, 7200))
    because, instead = explain(engine_with(*requests), 3)
    assert "free now, but not for so long" in because
    assert instead == "It would start now if it asked for at most 1h."
    shorter = engine_with(*requests[:2], replace(requests[2], walltime_s=3600))
    assert 3 in [job.number for job in shorter.state.running()]


def test_fewer_nodes_that_would_start_now_are_found():
    _, instead = explain(engine_with(asked(8), asked(16, nodes=2)), 2)
    assert instead == "It would start now with 1 node and 8 cores."


def test_a_window_ahead_is_named():
    window = Window(("n1", "n2"), HOUR_MS // 2, HOUR_MS, "new pumps")
    because, instead = explain(engine_with(asked(1), site=small_site((8, 8), (window,))), 1)
    assert "new pumps lasts until 01:00" in because
    assert "30m" in instead


def test_held_and_not_before_are_said():
    engine = engine_with(asked(16, nodes=2), asked(1), asked(1, not_before_ms=9 * HOUR_MS))
    engine.apply(engine.decide(HoldJob(0, 2, By("ada"))))
    assert explain(engine, 2)[0].startswith("held by ada")
    assert explain(engine, 3)[0] == "asked not to start before 09:00"


def test_nothing_is_suggested_to_an_array_whose_tasks_are_held():
    engine = engine_with(asked(16, nodes=2), asked(8, array=Array(((1, 3, 1),))))
    for index in range(3):
        engine.apply(engine.decide(HoldJob(0, task_id(2, index), By("ada"))))
    because, instead = explain(engine, 2)
    assert "all tasks that could start are held" in because and not instead


USERS = ("ada", "bo", "cy")
sizes = st.tuples(
    st.integers(1, 2), st.sampled_from([1, 2, 4, 8]), st.sampled_from([900, 3600, 7200, 4 * 3600, 86_400])
)
waiting = st.lists(
    st.builds(
        lambda size, account, user, memory: (
            user,
            Request(
                "j",
                account,
                ("all",),
                "steady",
                size[2],
                Memory(memory),
                nodes=size[0],
                ranks=size[0] * size[1],
                grace_s=0,
            ),
        ),
        sizes,
        st.sampled_from(["silt", "eels"]),
        st.sampled_from(USERS),
        st.sampled_from([100, 1000, 2000]),
    ),
    min_size=4,
    max_size=14,
)


def changed_by(request, settings):
    """A request with header settings put in, as a person would set them."""
    told = dict(settings)
    if "memory" in told:
        size, per = told["memory"].split("/")
        told_memory = Memory(parse_size(size), per)
        request = replace(request, memory=told_memory)
    if "queue" in told:
        request = replace(request, queues=(told["queue"],))
    return replace(
        request,
        walltime_s=parse_duration(told["walltime"]) if "walltime" in told else request.walltime_s,
        nodes=int(told.get("nodes", request.nodes)),
        ranks=int(told.get("ranks", request.ranks)),
    )


@given(waiting, st.sampled_from(["planned", "planned", "easy", "first-come"]), st.none() | st.integers(1, 3))
def test_every_change_that_is_advised_does_what_it_says_when_it_is_made(many, policy, at_once):
    plain = small_site((8, 8, 16), budget=None)
    site = replace(plain, policy=policy, user_limits=(("", Limits(running_jobs=at_once)),))
    engine = Engine(site)
    for place, (user, request) in enumerate(many):
        engine.apply(engine.decide(Submit(place * 1000, By(user), request, Origin(""))))
    at = len(many) * 1000
    engine.apply(engine.decide(Schedule(at)))
    explainer = Explainer(engine, at)
    for job in list(engine.state.jobs.values()):
        if job.phase is not Phase.WAITING:
            continue
        told = explainer.explained(job)
        for change in told.changes:
            tried = Engine(site, engine.state.copy())
            wanted = changed_by(job.request, change.set)
            tried.apply(tried.decide(ChangeJob(at, job.number, By(job.user), wanted)))
            placed = tried.plans.plan(at).placements[job.number]
            assert placed.start_ms == change.start_ms and change.at_once == (change.start_ms <= at)
            tried.apply(tried.decide(Schedule(at)))
            assert (tried.state.jobs[job.number].phase is Phase.RUNNING) == (change.start_ms <= at)


@given(waiting)
def test_the_order_is_that_of_the_standings_and_each_comparison_says_so(many):
    engine = Engine(small_site(budget=None))
    for place, (user, request) in enumerate(many):
        engine.apply(engine.decide(Submit(place * 60_000, By(user), request, Origin(""))))
    at = len(many) * 60_000
    usage, order = engine.plans.recent_use(at), engine.plans.in_order(at)
    standings = [standing_of(usage, job, at).total for job in order]
    assert all(first >= second - 1e-9 for first, second in pairwise(standings))
    words = compared(order[0], standing_of(usage, order[0], at), order[-1], standing_of(usage, order[-1], at))
    assert words.startswith(f"{order[0].number} is ")


def test_lightness_is_whole_without_use_half_on_target_and_falls_without_end():
    assert lightness(0.3, 0.0) == 1.0
    assert lightness(0.3, 0.3) == 0.5
    assert lightness(0.3, 0.6) > lightness(0.3, 0.9) > 0


def test_use_counts_half_after_each_half_life():
    site = replace(small_site(), standing=Standing(half_life_h=24))
    day = 86_400_000
    recent = {"silt": {"ada": {0: 1000, day: 1000}}}
    now = RecentUse(site, recent, (), day + day // 2).by_account["silt"]
    later = RecentUse(site, recent, (), 2 * day + day // 2).by_account["silt"]
    assert later == pytest.approx(now / 2)


def test_ones_own_order_moves_nobody_elses_turn():
    engine = engine_with(asked(16, nodes=2), asked(1), asked(2), asked(3))
    engine.apply(engine.decide(Submit(0, By("bo"), asked(4), Origin(""))))
    before = [job.number for job in engine.plans.in_order(0)]
    engine.apply(engine.decide(OrderJobs(0, By("ada"), tuple(reversed([n for n in before if n != 5])))))
    after = [job.number for job in engine.plans.in_order(0)]
    assert after.index(5) == before.index(5)
    assert [n for n in after if n != 5] == [n for n in before if n != 5][::-1]


def test_a_limit_in_the_way_is_named_with_its_numbers():
    site = replace(small_site((8, 8)), user_limits=(("ada", Limits(running_jobs=1)),))
    because, _ = explain(engine_with(asked(2), asked(2), site=site), 2)
    assert "the limit of user ada: 1 running jobs, of which 1 are in use" in because
    assert "Expected to start at 01:00, when 1 reaches its limit." in because


def test_a_budget_that_runs_out_is_named_and_the_job_starts_when_enough_comes_back():
    site = small_site((8, 8), budget=10)
    engine = engine_with(asked(8, 3600), asked(4, 3600), site=site)
    because, _ = explain(engine, 2)
    assert "waits for the budget of silt: it could be charged 4.00, and 2.00 core-hours are left" in because
    engine.apply(engine.decide(Finish(60_000, 1, 1, 0)))
    engine.apply(engine.decide(Schedule(60_000)))
    assert engine.state.jobs[2].phase is Phase.RUNNING


def test_a_tier_that_gives_way_is_stopped_for_others_and_waits_to_run_again():
    tiers = (Tier("steady"), Tier("spare", gives_way=True))
    site = replace(small_site((8,)), tiers=tiers)
    spare = replace(asked(8, 7200), tier="spare", grace_s=30)
    engine = engine_with(spare, asked(4), site=site)
    job = engine.state.jobs[1]
    assert job.stopping == "gave-way"
    assert engine.plans.plan(0).placements[2].start_ms == 30_000
    engine.apply(engine.decide(Finish(20_000, 1, 1, None, "SIGTERM", "gave-way")))
    engine.apply(engine.decide(Schedule(20_000)))
    assert engine.state.jobs[2].phase is Phase.RUNNING
    again = engine.state.jobs[1]
    assert (again.phase, again.attempt, again.retried) == (Phase.WAITING, 1, 0)
    assert again.allocated_core_ms == 8 * 20_000


def test_who_may_use_a_reservation_runs_in_it_and_others_do_not():
    window = Window(("n1", "n2"), 0, HOUR_MS, "a course", ("bo",))
    engine = engine_with(asked(1, 1800), site=small_site((8, 8), (window,)))
    assert engine.plans.plan(0).placements[1].start_ms == HOUR_MS
    engine.apply(engine.decide(Submit(0, By("bo"), asked(1, 1800), Origin(""))))
    engine.apply(engine.decide(Schedule(0)))
    assert engine.state.jobs[2].phase is Phase.RUNNING


def test_jobs_of_a_lost_node_run_again_as_their_header_says():
    engine = engine_with(asked(8, nodes=1), asked(8, nodes=1, retries=Retries(0)))
    node = {job.number: job.allocations[0].node for job in engine.state.running()}
    for place, number in enumerate((1, 2)):
        engine.apply(engine.decide(LoseNode(1000 + place, node[number], By(why="its power went"))))
        assert engine.state.jobs[number].stopping == "lost"
        engine.apply(engine.decide(Finish(2000 + place, number, 1, None, None, "lost")))
    assert engine.state.jobs[1].phase is Phase.WAITING
    assert 2 not in engine.state.jobs


def test_a_calendar_gives_back_what_was_written():
    windows = [
        Window(("c01", "c02", "m1"), 1_700_000_000_000, 1_700_003_600_000, "new pumps", name="pumps"),
        Window(("c01",), 1_700_000_000_000, 1_700_000_060_000, "a course", ("ada", "bo"), ("silt",), "course"),
    ]
    text = write_calendar(windows, 0)
    assert text.startswith("BEGIN:VCALENDAR\r\n")
    assert read_calendar(text, ("c01",)) == windows
    with pytest.raises(BadValue, match="not an iCalendar"):
        read_calendar("half of a fi", ())
    with pytest.raises(BadValue, match="recurs"):
        read_calendar(text.replace("SUMMARY:new pumps", "SUMMARY:new pumps\r\nRRULE:FREQ=DAILY"), ())
