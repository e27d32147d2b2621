import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import (
    CancelJob,
    CloseNode,
    Finish,
    HoldJob,
    OpenNode,
    ReleaseJob,
    Reserve,
    Schedule,
    Submit,
)
from lazy_quarry.core.engine.engine import Engine, State
from lazy_quarry.core.engine.events import ClockHeld, Ended, Started
from lazy_quarry.core.job.job import Origin, Phase, Use
from lazy_quarry.core.job.phase import SIGNS
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.ledger.accounts import account_lines
from lazy_quarry.core.ledger.charges import by_day, charge, greatest_charge
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import DAY_MS, HOUR_MS
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
    do(engine, Submit(at, "ada", request(**more), Origin("#!/bin/sh\n")))
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
    do(engine, Reserve(0, Window(nodes, 0, HOUR_MS, "pumps", (), (), "pumps"), "ada"))
    first = running(engine)
    do(engine, Submit(2000, "ada", request(), Origin("#!/bin/sh\n")))  # behind all others: the plan is kept
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
        3000, number, 2, Phase.LOST, allocated_core_ms=1000, charge_core_ms=1000
    )


def test_failures_run_again_as_often_as_asked():
    engine = Engine(small_site())
    number = running(engine, failure_retries=2)
    for attempt, again in ((1, True), (2, True), (3, False)):
        assert do(engine, Finish(1000 + attempt, number, attempt, exit=1))[0].again is again
        do(engine, Schedule(1000 + attempt))


def test_what_was_cancelled_is_never_run_again():
    engine = Engine(small_site())
    number = running(engine)
    do(engine, CancelJob(1500, number, "ada"))
    ended = do(engine, Finish(2000, number, 1, cause="lost"))[0]
    assert (ended.phase, ended.again) == (Phase.CANCELLED, False)


def test_what_is_told_twice_counts_once():
    engine = Engine(small_site())
    number = running(engine)
    report = Finish(2000, number, 1, exit=0)
    assert len(do(engine, report)) == 1
    assert do(engine, report) == []
    assert do(engine, Finish(2000, 77, 1, exit=0)) == []


def test_hold_release_and_cancel_say_why_they_are_refused():
    engine = Engine(small_site((1,)))
    first, second = running(engine), running(engine)
    do(engine, HoldJob(2000, second, "ada"))
    for command, words in (
        (HoldJob(2000, second, "ada"), "held already"),
        (HoldJob(2000, first, "ada"), "only a waiting job"),
        (ReleaseJob(2000, first, "ada"), "not held"),
        (CancelJob(2000, first, "bo"), "belongs to ada"),
    ):
        with pytest.raises(Refused, match=words):
            engine.decide(command)
    with pytest.raises(NoSuchJob):
        engine.decide(CancelJob(2000, 99, "ada"))
    do(engine, CancelJob(2000, second, "ada"))
    with pytest.raises(Refused, match="ended already"):
        engine.decide(CancelJob(2000, second, "ada"))


def test_a_held_job_does_not_start_until_it_is_released():
    engine = Engine(small_site())
    do(engine, Submit(0, "ada", request(), Origin("")))
    do(engine, HoldJob(0, 1, "ada"))
    assert engine.decide(Schedule(5)) == []
    do(engine, ReleaseJob(6, 1, "ada"))
    assert isinstance(engine.decide(Schedule(6))[0], Started)


def test_closed_nodes_take_no_jobs():
    engine = Engine(small_site((4,)))
    do(engine, CloseNode(0, "n1", "dust"))
    do(engine, Submit(0, "ada", request(), Origin("")))
    assert engine.decide(Schedule(0)) == []
    do(engine, OpenNode(1, "n1"))
    assert len(engine.decide(Schedule(1))) == 1
    with pytest.raises(Refused):
        engine.decide(OpenNode(1, "n1"))
    with pytest.raises(Refused):
        engine.decide(CloseNode(1, "n9", ""))


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
            take(Submit(at, "ada", asked, Origin("")))
        elif kind == "finish":
            live = sorted(job.number for job in engine.state.running())
            if live:
                number = live[rest[0] % len(live)]
                take(Finish(at, number, engine.state.jobs[number].attempt, rest[1], cause=rest[2]))
        elif kind in ("hold", "release", "cancel"):
            take({"hold": HoldJob, "release": ReleaseJob, "cancel": CancelJob}[kind](at, rest[0], "ada"))
        elif kind == "close":
            take(CloseNode(at, f"n{rest[0]}", "dust"))
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
            if (event.job, event.attempt) in started:
                began, cores = started[event.job, event.attempt]
                assert event.allocated_core_ms == cores * (event.at_ms - began)
            charged += event.charge_core_ms
    assert charged == sum(tally.charged_core_ms for tally in engine.state.tallies.values())
    lines = account_lines(engine.site, engine.state.tallies, engine.state.jobs.values(), engine.state.at_ms)
    assert sum(line.charged_core_ms for line in lines) == charged


@given(st.integers(0, 10**9), st.integers(0, 3 * DAY_MS), st.integers(0, 10**12))
def test_the_days_of_an_attempt_add_up_to_the_whole(begin, length, core_ms):
    parts = by_day(begin, begin + length, core_ms)
    assert sum(part for _, part in parts) == core_ms
    assert all(day % DAY_MS == 0 for day, _ in parts)
    assert len({day for day, _ in parts}) == len(parts)


def test_charges_follow_the_tier_and_leave_a_budget():
    site = small_site()
    assert charge(site, "double", 1001) == 2002
    assert greatest_charge(site, "steady", 4, 3600) == 4 * HOUR_MS
    line = account_lines(site, {}, [], 0)[0]
    assert line.left_core_ms == 1000 * HOUR_MS
