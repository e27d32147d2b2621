import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import (
    CancelJob,
    CancelTask,
    ChangeJob,
    CloseNode,
    Finish,
    GrantHours,
    HoldJob,
    OpenNode,
    ReleaseJob,
    Reserve,
    Schedule,
    Submit,
)
from lazy_quarry.core.engine.engine import Engine, State
from lazy_quarry.core.engine.events import ClockHeld, Ended, Started, Stopping, Submitted
from lazy_quarry.core.engine.meters import lines_of
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import EACH, Origin, Phase, Use, task_id
from lazy_quarry.core.job.phase import SIGNS
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.core.site import Account, Limits, Queue, Window
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.store.codec import decode, encode
from tests.conftest import small_site


def request(ranks=1, walltime_s=600, tier="steady", **more):
    return Request("j", "silt", ("all",), tier, walltime_s, Memory(100), ranks=ranks, grace_s=0, **more)


def do(engine, command):
    events = engine.decide(command)
    engine.apply(events)
    return events


def running(engine, at=1000, **more):
    do(engine, Submit(at, By("ada"), request(**more), Origin("#!/bin/sh\n")))
    do(engine, Schedule(at))
    return engine.state.next_number - 1


def test_a_job_goes_from_waiting_to_running_to_done():
    engine = Engine(small_site())
    number = running(engine, ranks=4)
    job = engine.state.jobs[number]
    assert (job.phase, job.attempt, job.cores_allocated) == (Phase.RUNNING, 1, 4)
    ended = do(engine, Finish(61_000, number, 1, exit=0, use=Use(5)))[0]
    assert (ended.phase, ended.allocated_core_ms) == (Phase.DONE, 4 * 60_000)
    assert number not in engine.state.jobs


def test_a_job_starts_when_a_window_ends_though_nothing_runs_and_nobody_looked():
    engine = Engine(small_site())
    nodes = tuple(node.name for node in engine.site.nodes)
    do(engine, Reserve(0, Window(nodes, 0, HOUR_MS, "pumps", (), (), "pumps"), By("ada")))
    first = running(engine)
    do(engine, Submit(2000, By("ada"), request(), Origin("#!/bin/sh\n")))  # behind all others: the plan is kept
    assert not [one for one in do(engine, Schedule(HOUR_MS - 1)) if isinstance(one, Started)]
    assert first in [one.job for one in do(engine, Schedule(HOUR_MS)) if isinstance(one, Started)]


@pytest.mark.parametrize(
    ("report", "phase"),
    [
        ({"exit": 2}, Phase.FAILED),
        ({"signal": "SIGSEGV"}, Phase.FAILED),
        ({"exit": 0, "cause": "overtime"}, Phase.OVERTIME),
        ({"signal": "SIGKILL", "cause": "overmemory"}, Phase.OVERMEMORY),
        ({"signal": "SIGTERM", "cause": "cancelled"}, Phase.CANCELLED),
        ({"exit": 0, "cause": "failed"}, Phase.FAILED),
    ],
)
def test_the_first_cause_decides_the_state(report, phase):
    engine = Engine(small_site())
    number = running(engine)
    assert do(engine, Finish(2000, number, 1, **report))[0].phase is phase


def test_a_lost_attempt_runs_once_more_and_then_is_lost():
    engine = Engine(small_site())
    number = running(engine)
    assert do(engine, Finish(2000, number, 1, cause="lost"))[0].again
    assert engine.state.jobs[number].phase is Phase.WAITING
    do(engine, Schedule(2000))
    assert engine.state.jobs[number].attempt == 2
    assert do(engine, Finish(3000, number, 2, cause="lost"))[0] == Ended(
        3000, number, 2, Phase.LOST, allocated_core_ms=1000, held_ms=1000
    )


def test_failures_run_again_as_often_as_asked():
    engine = Engine(small_site())
    number = running(engine, retries=Retries(2, ("failed", "lost")))
    for attempt, again in ((1, True), (2, True), (3, False)):
        assert do(engine, Finish(1000 + attempt, number, attempt, exit=1))[0].again is again
        do(engine, Schedule(1000 + attempt))


def test_a_cancelled_job_is_never_run_again():
    engine = Engine(small_site())
    number = running(engine)
    do(engine, CancelJob(1500, number, By("ada")))
    ended = do(engine, Finish(2000, number, 1, cause="lost"))[0]
    assert (ended.phase, ended.again) == (Phase.CANCELLED, False)


def test_an_end_that_is_reported_twice_counts_once():
    engine = Engine(small_site())
    number = running(engine)
    report = Finish(2000, number, 1, exit=0)
    assert len(do(engine, report)) == 1
    assert do(engine, report) == []
    assert do(engine, Finish(2000, 77, 1, exit=0)) == []


def test_hold_release_and_cancel_say_why_they_are_refused():
    engine = Engine(small_site((1,)))
    first, second = running(engine), running(engine)
    do(engine, HoldJob(2000, second, By("ada")))
    for command, words in (
        (HoldJob(2000, second, By("ada")), "held already"),
        (HoldJob(2000, first, By("ada")), "only a waiting job"),
        (ReleaseJob(2000, first, By("ada")), "not held"),
        (CancelJob(2000, first, By("bo")), "belongs to ada"),
    ):
        with pytest.raises(Refused, match=words):
            engine.decide(command)
    with pytest.raises(NoSuchJob):
        engine.decide(CancelJob(2000, 99, By("ada")))
    do(engine, CancelJob(2000, second, By("ada")))
    with pytest.raises(Refused, match="ended already"):
        engine.decide(CancelJob(2000, second, By("ada")))


def test_a_held_job_does_not_start_until_it_is_released():
    engine = Engine(small_site())
    do(engine, Submit(0, By("ada"), request(), Origin("")))
    do(engine, HoldJob(0, 1, By("ada")))
    assert engine.decide(Schedule(5)) == []
    do(engine, ReleaseJob(6, 1, By("ada")))
    assert isinstance(engine.decide(Schedule(6))[0], Started)


def test_closed_nodes_take_no_jobs():
    engine = Engine(small_site((4,)))
    do(engine, CloseNode(0, "n1", By(why="dust")))
    do(engine, Submit(0, By("ada"), request(), Origin("")))
    assert engine.decide(Schedule(0)) == []
    do(engine, OpenNode(1, "n1"))
    assert len(engine.decide(Schedule(1))) == 1
    with pytest.raises(Refused):
        engine.decide(OpenNode(1, "n1"))
    with pytest.raises(Refused):
        engine.decide(CloseNode(1, "n9", By(why="")))


def test_at_once_of_an_array_whose_tasks_run_can_be_changed_and_takes_effect_at_once():
    engine = Engine(small_site((4,)))
    asked = request(array=Array(((1, 6, 1),), 1))
    do(engine, Submit(0, By("ada"), asked, Origin("")))
    do(engine, Schedule(0))
    assert engine.decide(Schedule(1)) == []
    do(engine, ChangeJob(2, 1, By("ada"), replace(asked, array=Array(((1, 6, 1),), 3)), ("array.at-once=3",)))
    assert len([event for event in do(engine, Schedule(2)) if isinstance(event, Started)]) == 2
    with pytest.raises(Refused, match="at-once alone can be changed"):
        engine.decide(ChangeJob(3, 1, By("ada"), replace(asked, walltime_s=60)))
    with pytest.raises(Refused, match="at-once alone can be changed"):
        engine.decide(ChangeJob(3, 1, By("ada"), replace(asked, array=None)))


def test_a_grant_adds_to_a_budget_moves_and_is_taken_back():
    site = small_site(budget=1)
    site = replace(site, accounts=(*site.accounts, Account("reeds", 2)))
    engine = Engine(site)
    hour = 3_600_000
    do(engine, Submit(0, By("ada"), request(walltime_s=2 * 3600), Origin("")))
    assert engine.decide(Schedule(0)) == []
    do(engine, GrantHours(1, "silt", hour * 2, By("bo", why="a late cruise"), "reeds"))
    assert [type(event) for event in do(engine, Schedule(1))] == [Started]
    assert {line.account: line.budget_core_ms for line in lines_of(site, engine.state, 1)} == {
        "silt": 3 * hour,
        "reeds": 0,
        "eels": None,
    }
    with pytest.raises(Refused, match=r"silt has 1\.00 core-hours left, all that runs"):
        engine.decide(GrantHours(2, "silt", -2 * hour, By("bo", why="not needed")))
    do(engine, GrantHours(2, "silt", -hour, By("bo", why="not needed")))
    lines = lines_of(site, engine.state, 2)
    assert [grant.why for grant in lines[0].grants] == ["a late cruise", "not needed"]
    assert lines[0].budget_core_ms == 2 * hour
    for command, words in (
        (GrantHours(3, "reeds", -1, By("bo", why="x")), "reeds has 0 core-hours left"),
        (GrantHours(3, "silt", hour, By("bo", why="x"), "reeds"), "reeds has 0"),
        (GrantHours(3, "eels", hour, By("bo", why="x")), "eels has no budget"),
        (GrantHours(3, "mud", hour, By("bo", why="x")), 'no account "mud"'),
        (GrantHours(3, "silt", hour, By("bo", why=" ")), "say why"),
        (GrantHours(3, "silt", 0, By("bo", why="x")), "at most a billion"),
        (GrantHours(3, "silt", 10**16, By("bo", why="x")), "at most a billion"),
        (GrantHours(3, "silt", hour, By("bo", why="x"), "silt"), "from one account to another"),
        (GrantHours(3, "silt", -hour, By("bo", why="x"), "reeds"), "more than none"),
    ):
        with pytest.raises(Refused, match=words):
            engine.decide(command)


def test_a_clock_set_back_is_held_and_told_once():
    engine = Engine(small_site())
    running(engine, at=100_000)
    assert [type(event) for event in do(engine, Schedule(50_000))] == [ClockHeld]
    assert do(engine, Schedule(50_500)) == []
    assert engine.state.at_ms == 100_000


def test_every_state_has_its_own_sign():
    assert len(set(SIGNS.values())) == len(Phase) == 11


COMMANDS = st.lists(
    st.one_of(
        st.tuples(st.just("submit"), st.integers(1, 16), st.sampled_from([1, 5, 60]), st.booleans()),
        st.tuples(
            st.just("finish"), st.integers(0, 5), st.sampled_from([0, 1]), st.sampled_from([None, "lost", "overtime"])
        ),
        st.tuples(st.just("hold"), st.integers(1, 12)),
        st.tuples(st.just("release"), st.integers(1, 12)),
        st.tuples(st.just("cancel"), st.integers(1, 12)),
        st.tuples(st.just("close"), st.integers(1, 3)),
        st.tuples(st.just("open"), st.integers(1, 3)),
        st.tuples(st.just("clock"), st.integers(-100, 400)),
    ),
    max_size=40,
)


def play(commands):
    """Run commands with a schedule after each; returns the engine and the events as they stand on disk."""
    engine, at, journal = Engine(small_site()), 10_000, []

    def take(command):
        try:
            events = engine.decide(command)
        except Refused:
            return
        journal.extend(encode(event) for event in events)
        engine.apply(events)

    for kind, *rest in commands:
        if kind == "submit":
            ranks, walltime, double = rest
            asked = request(min(ranks, 25), walltime, "double" if double else "steady")
            take(Submit(at, By("ada"), asked, Origin("")))
        elif kind == "finish":
            live = sorted(job.number for job in engine.state.running())
            if live:
                number = live[rest[0] % len(live)]
                take(Finish(at, number, engine.state.jobs[number].attempt, rest[1], cause=rest[2]))
        elif kind in ("hold", "release", "cancel"):
            take({"hold": HoldJob, "release": ReleaseJob, "cancel": CancelJob}[kind](at, rest[0], By("ada")))
        elif kind == "close":
            take(CloseNode(at, f"n{rest[0]}", By(why="dust")))
        elif kind == "open":
            take(OpenNode(at, f"n{rest[0]}"))
        else:
            at += rest[0] * 1000
        take(Schedule(at))
        check_never_over(engine)
    return engine, journal


def check_never_over(engine):
    held = {}
    for job in engine.state.running():
        for allocation in job.allocations:
            for core in allocation.cores:
                assert (allocation.node, core) not in held, "a core was given twice"
                held[allocation.node, core] = job.number
            assert max(allocation.cores) < engine.site.node[allocation.node].cores
    for node in engine.site.nodes:
        memory = sum(
            allocation.memory_mib
            for job in engine.state.running()
            for allocation in job.allocations
            if allocation.node == node.name
        )
        assert memory <= node.memory_mib


@given(COMMANDS)
def test_state_is_a_fold_over_events_and_the_same_commands_give_the_same(commands):
    engine, journal = play(commands)
    _again, journal_again = play(commands)
    assert journal == journal_again
    folded = State()

    times = []
    for kind, body in journal:
        event = decode(kind, body)
        times.append(event.at_ms)
        folded.apply(event)
    assert folded == engine.state
    assert times == sorted(times)


@given(COMMANDS)
def test_books_balance_and_every_attempt_ends_once(commands):

    engine, journal = play(commands)
    started, charged, ends = {}, 0, {}
    for kind, body in journal:
        event = decode(kind, body)
        if isinstance(event, Started):
            assert (event.job, event.attempt) not in started
            started[event.job, event.attempt] = (
                event.at_ms,
                sum(len(allocation.cores) for allocation in event.allocations),
            )
        elif isinstance(event, Ended):
            assert event.job not in ends, "a job ended twice"
            if not event.again:
                ends[event.job] = event
            # What ends between two attempts has been charged for the first already.
            began, cores = started.pop((event.job, event.attempt), (event.at_ms, 0))
            assert event.allocated_core_ms == cores * event.held_ms and (
                cores == 0 or 0 <= event.held_ms <= event.at_ms - began
            )
            charged += event.charge_core_ms
    assert charged == sum(tally.charged_core_ms for tally in engine.state.tallies.values())
    lines = lines_of(engine.site, engine.state, engine.state.at_ms)
    assert sum(line.charged_core_ms for line in lines) == charged


@given(st.integers(0, 10**9), st.integers(0, 3 * DAY_MS), st.integers(0, 10**12))
def test_the_days_of_an_attempt_add_up_to_the_whole(begin, length, core_ms):
    parts = by_day(begin, begin + length, core_ms)
    assert sum(part for _, part in parts) == core_ms
    assert all(day % DAY_MS == 0 for day, _ in parts)
    assert len({day for day, _ in parts}) == len(parts)


def test_charges_follow_the_tier_and_leave_a_budget():
    site = small_site()
    line = lines_of(site, State(), 0)[0]
    assert line.left_core_ms == 1000 * HOUR_MS


# -- queues ---------------------------------------------------------------------------------------


def site_of_queues():
    site = small_site()
    names = tuple(node.name for node in site.nodes)
    short = Queue("short", names, 3600, max_cores=4, limits=Limits(core_hours_each=2))
    urgent = Queue("urgent", names, tier="double")
    return replace(site, queues=(short, urgent, *site.queues))


@pytest.mark.parametrize(
    ("wanted", "queue"),
    [
        ({"walltime_s": 9 * 3600}, "all"),
        ({"ranks": 8, "nodes": 1}, "all"),
        ({"ranks": 4, "walltime_s": 3600}, "all"),
        ({"ranks": 2, "walltime_s": 3600}, "short"),
        ({"nodes": 1, "most_nodes": 3, "ranks": 2, "ranks_per_node": 2}, "short"),
    ],
    ids=["too long", "too wide", "too many core-hours", "within", "a range of which some are within"],
)
def test_a_list_of_queues_opens_none_that_would_refuse_the_request_alone(wanted, queue):
    engine = Engine(site_of_queues())
    asked = replace(request(**wanted), queues=("urgent", "short", "all"))
    do(engine, Submit(0, By("ada"), asked, Origin("x")))
    started = next(event for event in do(engine, Schedule(0)) if isinstance(event, Started))
    assert started.queue == queue
    assert sum(len(one.cores) for one in started.allocations) <= (4 if queue == "short" else 99)


def test_a_request_that_no_queue_may_run_is_refused_with_every_reason():
    engine = Engine(site_of_queues())
    with pytest.raises(Refused, match=r"urgent serves only tier double; walltime 9h is over .* queue short"):
        engine.decide(
            Submit(0, By("ada"), replace(request(walltime_s=9 * 3600), queues=("urgent", "short")), Origin("x"))
        )


def test_a_job_waits_in_each_queue_that_may_run_it_and_a_full_one_refuses_it():
    site = small_site()
    names = tuple(node.name for node in site.nodes)
    engine = Engine(replace(site, queues=(*site.queues, Queue("few", names, limits=Limits(waiting_jobs=1)))))
    both = replace(request(not_before_ms=HOUR_MS), queues=("all", "few"))
    do(engine, Submit(0, By("ada"), both, Origin("x")))
    for queues in (("few",), ("all", "few")):
        with pytest.raises(Refused, match="queue few may have 1 waiting jobs"):
            engine.decide(Submit(0, By("ada"), replace(both, queues=queues), Origin("x")))


def test_whole_nodes_that_a_limit_would_forbid_are_passed_over_for_others():
    site = small_site((8, 8, 4))
    engine = Engine(replace(site, user_limits=(("", Limits(cores=12)),)))
    do(engine, Submit(0, By("ada"), request(nodes=2, ranks=2, whole_nodes=True), Origin("x")))
    assert any(isinstance(event, Started) for event in do(engine, Schedule(0)))


# -- one cause after another ----------------------------------------------------------------------


@pytest.mark.parametrize("cause", ["gave-way", "lost"])
def test_who_cancels_a_job_that_is_being_stopped_for_something_else_is_rid_of_it(cause):
    engine = Engine(small_site())
    number = running(engine, retries=Retries(9, ("failed", "lost")))
    engine.apply([Stopping(2000, number, cause, "7")])
    stopping = do(engine, CancelJob(3000, number, By("ada")))
    assert [event.cause for event in stopping] == ["cancelled"]
    assert do(engine, CancelJob(3000, number, By("ada"))) == []
    ended = do(engine, Finish(4000, number, 1, cause=cause))[0]
    assert (ended.phase, ended.again) == (Phase.CANCELLED, False)


def test_a_job_cancelled_between_attempts_keeps_what_it_used():
    engine = Engine(small_site())
    number = running(engine, ranks=4, retries=Retries(1, ("failed",)))
    do(engine, Finish(61_000, number, 1, exit=1, use=Use(cpu_ms=50_000, memory_peak_mib=70)))
    ended = do(engine, CancelJob(62_000, number, By("ada")))[0]
    assert ended.reason == "cancelled by ada after attempt 1, before it ran again"
    assert (ended.use.cpu_ms, ended.allocated_core_ms) == (50_000, 0)
    assert engine.state.tallies["silt"].allocated_core_ms == 4 * 60_000


@pytest.mark.parametrize("phase", ["failed", "lost", "overmemory", "overtime"])
@pytest.mark.parametrize("on", [("failed",), ("lost",), ("overmemory", "overtime"), ()])
def test_a_job_runs_again_after_what_its_retries_cover_so_many_times_in_all(phase, on):
    engine = Engine(small_site())
    number = running(engine, retries=Retries(2, on))
    for attempt in (1, 2, 3):
        cause = None if phase == "failed" else phase
        ended = do(engine, Finish(attempt * 10_000, number, attempt, exit=None if cause else 1, cause=cause))[0]
        assert (ended.phase.value, ended.again) == (phase, phase in on and attempt < 3)
        if not ended.again:
            break
        do(engine, Schedule(attempt * 10_000))


def test_a_change_sees_what_is_decided_already_and_blocks_nothing_for_ever():
    engine = Engine(small_site())
    tasks = Array(((1, 2, 1),))
    for _ in (1, 2):
        do(engine, Submit(0, By("ada"), request(array=tasks), Origin("x")))
    do(engine, HoldJob(0, 2, By("ada")))
    do(engine, Schedule(0))
    for number in (1, 2):
        do(engine, Finish(1000, task_id(1, number - 1), 1, exit=0))
    do(engine, Schedule(1000))
    paired = request(array=tasks, after=(("1", EACH),))
    with pytest.raises(Refused, match="1 is not there any more"):
        engine.decide(ChangeJob(1000, 2, By("ada"), paired))
    do(engine, ChangeJob(1000, 2, By("ada"), paired, freed_tasks=(0,), doomed_tasks=(1,)))
    do(engine, ReleaseJob(1000, 2, By("ada")))
    do(engine, Schedule(1000))
    assert [job.number for job in engine.state.running()] == [task_id(2, 0)]
    do(engine, Finish(2000, task_id(2, 0), 1, exit=0))
    do(engine, Schedule(2000))
    assert engine.state.jobs == {} and engine.state.followers == {}


def test_an_array_with_a_task_that_has_ended_is_not_changed_any_more():
    engine = Engine(small_site())
    do(engine, Submit(0, By("ada"), request(array=Array(((1, 5, 1),))), Origin("x")))
    do(engine, CancelTask(0, 1, 3, By("ada")))
    with pytest.raises(Refused, match="some of its tasks have started or ended"):
        engine.decide(ChangeJob(0, 1, By("ada"), request(array=Array(((1, 2, 1),)))))


def test_an_array_is_closed_once_though_it_was_to_be_skipped_as_well():
    engine = Engine(small_site())
    do(engine, Submit(0, By("ada"), request(), Origin("x")))
    do(engine, Submit(0, By("ada"), request(array=Array(((1, 2, 1),)), after=(("1", "succeeds"),)), Origin("x")))
    do(engine, CancelJob(0, 2, By("ada")))
    do(engine, CancelJob(0, 1, By("ada")))
    assert [event.job for event in do(engine, Schedule(0))] == [2]


# -- the plan that is kept ------------------------------------------------------------------------


def test_a_plan_that_is_kept_over_starts_says_the_same_as_one_made_afresh():
    """A later place keeps its nodes when something behind it has started on others that would have done as well."""
    site = small_site((4, 4))
    engine = Engine(replace(site, nodes=tuple(replace(node, memory_mib=1000) for node in site.nodes)))
    first, second = (node.name for node in site.nodes)

    def submit(**more):
        do(
            engine,
            Submit(
                0, By("ada"), Request("j", "silt", ("all",), "steady", more.pop("s"), grace_s=0, **more), Origin("x")
            ),
        )

    submit(s=600, memory=Memory(900, "job"), threads=4, on_nodes=(first,))
    submit(s=600, memory=Memory(900, "job"), on_nodes=(second,))
    do(engine, Schedule(0))
    submit(s=600, memory=Memory(500, "job"), threads=2)  # later, on either node
    submit(s=1200, memory=Memory(10, "job"), threads=2, on_nodes=(second,))  # now
    do(engine, Schedule(0))
    submit(s=1800, memory=Memory(10, "job"), on_nodes=(second,))
    submit(s=1800, memory=Memory(10, "job"), on_nodes=(second,))
    fresh = Engine(engine.site, engine.state.copy()).decide(Schedule(1))
    assert [encode(event) for event in engine.decide(Schedule(1))] == [encode(event) for event in fresh]


@pytest.mark.parametrize("policy", ["planned", "easy", "first-come"])
def test_an_array_of_one_task_a_node_holds_its_places_like_any_other_job(policy):
    site = replace(small_site((4, 4)), policy=policy)
    names = tuple(node.name for node in site.nodes)
    engine = Engine(site)
    busy = [running(engine, ranks=4, walltime_s=600, on_nodes=(name,)) for name in names]
    each = Array(((1, 2, 1),), None, (), "any", names)
    do(engine, Submit(1000, By("ada"), request(ranks=4, array=each), Origin("x")))
    do(engine, Submit(1000, By("ada"), request(ranks=1, walltime_s=9000), Origin("x")))
    do(engine, Schedule(1000))
    do(engine, Finish(2000, busy[0], 1, exit=0))
    started = [event.job for event in do(engine, Schedule(2000)) if isinstance(event, Started)]
    assert started == [task_id(3, 0)]


def test_no_job_is_passed_over_when_those_before_it_have_started():
    engine = Engine(small_site((2,)))
    for _ in range(30):  # alike, so that they stand in one line
        do(engine, Submit(0, By("ada"), request(ranks=1, walltime_s=600), Origin("x")))
    started = [event.job for event in do(engine, Schedule(0)) if isinstance(event, Started)]
    kept = engine.plans.plan(0)
    assert started == [1, 2] and len(kept.tried) < 30
    assert set(kept.placements) == set(range(3, 31))


def test_a_job_that_its_budget_does_not_cover_uses_up_no_depth_of_the_plan():
    engine = Engine(replace(small_site((4,), budget=1), plan_depth=1))
    submitted = [  # the others' account has no budget
        Submit(0, By("ada"), request(ranks=4, walltime_s=3600), Origin("x")),
        Submit(0, By("ada"), replace(request(ranks=4, walltime_s=60), account="eels"), Origin("x")),
        Submit(0, By("ada"), replace(request(ranks=4, walltime_s=120), account="eels"), Origin("x")),
    ]
    for each in submitted:
        engine.apply(engine.decide(each))
    do(engine, Schedule(0))
    kept = engine.plans.plan(0).placements
    fresh = Engine(engine.site, engine.state.copy()).plans.plan(0)
    assert kept == fresh.placements and list(kept) == [3]
    assert fresh.unplaced[1].kind == "budget"


def test_a_job_that_lands_ahead_of_others_keeps_the_places_of_those_before_it(monkeypatch):
    engine = Engine(small_site((4, 4)))
    for number in range(40):  # each of its own kind, from whom has used nothing
        do(engine, Submit(number, By("ada"), request(ranks=3, walltime_s=600 + number), Origin("x")))
    do(engine, Schedule(50))
    waiting = list(engine.plans.plan(50).placements)
    engine.apply([Submitted(30, 41, By("ada"), request(ranks=3, walltime_s=60), Origin("x"))])  # before nine others
    searched, place = [], engine.plans.planner.place
    monkeypatch.setattr(engine.plans.planner, "place", lambda *of: searched.append(of[1].job) or place(*of))
    kept = engine.plans.plan(60).placements
    assert list(engine.plans.plan(60).tried) == [*waiting[:-9], 41, *waiting[-9:]]
    assert searched == [41, *waiting[-9:]]
    assert kept == Engine(engine.site, engine.state.copy()).plans.plan(60).placements


def test_a_job_that_did_not_start_at_its_instant_is_placed_again_later():
    """As when the disk was full: by then a window may be too near."""
    site = small_site((4,))
    upkeep = Window(("n1",), 1_000_000, 9_000_000, "upkeep", (), (), "upkeep")
    engine = Engine(replace(site, windows=(upkeep,)))
    do(engine, Submit(0, By("ada"), request(walltime_s=900), Origin("x")))
    assert engine.plans.plan(0).starting()  # and nobody starts it
    assert do(engine, Schedule(500_000)) == []
    assert engine.plans.plan(500_000).placements[1].start_ms == 9_000_000
