"""Arrays in the engine: one request with a count; every task runs once and ends once, never too many together."""

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import CancelJob, CancelTask, Finish, HoldJob, ReleaseJob, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine, State
from lazy_quarry.core.engine.events import Ended, Started
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin, Phase, task_id
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.core.job.sweep import Array, Parameter
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused
from lazy_quarry.store.journal import EndedFilter, Journal
from tests.conftest import small_site

NOW = 1_000_000


def request(count=5, at_once=None, threads=4, **more):
    array = Array(((1, count, 1),), at_once)
    return Request("j", "silt", ("all",), "steady", 600, Memory(100), threads=threads, grace_s=0, array=array, **more)


class World:
    """An engine with its journal, driven by hand."""

    def __init__(self):
        self.engine, self.journal, self.at = Engine(small_site()), Journal(None), NOW
        self.events = []

    def tell(self, command):
        events = self.engine.decide(command)
        self.journal.append(events, self.engine.state)
        self.engine.apply(events)
        self.events += events
        return events

    def schedule(self):
        return self.tell(Schedule(self.at))

    def running(self):
        return sorted(job.number for job in self.engine.state.running())

    def finish(self, number, exit_=0, cause=None):
        job = self.engine.state.jobs[number]
        self.tell(Finish(self.at, number, job.attempt, exit_, cause=cause))


def test_tasks_start_as_many_as_fit_and_carry_their_numbers_and_parameters():
    world = World()
    groups = ((Parameter("level", ("a", "b", "c")),),)
    world.tell(Submit(NOW, By("ada"), replace(request(3), array=Array(((1, 3, 1),), 2, groups)), Origin("x")))
    world.schedule()
    assert world.running() == [task_id(1, 0), task_id(1, 1)]
    task = world.engine.state.jobs[task_id(1, 1)]
    assert (task.parent, task.label, task.request.parameters) == (1, "1/2", (("level", "b"),))
    world.finish(task_id(1, 0))
    world.schedule()
    assert world.running() == [task_id(1, 1), task_id(1, 2)]


@given(
    st.integers(1, 30),
    st.integers(1, 8) | st.none(),
    st.integers(1, 9),
    st.lists(
        st.tuples(st.integers(0, 50), st.sampled_from([0, 0, 1, "lost", "hold", "cancel", "task", "one", "one"])),
        max_size=60,
    ),
)
def test_whatever_happens_each_task_ends_once_and_no_more_run_than_may(count, at_once, threads, acts):
    world = World()
    world.tell(Submit(NOW, By("ada"), request(count, at_once, threads), Origin("script")))
    world.tell(Submit(NOW, By("bo"), replace(request(1), array=None), Origin("x")))
    for pick, act in [*acts, *[(0, 0)] * 200]:
        world.at += 1000
        held = world.engine.state.jobs[1].held_tasks if 1 in world.engine.state.jobs else ()
        world.schedule()
        assert not {task_id(1, index) for index in held} & set(world.running())
        running = [number for number in world.running() if number > 2]
        assert at_once is None or len(running) <= at_once
        if not world.engine.state.jobs:
            break
        if act == "cancel" and pick > 45 and 1 in world.engine.state.jobs:
            for event in world.tell(CancelJob(world.at, 1, By("ada"))):
                assert event.kind in ("tasks-dropped", "stopping", "ended")
        elif act == "hold" and 1 in world.engine.state.jobs:
            job = world.engine.state.jobs[1]
            if job.phase is Phase.HELD:
                world.tell(ReleaseJob(world.at, 1, By("ada")))
            elif job.unmade_tasks:
                world.tell(HoldJob(world.at, 1, By("ada")))
        elif act == "task" and 1 in world.engine.state.jobs:
            with suppress(Refused):
                world.tell(CancelTask(world.at, 1, pick % count, By("ada")))
        elif act == "one" and 1 in world.engine.state.jobs:
            with suppress(Refused):
                world.tell((HoldJob if pick % 3 else ReleaseJob)(world.at, task_id(1, pick % count), By("ada")))
        elif world.running():
            number = world.running()[pick % len(world.running())]
            stopping = world.engine.state.jobs[number].stopping
            cause = "cancelled" if stopping else "lost" if act == "lost" else None
            world.finish(number, act if act in (0, 1) else 0, cause)
        elif 1 in world.engine.state.jobs:
            with suppress(Refused):
                world.tell(ReleaseJob(world.at, 1, By("ada")))
    assert world.engine.state.jobs == {} and world.engine.state.tasks == {}
    final = [event.job for event in world.events if isinstance(event, Ended) and not event.again]
    dropped = sum(event.count for event in world.events if event.kind == "tasks-dropped")
    assert len(final) == len(set(final)) == count - dropped + 2
    starts = [(event.job, event.attempt) for event in world.events if isinstance(event, Started)]
    assert len(starts) == len(set(starts))
    array = world.journal.ended_job(1)
    assert sum(dict(array.counts).values()) == count
    tasks = world.journal.ended(EndedFilter(array=1, limit=1000))
    assert len(tasks) == count - dropped
    assert array.charge_core_ms == sum(task.charge_core_ms for task in tasks)
    assert {job.number for job in world.journal.ended(EndedFilter())} == {1, 2}
    again = State()
    for event in world.events:
        again.apply(event)
    assert again == world.engine.state


def test_an_array_has_ended_as_its_tasks_did():
    for codes, phase in (((0, 0), Phase.DONE), ((0, 1), Phase.FAILED)):
        world = World()
        world.tell(Submit(NOW, By("ada"), request(2), Origin("x")))
        world.schedule()
        for number, code in zip(world.running(), codes, strict=True):
            world.finish(number, code)
        world.schedule()
        assert world.journal.ended_job(1).phase is phase


def test_a_million_tasks_are_one_request_until_they_start():
    world = World()
    world.tell(Submit(NOW, By("ada"), request(1_000_000, 3), Origin("x")))
    world.schedule()
    assert len(world.engine.state.jobs) == 4
    assert world.engine.state.jobs[1].unmade_tasks == 999_997
    world.tell(CancelJob(NOW, 1, By("ada")))
    assert dict(world.engine.state.jobs[1].counts) == {"cancelled": 999_997}


def test_a_task_that_fails_runs_again_as_its_array_says():
    world = World()
    world.tell(Submit(NOW, By("ada"), request(2, 1, retries=Retries(1, ("failed", "lost"))), Origin("x")))
    world.schedule()
    world.finish(task_id(1, 0), 1)
    world.schedule()
    assert world.engine.state.jobs[task_id(1, 0)].attempt == 2 and task_id(1, 0) in world.running()


@pytest.mark.parametrize("by", ["bo"])
def test_only_its_owner_may_cancel_a_task(by):
    world = World()
    world.tell(Submit(NOW, By("ada"), request(2), Origin("x")))
    with pytest.raises(Refused):
        world.tell(CancelTask(NOW, 1, 0, By(by)))


def test_each_node_gives_every_node_a_task_of_its_own():
    world = World()
    array = Array(((1, 3, 1),), None, (), "any", ("n1", "n2", "n3"))
    world.tell(Submit(NOW, By("ada"), replace(request(3), array=array), Origin("x")))
    world.schedule()
    assert {job.allocations[0].node for job in world.engine.state.running()} == {"n1", "n2", "n3"}
    assert {job.request.task: job.allocations[0].node for job in world.engine.state.running()} == {
        1: "n1",
        2: "n2",
        3: "n3",
    }


def test_a_task_for_a_node_that_is_full_waits_for_that_node_alone():
    world = World()
    world.tell(Submit(NOW, By("bo"), replace(request(1, threads=8), array=None, on_nodes=("n1",)), Origin("x")))
    world.schedule()
    array = Array(((1, 2, 1),), None, (), "any", ("n1", "n2"))
    world.tell(Submit(NOW, By("ada"), replace(request(2), array=array), Origin("x")))
    world.schedule()
    assert world.running() == [1, task_id(2, 1)]
    world.finish(1)
    world.schedule()
    assert world.running() == [task_id(2, 0), task_id(2, 1)]


def pair_of_arrays(world, count=3):
    world.tell(Submit(NOW, By("ada"), request(count, 1), Origin("x")))
    world.tell(Submit(NOW, By("ada"), request(count, after=(("1", "each-succeeds"),)), Origin("y")))
    world.schedule()


def test_each_succeeds_goes_task_by_task_and_skips_those_whose_task_failed():
    world = World()
    pair_of_arrays(world)
    assert world.running() == [task_id(1, 0)]
    assert world.engine.state.jobs[2].phase is Phase.BLOCKED
    world.finish(task_id(1, 0))
    world.schedule()
    assert world.running() == [task_id(1, 1), task_id(2, 0)]
    world.finish(task_id(1, 1), 3)
    world.schedule()
    assert dict(world.engine.state.jobs[2].counts) == {"skipped": 1}
    for number in (task_id(2, 0), task_id(1, 2), task_id(2, 2)):
        world.finish(number)
        world.schedule()
        world.schedule()
    ended = {event.job: event.phase for event in world.events if isinstance(event, Ended)}
    assert ended[task_id(2, 1)] is Phase.SKIPPED
    assert not world.engine.state.jobs


def test_an_array_that_waits_task_by_task_for_a_cancelled_one_is_skipped_whole():
    world = World()
    pair_of_arrays(world)
    world.tell(CancelJob(NOW, 1, By("ada")))
    world.tell(Finish(NOW, task_id(1, 0), 1, None, cause="cancelled"))
    for _ in range(4):
        world.schedule()
    ended = {event.job: event.phase for event in world.events if isinstance(event, Ended)}
    assert ended[2] is Phase.SKIPPED and not world.engine.state.jobs


@given(
    st.integers(1, 6), st.lists(st.tuples(st.integers(0, 20), st.sampled_from([0, 0, 1, "lost", "task"])), max_size=30)
)
def test_however_pairs_end_each_follower_ran_only_after_its_own_succeeded(count, acts):
    world = World()
    pair_of_arrays(world, count)
    for pick, act in [*acts, *[(0, 0)] * 60]:
        world.at += 1000
        world.schedule()
        running = world.running()
        if not running:
            continue
        number = running[pick % len(running)]
        if act == "task":
            with suppress(Refused):
                world.tell(CancelTask(world.at, number // 10_000_000, pick % count, By("ada")))
        elif isinstance(act, str):
            world.finish(number, None, act)
        else:
            world.finish(number, act)
        for live in world.running():
            if world.engine.state.jobs[live].stopping:
                world.finish(live, None, "cancelled")
    for _ in range(3):
        world.schedule()
    done = set()
    final = {}
    for event in world.events:
        if isinstance(event, Ended) and not event.again:
            assert event.job not in final
            final[event.job] = event.phase
            if event.phase is Phase.DONE:
                done.add(event.job)
        elif isinstance(event, Started) and event.job >= task_id(2, 0):
            assert task_id(1, event.job - task_id(2, 0)) in done
    assert not world.engine.state.jobs
    assert all(task_id(array, index) in final for array in (1, 2) for index in range(count))
