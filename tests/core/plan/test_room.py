"""Room now: what it promises does start at once, and nothing greater of its kind would."""

from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.placement import PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.room_search import rooms
from lazy_quarry.core.site import Window
from lazy_quarry.core.values import replace
from tests.conftest import small_site

NOW = 1_000_000


def busy(draws):
    return [
        PlannedAllocation(f"n{node}", NOW + until * 60_000, (cores, cores * 512, 0, 0)) for node, cores, until in draws
    ]


@given(
    st.lists(
        st.tuples(st.integers(1, 3), st.integers(1, 4), st.integers(1, 2000)), max_size=6, unique_by=lambda one: one[0]
    ),
    st.lists(st.tuples(st.integers(1, 16), st.integers(600, 80_000)), max_size=5),
    st.booleans(),
)
def test_a_job_as_large_as_the_room_starts_at_once_and_a_larger_one_does_not(held, waiting, window):
    windows = (Window(("n1",), NOW + 7_200_000, NOW + 9_000_000, "work"),) if window else ()
    site = small_site(windows=windows)
    planner = Planner(site)
    requests = [
        PlanRequest(number, Request("w", "silt", ("all",), "steady", walltime, Memory(512), ranks=ranks))
        for number, (ranks, walltime) in enumerate(waiting, 1)
    ]
    timeline = make_plan(planner, NOW, busy(held), requests, windows=site.windows).whole()
    for room in rooms(planner, timeline, site, site.queue["all"], "silt"):
        if room.request is None:
            continue
        start = planner.place(timeline, PlanRequest(-1, room.request))
        assert start is not None and start.start_ms == NOW
        if room.kind == "one node":
            more = replace(room.request, threads=room.request.threads + 1)
        elif room.kind == "many nodes":
            more = replace(room.request, ranks=room.request.ranks + 1)
        elif room.kind == "whole nodes":
            more = replace(
                room.request, nodes=room.nodes + 1, ranks=room.request.ranks // room.nodes * (room.nodes + 1)
            )
        else:
            continue
        later = planner.place(timeline, PlanRequest(-1, more)) if planner.needs(more) else None
        assert later is None or later.start_ms > NOW


def test_room_is_for_the_whole_walltime():
    site = small_site(cores=(8,), windows=(Window(("n1",), NOW + 2_000_000, NOW + 3_000_000, "work"),))
    planner = Planner(site)
    timeline = make_plan(planner, NOW, [], [], windows=site.windows).whole()
    found = {
        (room.walltime_s, room.kind): room.cores for room in rooms(planner, timeline, site, site.queue["all"], "silt")
    }
    assert found[(900, "one node")] == 8
    assert found[(3600, "one node")] == 0
