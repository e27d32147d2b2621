"""Draws are held to the engine: with whole walltimes they are the plan, with given run times what the engine does with these."""

import heapq
from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.advice.forward_draws import Course as Drawn
from lazy_quarry.core.advice.forward_draws import course_of, present_of, ranges_of
from lazy_quarry.core.advice.planned_starts import PlannedStarts
from lazy_quarry.core.engine.commands import Finish, Schedule
from lazy_quarry.core.engine.events import Started, Stopping
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.ledger.budgets import next_turn_ms
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Standing
from lazy_quarry.core.values import replace
from tests.conftest import small_site
from tests.core.engine.test_as_planned import UNCHANGED, Course, lived
from tests.core.engine.test_invariants import NOW, Draw, whose

WHOLE = SimpleNamespace(end_ms=lambda job, now, draw: job.end_limit_ms)


class Given:
    """Run times that follow from a job's number."""

    def end_ms(self, job, now, draw):
        takes = 1000 + job.number * 7_919 % (job.request.walltime_s * 1000)
        return max(now + 1, min(job.end_limit_ms, job.started_ms + takes))


@settings(max_examples=120, deadline=None)
@given(st.integers(0, 2**32))
def test_with_whole_walltimes_a_draw_is_the_plan(seed):
    draw = Draw(seed)
    accounts = tuple(replace(one, **UNCHANGED) for one in draw.site().accounts)
    site = replace(
        draw.site(), accounts=accounts, policy="planned", plan_depth=1000, standing=Standing(account_h=0, user_h=0)
    )
    now = lived(draw, site)
    told, for_budget = now.told()
    if for_budget or any(site.tier[job.request.tier].gives_way for job in now.engine.state.jobs.values()):
        return  # a budget may leave more when something else is charged; who is stopped for others waits anew
    present = present_of(now.engine, Planner(site), now.at, 1000)
    starts = course_of(present, WHOLE, 0, told).starts
    assert {job: starts.get(job) for job in told} == {job: start for job, (start, _) in told.items()}
    assert PlannedStarts(present).starts == {job: start for job, (start, _) in told.items()}


def followed(present, times):
    """The starts of all jobs when the engine is asked at every instant at which anything could happen."""
    engine, at, starts, ends = present.engine(), present.at_ms, {}, []
    state = engine.state
    for job in state.running():
        heapq.heappush(ends, (times.end_ms(job, at, 0), job.number))
    bounds = {instant for one in engine.plans.windows for instant in (one.begins_ms, one.ends_ms)}
    bounds |= {state.jobs[number].request.not_before_ms for number in state.jobs.dated}
    while True:
        while events := engine.decide(Schedule(at)):
            engine.apply(events)
            for event in events:
                if isinstance(event, Started):
                    starts.setdefault(whose(event), at)
                    job = state.jobs[event.job]
                    heapq.heappush(ends, (times.end_ms(job, at, 0), job.number))
                elif isinstance(event, Stopping):
                    ends = sorted(one for one in ends if one[1] != event.job)
                    finish(engine, at, event.job, cause="gave-way")
        known = [ends[0][0]] if ends else []
        known += [min(left)] if (left := [one for one in bounds if one > at]) else []
        if not known:
            return starts
        if state.jobs.lines:
            known += [use_updated_at(at) + USE_UPDATE_MS, max(at + 1, next_turn_ms(present.site, at))]
        at = min(known)
        while ends and ends[0][0] <= at:
            finish(engine, at, heapq.heappop(ends)[1], exit=0)


def finish(engine, at, number, **how):
    job = engine.state.jobs[number]
    engine.apply(engine.decide(Finish(at, number, job.attempt, mark=job.mark, **how)))


@settings(max_examples=120, deadline=None)
@given(st.integers(0, 2**32))
def test_a_draw_starts_what_the_engine_starts_that_is_asked_at_every_instant(seed):
    draw = Draw(seed)
    now = lived(draw, replace(draw.site(), standing=Standing(half_life_h=24)))
    present = present_of(now.engine, Planner(now.engine.site), now.at, 1000)
    starts = followed(present, Given())
    drawn = course_of(present, Given(), 0, starts)
    assert {job: drawn.starts.get(job) for job in starts} == starts and not drawn.left


def test_tasks_of_an_array_and_jobs_that_wait_for_others_are_drawn_one_by_one():
    now = Course(replace(small_site((2, 2)), standing=Standing(account_h=0, user_h=0, size_h=0)))
    one = Request("j", "silt", ("all",), "steady", 600, Memory(1), None, 1, 2, grace_s=0)
    now.submit(replace(one, array=Array(((1, 6, 1),), None)), "ada")
    now.submit(replace(one, after=(("newest", "fails"),)), "ada")
    now.submit(replace(one, after=(("newest", "succeeds"),)), "ada")
    now.schedule()
    quick = SimpleNamespace(end_ms=lambda job, at, draw: at + 60_000)
    present = present_of(now.engine, Planner(now.engine.site), now.at, 10)
    assert [present.state.jobs[job].phase for job in (1, 2, 3)] == [Phase.WAITING, Phase.BLOCKED, Phase.BLOCKED]
    drawn = course_of(present, quick, 0, [2, 3], to_end=True)
    assert drawn.starts == {1: NOW + 60_000, 2: NOW + 180_000, 3: NOW + 240_000}
    assert drawn.ends == {1: NOW + 180_000, 2: NOW + 240_000, 3: NOW + 300_000}
    planned = PlannedStarts(present)
    assert [job.number for job in planned.told()] == [2, 3]  # of the array some tasks run already
    assert planned.starts[2] == NOW + 1_800_000 and planned.starts[3] == NOW + 2_400_000


def test_what_is_followed_no_further_starts_by_the_plan_or_later(monkeypatch):
    monkeypatch.setattr("lazy_quarry.core.advice.forward_draws.MOST_ENDS", 3)
    now = Course(replace(small_site((2,)), standing=Standing(account_h=0, user_h=0, size_h=0)))
    for _ in range(9):
        now.submit(Request("j", "silt", ("all",), "steady", 600, Memory(1), None, 1, 2, grace_s=0), "ada")
    now.schedule()
    present = present_of(now.engine, Planner(now.engine.site), now.at, 10)
    drawn = course_of(present, WHOLE, 0, range(2, 10))
    assert drawn.left and drawn.start_ms(2, None) == NOW + 600_000
    assert drawn.start_ms(9, NOW + 4_800_000) == NOW + 4_800_000 and drawn.start_ms(9, None) == drawn.until_ms
    assert ranges_of([drawn, Drawn({})], {9: NOW + 4_800_000}, [9, 10], NOW).keys() == {9}


@pytest.mark.parametrize("most", [0, 3])
def test_a_present_has_so_many_waiting_jobs_and_no_more(most):
    now = Course(small_site((2,)))
    for _ in range(9):
        now.submit(Request("j", "silt", ("all",), "steady", 600, Memory(1), None, 1, 2, grace_s=0), "ada")
    now.schedule()
    present = present_of(now.engine, Planner(now.engine.site), now.at, most)
    assert sum(job.phase is Phase.WAITING for job in present.state.jobs.values()) == most
    assert len(now.engine.state.jobs) == 9 and len(present.engine().state.running()) == 1
