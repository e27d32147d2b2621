"""Shapes beyond a fixed number of nodes: ranges, ranks anywhere, GPU memory; trials; arrays and their forecast."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.needs import choices
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.job.sweep import Array, Parameter, make_array, parse_tasks, parse_values
from lazy_quarry.core.job.trial import trial_of
from lazy_quarry.core.plan.array_finish import array_finish
from lazy_quarry.core.plan.placement import PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Tier
from lazy_quarry.core.values import replace
from lazy_quarry.demo.site import oxbow
from lazy_quarry.errors import BadValue, Refused
from tests.conftest import script, small_site

NOW = 1_000_000
PLAIN = Request("j", "silt", ("all",), "steady", 600, Memory(100), grace_s=0)


def placed(request, busy=(), site=None):
    site = site or small_site()
    planner = Planner(site)
    running = [PlannedAllocation(node, NOW + until, (cores, 0, 0, 0)) for node, cores, until in busy]
    return planner.place(make_plan(planner, NOW, running, []).whole(), PlanRequest(1, request))


def counts(place):
    return {one.node: one.ranks for one in place.allocations}


def test_a_range_takes_the_most_nodes_that_start_as_soon():
    free = replace(PLAIN, nodes=1, most_nodes=3, ranks=6)
    assert len(placed(free).allocations) == 3
    busy = [("n1", 8, 60_000), ("n2", 8, 60_000)]
    assert counts(placed(free, busy)) == {"n3": 6}


def test_ranks_that_follow_from_the_nodes_follow_in_a_range():
    place = placed(replace(PLAIN, nodes=2, most_nodes=3, ranks=4, ranks_per_node=2))
    assert [one.ranks for one in place.allocations] == [2, 2, 2]


@given(
    st.integers(1, 32),
    st.integers(1, 4),
    st.lists(
        st.tuples(st.sampled_from(["n1", "n2", "n3"]), st.integers(1, 8)), max_size=3, unique_by=lambda one: one[0]
    ),
)
def test_ranks_anywhere_start_as_soon_as_there_is_room_for_all_of_them(ranks, threads, held):
    site = small_site()
    busy = [(node, cores, 90_000) for node, cores in held]
    request = replace(PLAIN, anywhere=True, ranks=ranks, threads=threads)
    free = {node.name: node.cores - dict(held).get(node.name, 0) for node in site.nodes}
    room = sum(cores // threads for cores in free.values())
    most = sum(node.cores // threads for node in site.nodes)
    if ranks > most:
        with pytest.raises(Refused):
            choices(request, site.queue["all"], site)
        return
    place = placed(request, busy)
    assert place.start_ms == (NOW if ranks <= room else NOW + 90_000)
    assert sum(counts(place).values()) == ranks
    if ranks <= room:
        assert all(free[node] >= each * threads for node, each in counts(place).items())


def test_whole_nodes_anywhere_are_held_whole():
    place = placed(replace(PLAIN, anywhere=True, ranks=20, whole_nodes=True))
    assert sum(one.ranks for one in place.allocations) == 20
    assert all(one.amount[0] in (8, 16) for one in place.allocations)


def test_gpus_must_have_the_memory_that_is_asked_for():
    site = oxbow()
    request = replace(PLAIN, account="commons", queues=("lantern",), gpus=1, gpu_memory_mib=40 * 1024)
    assert choices(request, site.queue["lantern"], site)
    with pytest.raises(Refused, match="48 GiB"):
        choices(replace(request, gpu_memory_mib=80 * 1024), site.queue["lantern"], site)


@pytest.mark.parametrize(
    ("header", "words"),
    [
        ("nodes = 2\nranks-per-node = 4\nranks = 10", "nodes (line 3) and ranks-per-node (line 4)"),
        ("nodes = 4\nranks = 2", "ranks = 2 (line 4)"),
        ('nodes = "any"\nranks-per-node = 4', "ranks-per-node (line 4)"),
        ("nodes = 1\nranks = 20", "ranks here and nodes in line 3 disagree"),
        ('queue = "last"\ntraits = "not fast"', "traits here and queue in line 3 disagree"),
    ],
)
def test_a_contradiction_names_both_lines(header, words):
    found = check_script(script(header), small_site(), CheckContext("ada"))
    assert any(words in one.message for one in found.diagnostics if one.severity == "error"), found.diagnostics


# -- arrays ---------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.integers(0, 50), st.integers(0, 30), st.integers(1, 7)), min_size=1, max_size=3))
def test_tasks_are_numbered_as_their_ranges_say(rows):
    text = ", ".join(f"{first}..{first + more} by {step}" for first, more, step in rows)
    plain = [number for first, more, step in rows for number in range(first, first + more + 1, step)]
    if len(set(plain)) < len(plain):
        with pytest.raises(BadValue, match="twice"):
            parse_tasks(text)
        return
    array = Array(parse_tasks(text))
    assert [array.number(index) for index in range(array.count)] == plain


def test_decimals_keep_their_places_and_both_ends():
    assert parse_values("0.1..0.9 by 0.2") == ("0.1", "0.3", "0.5", "0.7", "0.9")
    assert parse_values("1..3") == ("1", "2", "3")
    for wrong in ("3..1", "1..2 by 0", "a..b"):
        with pytest.raises(BadValue):
            parse_values(wrong)


def test_parameters_are_crossed_the_last_one_fastest_and_tied_ones_go_in_step():
    table = {"sweep": {"a": [1, 2], "b": ["x", "y"], "c": ["p", "q"], "together": [["a", "c"]]}}
    array = make_array(table, {}, {})
    assert array.count == 4
    assert [tuple(array.values(index).values()) for index in range(4)] == [
        ("1", "p", "x"), ("1", "p", "y"), ("2", "q", "x"), ("2", "q", "y"),
    ]  # fmt: skip


def test_parameters_are_read_from_files_columns_and_patterns():
    table = {
        "sweep": {
            "case": {"lines": "cases.txt"},
            "drag": {"column": "drag", "of": "cases.csv"},
            "grid": {"files": "*.nc"},
        }
    }
    texts = {"cases.txt": "north\n\nsouth\n", "cases.csv": 'name,drag\n"a, b",0.1\nc,0.2\n'}
    array = make_array(table, texts, {"*.nc": ("a.nc",)})
    assert (array.count, array.names) == (4, ("case", "drag", "grid"))
    assert array.values(3) == {"case": "south", "drag": "0.2", "grid": "a.nc"}
    for broken in (
        {"case": {"lines": "gone"}},
        {"drag": {"column": "x", "of": "cases.csv"}},
        {"grid": {"files": "*.x"}},
    ):
        with pytest.raises(BadValue):
            make_array({"sweep": broken}, texts, {})


@given(st.integers(1, 60), st.integers(1, 20) | st.none(), st.integers(1, 8))
def test_an_array_is_through_when_its_tasks_laid_one_by_one_would_be(count, at_once, threads):
    planner = Planner(small_site())
    timeline = make_plan(planner, NOW, [PlannedAllocation("n1", NOW + 90_000, (3, 0, 0, 0))], []).whole()
    request = replace(PLAIN, threads=threads)
    found = array_finish(planner, timeline, request, count, at_once)
    field, ends = timeline.copy(), []
    for _ in range(count):
        not_before = sorted(ends)[-at_once] if at_once and len(ends) >= at_once else 0
        place = planner.place(field, PlanRequest(-1, request), not_before)
        planner.occupy(field, place)
        ends.append(place.end_ms)
    if not found.estimated:
        assert found.last_ms == max(ends)
    else:
        assert abs(found.last_ms - max(ends)) <= 0.5 * (max(ends) - NOW)


# -- trying one -----------------------------------------------------------------------------------

TRIED = replace(small_site(), tiers=(Tier("steady"), Tier("trial", 0, walltime_limit_s=300)), trial="trial")
SWEEP = Array(((1, 4, 1),), None, ((Parameter("a", ("1", "2")),), (Parameter("b", ("x", "y")),)))


def test_a_trial_is_one_task_within_the_limits_of_its_tier():
    found = trial_of(replace(PLAIN, array=SWEEP, walltime_s=9000, warn_s=400), TRIED, "ada")
    assert (found.tier, found.walltime_s, found.array, found.warn_s) == ("trial", 300, None, None)
    assert (found.task, found.parameters) == (1, (("a", "1"), ("b", "x")))
    assert trial_of(replace(PLAIN, array=SWEEP), TRIED, "ada", 3).parameters == (("a", "2"), ("b", "x"))
    assert trial_of(replace(PLAIN, array=SWEEP), TRIED, "ada", None, {"a": "9", "b": "z"}).parameters == (
        ("a", "9"),
        ("b", "z"),
    )
    assert trial_of(replace(PLAIN, array=SWEEP), TRIED, "ada", None, {"a": "9"}).parameters == (("a", "9"), ("b", "x"))
    assert trial_of(PLAIN, TRIED, "ada", None, {"cells": "4"}).parameters == (("cells", "4"),)


@pytest.mark.parametrize(("task", "values"), [(5, None), (None, {"c": "1", "a": "1", "b": "1"})])
def test_a_trial_of_no_such_task_is_refused(task, values):
    with pytest.raises(Refused):
        trial_of(replace(PLAIN, array=SWEEP), TRIED, "ada", task, values)


def test_a_site_without_a_tier_for_trying_says_so():
    with pytest.raises(Refused, match="no tier"):
        trial_of(PLAIN, small_site(), "ada")


def test_a_request_too_large_for_the_trial_queue_is_made_smaller():
    found = trial_of(replace(PLAIN, account="commons", queues=("tidal",), ranks=256, nodes=8), oxbow(), "tove")
    assert found.queues == ("trial",) and found.ranks * found.threads <= 32


# -- what earlier runs and the site itself say ----------------------------------------------------


def codes_of(request_words, site=None, folder="", **facts):
    from lazy_quarry.core.header.surroundings import Surroundings

    known = Surroundings(bool(facts or folder), folder, **facts)
    text = script(f'walltime = "1h"\nmemory = "1 GiB/core"\n{request_words}', 'cat "$LQ_NODES"')
    found = check_script(text, site or oxbow(), CheckContext("tove", Submission(text, surroundings=known)))
    return {one.code: one.message for one in found.diagnostics}


def test_heavy_work_in_a_storage_area_unfit_for_it_is_told_where_to_go():
    told = codes_of("nodes = 2\nranks = 2", folder="/home/tove/work")
    assert "/flow is fit for that" in told["storage-unfit"]
    assert "storage-unfit" not in codes_of("nodes = 2\nranks = 2", folder="/flow/tove")
    assert "storage-unfit" not in codes_of("", folder="/home/tove/work")


@pytest.mark.parametrize(
    ("earlier", "code"),
    [
        ({"longest_s": 600}, "walltime-generous"),
        ({"longest_s": 4000}, "walltime-short"),
        ({"longest_s": 3000, "memory_peak_mib": 500}, "memory-generous"),
        ({"longest_s": 3000, "busiest": 1.5}, "cores-idle"),
        ({"longest_s": 3000}, ""),
    ],
)
def test_a_request_is_held_against_earlier_runs_of_its_name(earlier, code):
    from lazy_quarry.core.header.earlier_runs import EarlierRuns, compared_with_earlier

    known = {"runs": 3, "longest_s": 600, "memory_peak_mib": 7000, "busiest": 7.5, "cores": 8} | earlier
    request = replace(PLAIN, walltime_s=3600, threads=8, memory=Memory(1024))
    need = choices(request, small_site().queue["all"], small_site())[0]
    found = [one.code for one in compared_with_earlier(request, need, EarlierRuns(**known), {})]
    assert found == ([code] if code else [])
