import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.job.needs import deal, needs
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan import compiled
from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import FAR, PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Closure, Window
from lazy_quarry.errors import Refused
from tests.conftest import small_site

NOW = 1_000_000


def ask(number, ranks=1, nodes=None, walltime_s=600, threads=1, mib=100, **more):
    request = Request(
        "j", "silt", ("all",), "steady", walltime_s, Memory(mib), nodes, ranks, threads, grace_s=0, **more
    )
    return PlanRequest(number, request)


def plan(requests, running=(), site=None, **more):
    site = site or small_site()
    return make_plan(Planner(site, **more.pop("planner", {})), NOW, running, requests, **more)


def start_of(plan, job):
    return plan.placements[job].start_ms - NOW


@given(st.integers(1, 200), st.integers(1, 20))
def test_ranks_are_dealt_as_evenly_as_can_be(ranks, nodes):
    if ranks < nodes:
        return
    dealt = deal(ranks, nodes)
    assert sum(count for count, _ in dealt) == nodes
    assert sum(count * each for count, each in dealt) == ranks
    assert max(each for _, each in dealt) - min(each for _, each in dealt) <= 1


@pytest.mark.parametrize(
    ("per", "each"),
    [("core", 1000 * 5 * 2), ("rank", 1000 * 5), ("node", 1000), ("job", 500)],
)
def test_memory_on_a_node_follows_what_it_is_counted_by(per, each):
    request = Request("j", "silt", ("all",), "steady", 60, Memory(1000, per), 2, 10, 2)
    site = small_site((32, 32))
    assert needs(request, site.queue["all"], site).parts[0].memory_mib == each


def test_as_few_nodes_as_the_ranks_fit_on():
    site = small_site((8, 8, 8, 8))
    need = needs(ask(1, ranks=20).request, site.queue["all"], site)
    assert [(part.nodes, part.ranks) for part in need.parts] == [(2, 7), (1, 6)]


def test_a_job_that_fits_starts_now_on_the_tightest_node():
    placed = plan([ask(1, ranks=8)]).placements[1]
    assert placed.start_ms == NOW
    assert [node.node for node in placed.allocations] == ["n2"]  # as tight as n1, and without a trait not asked for


def test_a_job_waits_for_the_walltime_of_what_runs():
    running = [
        PlannedAllocation(f"n{number}", NOW + 500_000, (cores, 0, 0, 0)) for number, cores in ((1, 8), (2, 8), (3, 16))
    ]
    assert start_of(plan([ask(1, ranks=4)], running), 1) == 500_000


def test_a_short_job_behind_fills_the_gap_and_a_long_one_does_not():
    running = [PlannedAllocation("n3", NOW + 600_000, (16, 0, 0, 0))]
    whole = ask(1, ranks=24, nodes=3, walltime_s=600)
    found = plan([whole, ask(2, ranks=8, walltime_s=600), ask(3, ranks=8, walltime_s=601)], running)
    assert start_of(found, 1) == 600_000
    assert start_of(found, 2) == 0
    assert start_of(found, 3) == 600_000  # beside the first, on the large node


def test_uneven_ranks_need_enough_large_nodes():
    placed = plan([ask(1, ranks=17, nodes=2)]).placements[1]
    assert [(node.node, node.ranks) for node in placed.allocations] == [("n3", 9), ("n2", 8)]


def test_whole_nodes_are_held_whole():
    placed = plan([ask(1, ranks=2, nodes=2, whole_nodes=True)]).placements[1]
    assert [node.amount[0] for node in placed.allocations] == [8, 8]
    busy = [PlannedAllocation("n1", NOW + 60_000, (1, 0, 0, 0)), PlannedAllocation("n2", NOW + 60_000, (1, 0, 0, 0))]
    assert start_of(plan([ask(1, ranks=2, nodes=2, whole_nodes=True)], busy), 1) == 60_000


def test_closed_nodes_and_windows_are_counted_as_taken():
    closed = [Closure("n3", "broken")]
    assert plan([ask(1, ranks=16, nodes=1)], closures=closed).unplaced == {
        1: Unplaced("nodes", "no node that could take it is open")
    }
    window = [Window(("n1", "n2", "n3"), NOW + 300_000, NOW + 900_000, "work")]
    found = plan([ask(1, walltime_s=301), ask(2, walltime_s=300)], windows=window)
    assert (start_of(found, 1), start_of(found, 2)) == (900_000, 0)


def test_not_before_is_waited_for():
    assert start_of(plan([ask(1, not_before_ms=NOW + 5_000)]), 1) == 5_000


def test_gpus_traits_and_names_choose_nodes():
    assert plan([ask(1, gpus=1)]).placements[1].allocations[0].node == "n3"
    assert plan([ask(1, traits="not fast")]).placements[1].allocations[0].node == "n2"
    assert plan([ask(1, on_nodes=("n1",))]).placements[1].allocations[0].node == "n1"


def test_any_of_the_queues_that_starts_sooner():
    running = [PlannedAllocation("n3", NOW + 600_000, (16, 0, 0, 0))]
    found = plan([PlanRequest(1, Request("j", "silt", ("last", "all"), "steady", 600, Memory(1), 1))], running)
    assert (found.placements[1].queue, start_of(found, 1)) == ("all", 0)


def test_an_overdue_job_still_holds_its_place():
    running = [
        PlannedAllocation(f"n{number}", NOW - 5, (cores, 0, 0, 0)) for number, cores in ((1, 8), (2, 8), (3, 16))
    ]
    assert start_of(plan([ask(1)], running), 1) > 0


def test_beyond_the_depth_jobs_start_only_where_they_delay_nobody():
    requests = [ask(1, ranks=24, nodes=3, walltime_s=100)]
    requests += [
        ask(2, ranks=16, nodes=1, walltime_s=99),
        ask(3, ranks=1, walltime_s=50),
        ask(4, ranks=16, nodes=1, walltime_s=98),
    ]
    found = plan(requests, planner={"depth": 1})
    assert set(found.placements) == {1, 2, 3}
    assert start_of(found, 3) == 0


def test_starts_are_read_from_the_same_plan_as_forecasts():
    requests = [ask(number, ranks=8, walltime_s=100 + number) for number in range(12)]
    early, whole = plan(requests), plan(requests)
    first = early.starting()
    assert whole.placements == early.placements
    assert first == [place for place in whole.placements.values() if place.start_ms == NOW]


def test_no_queue_that_could_ever_serve_is_refused_with_a_reason():
    site = small_site()
    with pytest.raises(Refused, match="memory comes to"):
        needs(ask(1, mib=999_999).request, site.queue["all"], site)


JOBS = st.lists(
    st.builds(
        lambda ranks, nodes, walltime, threads, mib, whole: (ranks, nodes, walltime, threads, mib, whole),
        st.integers(1, 16),
        st.sampled_from([None, None, 1, 2, 3]),
        st.integers(1, 50),
        st.sampled_from([1, 1, 2]),
        st.sampled_from([50, 500, 1000]),
        st.booleans(),
    ),
    max_size=14,
)
RUNNING = st.lists(st.tuples(st.integers(1, 3), st.integers(1, 3), st.integers(1, 60)), max_size=5)


def possible(jobs, site):
    requests = []
    for number, (ranks, nodes, walltime, threads, mib, whole) in enumerate(jobs, 1):
        one = ask(number, max(ranks, nodes or 1), nodes, walltime, threads, mib, whole_nodes=whole)
        try:
            needs(one.request, site.queue["all"], site)
        except Refused:
            continue
        requests.append(one)
    return requests


def used_at(site, at, running, placements):
    used = {node.name: np.zeros(4, dtype=int) for node in site.nodes}
    for held in running:
        if at < held.until_ms:
            used[held.node] += np.array(held.amount)
    for place in placements:
        if place.start_ms <= at < place.end_ms:
            for node in place.allocations:
                used[node.node] += np.array(node.amount)
    return used


@given(JOBS, RUNNING)
def test_the_plan_never_gives_more_than_a_node_has(jobs, held):
    site = small_site()
    running = [
        PlannedAllocation(f"n{node}", NOW + seconds * 1000 + 60_000, (cores, 100, 0, 0))
        for node, cores, seconds in held
    ]
    running = [
        one
        for number, one in enumerate(running)
        if sum(o.amount[0] for o in running[: number + 1] if o.node == one.node) <= 8
    ]
    found = plan(possible(jobs, site), running, site)
    instants = {NOW} | {place.start_ms for place in found.placements.values()}
    for at in instants:
        for name, used in used_at(site, at, running, found.placements.values()).items():
            node = site.node[name]
            assert (used <= np.array((node.cores, node.memory_mib, node.gpus, node.scratch_mib))).all()


@given(JOBS)
def test_every_possible_job_is_placed_and_none_is_delayed_by_one_behind_it(jobs):
    site = small_site()
    requests = possible(jobs, site)
    found = plan(requests, site=site)
    assert set(found.placements) == {one.job for one in requests}
    for count in range(len(requests)):
        alone = plan(requests[: count + 1], site=site)
        job = requests[count].job
        assert alone.placements[job] == found.placements[job]


@given(JOBS)
def test_no_job_could_start_sooner_than_the_plan_says(jobs):
    site = small_site()
    requests = possible(jobs, site)
    planner = Planner(site)
    timeline = Timeline(planner.table, NOW)
    for one in requests:
        place = planner.place(timeline, one)
        before = {at for at in (NOW, place.start_ms - 1) if NOW <= at < place.start_ms}
        for at in before:
            assert not fits_at(planner, timeline, one, at)
        planner.occupy(timeline, place)


@st.composite
def busy_sites(draw):
    """A site that is partly busy and closed, and requests of a few kinds in no order."""
    cores = draw(st.lists(st.sampled_from([4, 8, 8, 16]), min_size=2, max_size=6))
    site = small_site(tuple(cores))
    numbers = st.integers(0, len(cores) - 1)
    held = [
        PlannedAllocation(f"n{node + 1}", NOW + end * 60_000, (taken, taken * 100, 0, 0))
        for node, taken, end in draw(st.lists(st.tuples(numbers, st.integers(1, 2), st.integers(1, 30)), max_size=5))
    ]
    shape = st.fixed_dictionaries(
        {
            "ranks": st.sampled_from([1, 2, 4, 6, 12]),
            "nodes": st.sampled_from([None, None, 1, 2, 3]),
            "walltime_s": st.sampled_from([60, 300, 600, 3600]),
            "threads": st.sampled_from([1, 2]),
            "whole_nodes": st.sampled_from([False, False, True]),
            "not_before_ms": st.sampled_from([None, None, NOW + 90_000, NOW + 3_000_000]),
            "anywhere": st.sampled_from([False, False, True]),
        }
    )
    kinds = [one for one in draw(st.lists(shape, min_size=1, max_size=8)) if (one["nodes"] or 1) <= one["ranks"]]
    kinds = [{**one, "nodes": None, "whole_nodes": False} if one["anywhere"] else one for one in kinds]
    closed = [Closure(f"n{node + 1}", "broken") for node in draw(st.lists(numbers, max_size=1))]
    windows = [
        Window(tuple(f"n{node + 1}" for node in nodes), NOW + begin * 60_000, NOW + (begin + length) * 60_000, "work")
        for nodes, begin, length in draw(
            st.lists(
                st.tuples(st.lists(numbers, min_size=1, unique=True), st.integers(-5, 30), st.integers(1, 60)),
                max_size=3,
            )
        )
    ]
    asked = [draw(st.sampled_from(kinds)) for _ in range(draw(st.integers(0, 30)))] if kinds else []
    return site, held, asked, closed, windows


@given(busy_sites())
def test_the_compiled_search_finds_the_same_places_as_the_other(busy):
    site, held, shapes, closures, windows = busy
    requests = [ask(number, **shape) for number, shape in enumerate(shapes)]
    planners = [Planner(site), Planner(site)]
    planners[1].kernels = compiled
    idle = Timeline(planners[0].table, NOW, held).idle()
    asked = [*requests, *(ask(100 + ranks, ranks=ranks, anywhere=True) for ranks in range(1, 25))]
    assert [planners[1].fits(one, idle) for one in asked] == [planners[0].fits(one, idle) for one in asked]
    plain, fast = (make_plan(planner, NOW, held, requests, closures=closures, windows=windows) for planner in planners)
    assert fast.starting() == plain.starting()
    assert fast.placements == plain.placements and fast.unplaced == plain.unplaced
    # What starts is told without placing all: it is the same as what a whole plan begins with.
    assert {one.job for one in plain.starting()} == {
        number for number, one in plain.placements.items() if one.start_ms <= NOW
    }
    names = [node.name for node in site.nodes]
    for each in (plain, fast):
        assert [each.timeline.free_at(NOW + at).tolist() for at in (0, 90_000, 10**7)] == [
            plain.timeline.free_at(NOW + at).tolist() for at in (0, 90_000, 10**7)
        ], names


def fits_at(planner, timeline, one, at):
    """The slow and plain answer: count nodes that are free at every instant of the walltime."""
    need = planner.needs(one.request)[0]
    table = planner.table
    wanted, hosts = 0, set()
    for part in need.parts:
        wanted += part.nodes
        able = set()
        for name in need.eligible:
            node = table.index[name]
            amount = (
                table.capacity[:, node] if need.whole else (part.cores, part.memory_mib, need.gpus, need.scratch_mib)
            )
            if (table.capacity[:, node] < (part.cores, part.memory_mib, need.gpus, need.scratch_mib)).any():
                continue  # a whole node must still be large enough
            times = [at, *(t for t in timeline.times[node] if at < t < at + one.request.walltime_s * 1000)]
            if all(
                (timeline.free[:, node, np.searchsorted(timeline.times[node], t, "right") - 1] >= amount).all()
                for t in times
            ):
                able.add(name)
        if len(able) < wanted:
            return False
        hosts |= able
    return True


def test_a_timeline_grows_and_keeps_its_sums():
    table = NodeTable(small_site())
    timeline = Timeline(table, NOW, [PlannedAllocation("n1", NOW + 10, (3, 5, 0, 0))])
    for number in range(40):
        timeline.allocate(0, NOW + 100 + 10 * number, NOW + 105 + 10 * number, (1, 0, 0, 0))
    timeline.allocate(0, NOW + 1000, FAR, (8, 0, 0, 0))
    assert timeline.free_at(NOW)[0, 0] == 5
    assert timeline.free_at(NOW + 10)[0, 0] == 8
    assert timeline.free_at(NOW + 493)[0, 0] == 7
    assert timeline.free_at(NOW + 10**9)[0, 0] == 0
