"""The plan comes true: if nothing changes, every job starts at its planned instant on its planned nodes."""

from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started, Stopping
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Origin
from lazy_quarry.core.job.needs import needs
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.plan import compiled
from lazy_quarry.core.plan.node_order import node_order
from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import CORES
from lazy_quarry.core.site import Standing, Window
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused
from tests.conftest import small_site
from tests.core.engine.test_invariants import NOW, USERS, Draw, World, whose

UNCHANGED = {"budget_each": "", "budget_begins_ms": None, "budget_ends_ms": None, "carries_over": False}


class Course:
    """An engine in which nothing happens but that jobs start, and end at their limits."""

    def __init__(self, site, fast=False):
        self.world = World(site)
        self.engine, self.at, self.starts, self.gave_way = self.world.engine, NOW, {}, False
        self.engine.plans.planner.kernels = compiled if fast else None

    def submit(self, request, user):
        request, freed, doomed = self.world.whole(request, user)
        with suppress(Refused):
            self.engine.apply(self.engine.decide(Submit(self.at, By(user), request, Origin("x"), freed, doomed)))

    def schedule(self):
        while events := self.engine.decide(Schedule(self.at)):
            self.engine.apply(events)
            for event in events:
                self.gave_way |= isinstance(event, Stopping)
                if isinstance(event, Started):
                    nodes = tuple(sorted(one.node for one in event.allocations))
                    self.starts.setdefault(whose(event), (event.at_ms, nodes))

    def run_until(self, until):
        """All that ends by then, each thing at its limit; and what starts for it."""
        while limits := [one for one in self._limits() if one[0] <= until]:
            self.at, number = max(self.at, min(limits)[0]), min(limits)[1]
            self.engine.apply(self.engine.decide(Finish(self.at, number, self._attempt(number), exit=0)))
            if not any(limit <= self.at for limit, _ in self._limits()):
                self.schedule()
        self.at = until
        self.schedule()

    def told(self):
        """The first start of each job by the plan, and whether a budget keeps one back."""
        plan = self.engine.plans.plan_of(self.at, self.engine.plans.in_order(self.at))
        places = {
            job: (one.start_ms, tuple(sorted(each.node for each in one.allocations)))
            for job, one in plan.placements.items()
        }
        return places, any(one.kind == "budget" for one in plan.unplaced.values())

    def instants(self, places):
        windows = [instant for one in self.engine.plans.windows for instant in (one.begins_ms, one.ends_ms)]
        return sorted({instant for instant in (*windows, *(start for start, _ in places.values())) if instant > NOW})

    def _limits(self):
        return [(job.end_limit_ms, job.number) for job in self.engine.state.running()]

    def _attempt(self, number):
        return self.engine.state.jobs[number].attempt


def lived(draw, site, fast=False):
    """A site with some jobs running and some waiting."""
    course = Course(site, fast)
    for _ in range(draw.number(2, 14)):
        request = replace(draw.request(), after=(), retries=Retries(0, ()), again_at_overtime=False)
        course.submit(request, USERS[draw.number(0, 2)])
        if draw.one_of([True, False, False]):
            course.schedule()
            course.run_until(course.at + draw.number(0, 900) * 1000)
    course.schedule()
    return course


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 2**32), st.booleans())
def test_if_nothing_changes_every_job_starts_when_and_where_the_plan_says(seed, fast):
    draw = Draw(seed)
    accounts = tuple(replace(one, **UNCHANGED) for one in draw.site().accounts)
    site = replace(
        draw.site(), accounts=accounts, policy="planned", plan_depth=1000, standing=Standing(account_h=0, user_h=0)
    )
    course = lived(draw, site, fast)
    told, for_budget = course.told()
    if for_budget:
        return  # jobs that a budget keeps back have no place, and may get one when something else was charged
    course.starts.clear()
    for instant in course.instants(told):
        course.run_until(max(course.at, instant))
    if not course.gave_way:  # whoever is stopped for others waits anew
        assert {job: course.starts.get(job) for job in told} == told


@pytest.mark.parametrize("at_once", [None, 2])
def test_a_job_behind_a_long_array_is_not_told_that_it_starts_before_the_array_is_through(at_once):
    """An array with more rounds than are placed one by one: the rest hold their room as blocks."""
    course = Course(replace(small_site((2, 2)), standing=Standing(account_h=0, user_h=0, size_h=0)))
    whole = Request("j", "silt", ("all",), "steady", 600, Memory(1), None, 1, 2 if at_once is None else 1, grace_s=0)
    course.submit(replace(whole, array=Array(((1, 100, 1),), at_once)), "ada")
    behind = replace(whole, ranks=2, threads=2, nodes=2, walltime_s=60)
    course.submit(behind, "bo")
    course.schedule()
    (start, _), rounds = course.told()[0][2], 100 // 2
    assert start == NOW + rounds * 600_000
    course.run_until(start)
    assert course.starts[2][0] == start


def test_the_order_of_nodes_follows_from_request_and_site():
    """Fewest traits that weren't requested, nodes of fewest queues, the smallest that fits, then the name."""
    site = small_site((16, 8, 8, 8, 4, 8))  # n1, n3 and n5 have a trait; n6 is in two queues
    table = NodeTable(site)

    def order(measure=None, **more):
        request = Request("j", "silt", ("all",), "steady", 60, **{"memory": Memory(1), "nodes": 1, "ranks": 1, **more})
        nodes, need = slice(None), needs(request, site.queue["all"], site)
        return [table.names[place] for place in node_order(table, nodes, need, measure).argsort()]

    assert order() == ["n2", "n4", "n6", "n5", "n3", "n1"]
    assert order(CORES, whole_nodes=True) == ["n5", "n2", "n4", "n6", "n3", "n1"]
    assert order(CORES, nodes=None, anywhere=True, ranks=16)[0] == "n1"  # as few nodes as may be


@pytest.mark.parametrize("at_once", [None, 3])
def test_arrays_in_blocks_are_placed_alike_by_both_searches_and_by_a_fresh_engine(at_once):
    """Blocks of several lengths, and single jobs like their tasks behind them that fit before a window."""
    window = Window(("n1", "n2", "n3"), NOW + 10_000_000, NOW + 12_000_000, "pumps")
    course = Course(small_site((2, 4, 4), (window,)), fast=True)
    one = Request("j", "silt", ("all",), "steady", 600, Memory(1), None, 1, 2, grace_s=0)
    for number, user in enumerate(USERS):
        course.submit(replace(one, array=Array(((1, 60 + number, 1),), at_once)), user)
        course.submit(one, user)
        course.submit(replace(one, ranks=3, walltime_s=900), user)
    course.schedule()
    for _ in range(8):
        course.run_until(course.at + 600_000)
        fresh = Engine(course.engine.site, course.engine.state)
        plan = fresh.plans.plan_of(course.at, fresh.plans.in_order(course.at))
        assert plan.placements == course.engine.plans.plan(course.at).placements != {}
