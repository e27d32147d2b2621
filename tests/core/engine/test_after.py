"""Dependencies: a job waits for others as its conditions say, starts when they are met, is skipped when they can't be."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import CancelJob, Finish, HoldJob, ReleaseJob, Submit
from lazy_quarry.core.engine.engine import State
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin, Phase, outlook
from lazy_quarry.core.job.request import Retries
from lazy_quarry.core.values import replace
from tests.core.engine.test_arrays import NOW, World, request

ONE = replace(request(1), array=None)


def submit(world, *after, **more):
    number = world.engine.state.next_number
    world.tell(Submit(world.at, By("ada"), replace(ONE, after=after, **more), Origin("x")))
    return number


def phase(world, number):
    job = world.engine.state.jobs.get(number) or world.journal.ended_job(number)
    return job.phase


@pytest.mark.parametrize(
    ("condition", "end", "then"),
    [
        ("succeeds", {"exit_": 0}, Phase.RUNNING),
        ("succeeds", {"exit_": 1}, Phase.SKIPPED),
        ("succeeds", {"cause": "overtime"}, Phase.SKIPPED),
        ("fails", {"exit_": 1}, Phase.RUNNING),
        ("fails", {"cause": "overmemory"}, Phase.RUNNING),
        ("fails", {"exit_": 0}, Phase.SKIPPED),
        ("fails", {"cause": "cancelled"}, Phase.SKIPPED),
        ("finishes", {"exit_": 3}, Phase.RUNNING),
        ("finishes", {"cause": "cancelled"}, Phase.RUNNING),
    ],
)
def test_a_job_that_waits_for_an_end_starts_or_is_skipped_by_it(condition, end, then):
    world = World()
    first = submit(world)
    second = submit(world, (str(first), condition))
    world.schedule()
    assert (phase(world, first), phase(world, second)) == (Phase.RUNNING, Phase.BLOCKED)
    if end.get("cause") == "cancelled":
        world.tell(CancelJob(world.at, first, By("ada")))
    world.finish(first, end.get("exit_", 0), end.get("cause"))
    world.schedule()
    assert phase(world, second) is then
    if then is Phase.SKIPPED:
        assert str(first) in world.journal.ended_job(second).reason


def test_a_job_that_was_held_while_its_condition_failed_is_skipped_and_not_started():
    world = World()
    first = submit(world)
    second = submit(world, (str(first), "succeeds"))
    world.schedule()
    world.tell(HoldJob(world.at, second, By("ada")))
    world.finish(first, 1)
    world.tell(ReleaseJob(world.at, second, By("ada")))
    world.schedule()
    ended = world.journal.ended_job(second)
    assert (ended.phase, ended.attempt) == (Phase.SKIPPED, 0)


def test_begins_is_met_by_the_start_and_missed_by_a_cancelling_before_it():
    world = World()
    first = submit(world, not_before_ms=NOW + 60_000)
    second = submit(world, (str(first), "begins"))
    world.schedule()
    assert phase(world, second) is Phase.BLOCKED
    world.at += 60_000
    world.schedule()
    world.schedule()
    assert phase(world, second) is Phase.RUNNING
    third = submit(world, not_before_ms=NOW + 600_000)
    fourth = submit(world, (str(third), "begins"))
    world.tell(CancelJob(world.at, third, By("ada")))
    world.schedule()
    assert phase(world, fourth) is Phase.SKIPPED


def test_a_failed_attempt_that_runs_again_decides_nothing_yet():
    world = World()
    first = submit(world, retries=Retries(1, ("failed", "lost")))
    second = submit(world, (str(first), "succeeds"))
    world.schedule()
    world.finish(first, 1)
    world.schedule()
    assert phase(world, second) is Phase.BLOCKED
    world.finish(first, 0)
    world.schedule()
    assert phase(world, second) is Phase.RUNNING


def test_the_followers_of_a_skipped_job_are_skipped_too():
    world = World()
    first = submit(world)
    second = submit(world, (str(first), "succeeds"))
    third = submit(world, (str(second), "succeeds"))
    fourth = submit(world, (str(second), "finishes"))
    world.schedule()
    world.finish(first, 1)
    for _ in range(4):
        world.schedule()
    assert [phase(world, one) for one in (second, third, fourth)] == [Phase.SKIPPED, Phase.SKIPPED, Phase.RUNNING]


@pytest.mark.parametrize(
    ("waits", "first", "second", "planned"),
    [
        (["fails", None], 0, 0, True),
        (["succeeds", None], 1, 0, False),
        (["fails", "fails"], 0, 0, True),
        (["fails", "succeeds"], 0, 1, False),  # one of them kept it from work that was wanted
        (["fails", None], "cancelled", 0, False),
    ],
)
def test_a_skip_is_planned_where_what_it_waited_for_in_vain_is_done_or_skipped_so(waits, first, second, planned):
    world = World()
    befores = [submit(world), submit(world)]
    after = [(str(one), condition) for one, condition in zip(befores, waits, strict=True) if condition]
    waiting = submit(world, *after)
    behind = submit(world, (str(waiting), "succeeds"))
    world.schedule()
    for one, end in zip(befores, (first, second), strict=True):
        if end == "cancelled":
            world.tell(CancelJob(world.at, one, By("ada")))
        world.finish(one, 0 if end == "cancelled" else end, end if end == "cancelled" else None)
    for _ in range(3):
        world.schedule()
    ended = [world.journal.ended_job(number) for number in (waiting, behind)]
    assert [(job.phase, job.planned) for job in ended] == [(Phase.SKIPPED, planned)] * 2
    failed = sum(tally.failed for tally in world.engine.state.tallies.values())
    assert failed == 2 * (not planned) + sum(end == 1 for end in (first, second))


def test_an_array_of_tasks_skipped_as_planned_is_skipped_so_itself():
    world = World()
    first = submit(world)
    clean = world.engine.state.next_number
    world.tell(Submit(world.at, By("ada"), replace(request(3), after=((str(first), "fails"),)), Origin("x")))
    world.schedule()
    world.finish(first, 0)
    for _ in range(3):
        world.schedule()
    job = world.journal.ended_job(clean)
    assert (job.phase, job.planned) == (Phase.SKIPPED, True)


def test_a_blocked_job_can_be_held_and_says_what_it_waits_for():
    world = World()
    first = submit(world)
    second = submit(world, (str(first), "succeeds"))
    world.schedule()
    world.tell(HoldJob(world.at, second, By("ada")))
    world.finish(first, 0)
    world.schedule()
    assert phase(world, second) is Phase.HELD
    world.tell(ReleaseJob(world.at, second, By("ada")))
    world.schedule()
    assert phase(world, second) is Phase.RUNNING
    third = submit(world, (str(second), "finishes"))
    engine = world.engine
    explainer = Explainer(engine, world.at)
    assert explainer.why(engine.state.jobs[third]).because == f"waits until {second} finishes"


def test_after_an_array_waits_for_all_of_its_tasks():
    world = World()
    world.tell(Submit(NOW, By("ada"), request(2), Origin("x")))
    second = submit(world, ("1", "succeeds"))
    world.schedule()
    for number in world.running():
        assert phase(world, second) is Phase.BLOCKED
        world.finish(number)
    world.schedule()
    world.schedule()
    assert phase(world, second) is Phase.RUNNING


CONDITIONS = st.sampled_from(["succeeds", "fails", "finishes", "begins"])


@given(
    st.lists(
        st.tuples(st.lists(st.tuples(st.integers(1, 8), CONDITIONS), max_size=2), st.sampled_from([0, 0, 1, "lost"])),
        min_size=1,
        max_size=8,
    )
)
def test_every_job_of_any_web_of_conditions_ends_and_none_runs_against_its_own(jobs):
    world = World()
    fates = {}
    for number, (after, fate) in enumerate(jobs, 1):
        known = tuple({job: condition for job, condition in after if job < number}.items())
        assert submit(world, *((str(job), condition) for job, condition in known), retries=Retries(0)) == number
        fates[number] = (known, fate)
    for _ in range(60):
        world.at += 1000
        world.schedule()
        for number in world.running():
            known, fate = fates[number]
            for job, condition in known:
                live = job in world.engine.state.jobs
                assert outlook(condition, None if live else phase(world, job)) is True
            lost = fate == "lost"
            world.tell(Finish(world.at, number, 1, None if lost else fate, cause="lost" if lost else None))
    assert world.engine.state.jobs == {} and world.engine.state.followers == {}
    again = State()
    for event in world.events:
        again.apply(event)
    assert again == world.engine.state
