"""Advice for the next run: seldom too small, never below what failed, and what it grows with."""

import math
import random
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.advice.growth_law import growth_law
from lazy_quarry.core.advice.next_time import (
    Doubt,
    Measured,
    RunToLearnFrom,
    bound_of,
    next_time,
    round_memory,
    round_time,
)
from lazy_quarry.core.advice.scaling import amdahl, scaling
from lazy_quarry.core.advice.straight_line import line_through

runs = st.builds(
    RunToLearnFrom,
    st.floats(1, 1e6), st.floats(0, 1e6), st.integers(1, 512), st.floats(0, 600), st.integers(60, 10**6), st.floats(1, 1e6),
    st.booleans(), st.booleans(),
    st.lists(st.tuples(st.sampled_from(["n", "grid"]), st.sampled_from(["1", "2", "10", "1e3", "fine", "nan", "-4"])), max_size=2).map(tuple),
)  # fmt: skip


@given(st.lists(runs, min_size=1, max_size=80), st.lists(st.just((("n", "20"),)), max_size=3))
def test_advice_is_above_every_run_and_above_what_was_seen_to_fail(past, ahead):
    found = next_time(past, tuple(ahead))
    done = [run.took_s for run in past if not run.late and not run.full]
    late = [run.walltime_s for run in past if run.late and not run.full]
    assert found.runs == len(past) and found.saved_core_hours >= 0
    if found.walltime_s is None:
        assert not done and not late
        return
    assert all(found.walltime_s > value for value in late)
    if found.walltime.growth is None and found.walltime.change is None:
        assert all(found.walltime_s >= value for value in done) or found.walltime.above < len(past) / 40
    assert (found.walltime.doubt is None) <= (len(done) >= 10)  # nothing is promised from fewer
    if found.memory is not None:
        assert all(found.memory_mib > run.requested_mib for run in past if run.full)


def measured(*values, stopped=(), own=lambda at: ()):
    """Runs, the newest first, from values with the oldest first; ``stopped`` are the places of those that were not enough."""
    return [Measured(value, at not in stopped, own(at), 1000 * at) for at, value in enumerate(values)][::-1]


def stopped_at(chance, count):
    values = [1000 * math.exp(chance.gauss(0, 0.4)) for _ in range(count)]
    return measured(
        *(min(value, 1300) for value in values), stopped={at for at, value in enumerate(values) if value > 1300}
    )


HISTORIES = {
    "even": (lambda chance, at, count: 1000 * math.exp(chance.gauss(0, 0.4)), None),
    "trend": (lambda chance, at, count: 1000 * 1.03**at * math.exp(chance.gauss(0, 0.2)), None),
    "update": (
        lambda chance, at, count: 1000 * (1.6 if at >= count // 2 else 1) * math.exp(chance.gauss(0, 0.2)),
        None,
    ),
    "humps": (lambda chance, at, count: chance.choice((500, 2500)) * math.exp(chance.gauss(0, 0.1)), None),
    "heavy": (lambda chance, at, count: 500 * chance.paretovariate(1.5), None),
    "stopped": (lambda chance, at, count: 1000 * math.exp(chance.gauss(0, 0.4)), stopped_at),
}


@pytest.mark.parametrize("count", [30, 100])
@pytest.mark.parametrize("shape", HISTORIES)
def test_where_it_is_promised_at_most_one_in_fifty_needs_more(shape, count):
    draw, known = HISTORIES[shape]
    chance, promised, small = random.Random(f"{shape} {count}"), 0, 0
    for _ in range(200):
        past = known(chance, count) if known else measured(*(draw(chance, at, count) for at in range(count)))
        bound, coming = bound_of(past), draw(chance, count, count)
        if bound.doubt is None:
            promised, small = promised + 1, small + (coming > bound.value)
    assert promised > 40 and small / promised <= 0.05  # one in fifty, and what two hundred draws may stray


def test_a_use_that_grows_with_a_parameter_is_followed_and_nothing_is_promised_beyond_what_was_seen():
    def run(n, factor=1.0):
        return RunToLearnFrom(3 * n**1.5 * factor, 10.0, 1, 1, 86_400, 100, parameters=(("n", str(n)), ("kind", "a")))

    known = [run(n, factor) for n in (10, 20, 40, 80) for factor in (0.95, 1.0, 1.05)]
    found = next_time(known, ((("n", "160"), ("kind", "a")),))
    assert found.walltime.growth.parameter == "n" and 1.4 < found.walltime.growth.power < 1.6
    assert 3 * 160**1.5 < found.walltime_s < 3 * 160**1.5 * 2 and found.walltime.doubt is Doubt.BEYOND
    within = next_time(known, ((("n", "40"), ("kind", "a")),))
    assert within.walltime.doubt is None and within.walltime_s < found.walltime_s and next_time([]) is None
    # With a set-up time the power is small; a straight line tells what a large size needs.
    sizes = [1, 2, 4, 8, 16] * 3
    past = measured(*(600 + 60.0 * size for size in sizes), own=lambda at: (("n", str(sizes[at])),))
    assert 600 + 60 * 200 <= bound_of(past, [(("n", "200"),)]).value < 1.6 * (600 + 60 * 200)


@pytest.mark.parametrize(
    ("values", "stopped", "ahead", "doubt"),
    [
        ([100 + at for at in range(12)], {}, 0, None),
        ([100 + at for at in range(9)], {}, 0, Doubt.FEW),
        ([100, 400] * 6, {}, 0, Doubt.SPREAD),
        ([100, 400] * 15, {}, 0, None),
        ([100] * 20, set(range(0, 20, 2)), 0, Doubt.STOPPED),
        ([100] * 4, {0, 1, 2, 3}, 0, Doubt.ONLY_STOPPED),
        ([100, 400] * 15, {}, 40, Doubt.TASKS),
        ([100 + at for at in range(12)], {}, 40, None),
    ],
)
def test_what_cannot_be_promised_says_why(values, stopped, ahead, doubt):
    assert bound_of(measured(*values, stopped=stopped), [(("n", "1"),)] * ahead).doubt is doubt


def test_changes_are_seen_and_told():
    chance = random.Random(4)
    spread = [math.exp(chance.gauss(0, 0.1)) for _ in range(20)]
    update = bound_of(measured(*(1000 * (1.6 if at >= 13 else 1) * one for at, one in enumerate(spread))))
    assert (update.change.since_ms, update.change.runs, update.change.each) == (13_000, 7, False)
    assert update.change.factor == pytest.approx(1.6, rel=0.1) and 1600 < update.value < 2900
    faster = bound_of(measured(*(1000 * (0.4 if at >= 13 else 1) * one for at, one in enumerate(spread))))
    assert faster.value < 700 and faster.change.factor < 0.5
    trend = bound_of(measured(*(1000 * 1.05**at * one for at, one in enumerate(spread))))
    assert trend.change.each and trend.change.factor == pytest.approx(1.05, abs=0.01) and trend.value > 1000 * 1.05**20
    assert bound_of(measured(*spread)).change is None
    assert bound_of(measured(*[1000.0] * 11, 3000.0)).value > 3000  # one may be the first of a new kind
    tasks = [Measured(1000 * 1.05**at, submission=7) for at in range(40)][::-1]  # they differ by what they were given
    assert bound_of(tasks).change is None and bound_of(tasks).value < 1000 * 1.05**40 * 2
    arrays = [
        Measured(1000 * 1.05**at * (2 if array > 5 else 1), began_ms=array, submission=array)
        for array in range(1, 10)
        for at in range(8)
    ]
    assert (bound_of(arrays[::-1]).change.since_ms, bound_of(arrays[::-1]).change.runs) == (6, 32)


@given(st.integers(1, 40), st.floats(0.01, 0.3), st.integers(1, 40), st.integers(0, 10**6))
def test_three_tries_reach_forty_times_what_was_needed_before(count, spread, factor, seed):
    chance = random.Random(seed)
    past = measured(*(1000 * math.exp(chance.gauss(0, spread)) for _ in range(count)))
    needs, tries = 1000.0 * factor, 0
    while (asked := bound_of(past).value) < needs:
        tries += 1
        past = [Measured(asked, enough=False), *past]
    assert tries <= 3
    again = [Measured(asked, enough=False)] * 5
    assert bound_of([*again, *past]).value <= asked * 8 * 1.3  # the same walltime again and again tells nothing more


def test_a_few_runs_far_above_all_others_are_told_apart():
    found = bound_of(
        measured(*(1000 + at * 7 % 31 for at in range(20)), 14_000, *(1000 + at * 7 % 31 for at in range(20, 31)))
    )
    assert found.value > 14_000 and (found.for_most.count, found.for_most.runs) == (31, 32)
    assert found.for_most.most == pytest.approx(1030) and 1030 < found.for_most.value < 1500
    assert bound_of(measured(*(1000 + 40 * at for at in range(32)))).for_most is None
    assert bound_of(measured(*[1000] * 20, *[9000] * 12)).for_most is None  # not few
    assert (
        bound_of(measured(*[1000.0, 1050.0] * 50, 9000.0, *[1000.0, 1050.0] * 5)).value < 1500
    )  # seldom enough to keep the promise without it


def test_few_runs_and_failures_alone():
    assert bound_of([]) is None
    alone = bound_of([Measured(600.0, enough=False)])
    assert alone.value == 1200 and alone.only_failed and alone.stopped_in_row == 1
    assert bound_of([Measured(100.0)]).value == pytest.approx(250)
    assert bound_of([Measured(400.0, enough=False), Measured(100.0)]).value == 800
    assert bound_of(measured(*[100.0] * 30, 130.0, stopped={30})).above_failed
    assert [round_time(value) for value in (1, 61, 1801, 7201, 40_000)] == [60, 120, 2100, 8100, 43_200]
    assert [round_memory(value) for value in (1, 300, 3000, 20_000)] == [16, 320, 3072, 20_480]


# -- scaling --------------------------------------------------------------------------------------


@pytest.mark.parametrize(("serial", "noise"), [(0.02, 0.0), (0.1, 0.02), (0.5, 0.02), (0.0, 0.01)])
def test_the_law_of_made_up_runs_is_found(serial, noise):
    chance = random.Random(3)
    known = [
        (cores, 1000 * (serial + (1 - serial) / cores) * (1 + chance.gauss(0, noise)))
        for cores in (1, 2, 4, 8, 16, 32)
        for _ in range(3)
    ]
    found = scaling(known)
    assert found.fit.serial_low - 0.02 <= serial <= found.fit.serial_high + 0.02
    assert abs(found.fit.serial - serial) < 0.03 and found.fit.serial_high - found.fit.serial_low < 0.05
    assert found.points[0].speedup == pytest.approx(1.0, abs=0.05) and found.points[-1].cores == 32
    whole = [point.efficiency for point in found.points]
    assert all(a >= b - 0.1 for a, b in pairwise(whole)) and not found.few
    assert amdahl(0.1, 10) == pytest.approx(1 / (0.1 + 0.09))


def test_beyond_which_cores_the_half_is_lost_is_told_and_few_points_are_said_to_be_few():
    found = scaling([(cores, 1000 * (0.05 + 0.95 / cores)) for cores in (1, 2, 4, 8, 16)])
    assert (
        found.half_at == 9 and "beyond 9 cores (8 to 9) each further core does less than half its work" in found.advice
    )
    pulled = scaling([(1, 100.0), (2, 52.0), (4, 27.0), (8, 30.0), (16, 8.0)])
    assert [pull.cores for pull in pulled.pulls] == [8] and "runs on 8 cores took 2.1 times" in pulled.advice
    assert not found.pulls
    two = scaling([(1, 100.0), (4, 30.0)])
    assert two.few and "few" in two.advice
    one = scaling([(4, 30.0)])
    assert one.fit is None and "other core counts" in one.advice and scaling([]) is None


@pytest.mark.parametrize(
    ("law", "set_up", "least"),
    [
        (lambda size: 2.5 * size**1.3, False, 14),
        (lambda size: 600 + 6 * size, True, 14),
        (lambda size: 600 + 0.3 * size**1.5, True, 14),
        (lambda size: size * math.log(size), False, 5),  # it is no sum of a set-up and a power
    ],
    ids=["power", "set-up and line", "set-up and power", "n log n"],
)
def test_a_larger_input_has_a_time_with_a_range_that_holds(law, set_up, least):
    """Also four times beyond the sizes that ran, where laws part."""
    held, told = 0, 0
    for seed in range(25):
        chance = random.Random(seed)
        known = [
            (size, law(size) * math.exp(chance.gauss(0, 0.03))) for size in (10, 20, 50, 100, 200) for _ in range(2)
        ]
        found = growth_law(known)
        low, middle, high = found.at(800)
        assert low < middle < high and (found.runs, found.largest) == (10, 200)
        held += low <= law(800) * math.exp(chance.gauss(0, 0.03)) <= high
        told += found.has_set_up
    assert held >= least  # 8 in 10, and what 25 draws may stray
    assert told >= 20 if set_up else told <= 5
    assert growth_law([(1, 5.0), (2, 6.0)]) is None and growth_law([(1, 5.0)] * 4) is None


@given(
    st.lists(st.tuples(st.integers(-50, 50), st.integers(-900, 900)), min_size=3, max_size=12),
    st.sampled_from([0.01, 1.0, 1000.0]),
)
def test_a_line_is_what_least_squares_say(points, unit):
    """Against another's fit: slope, height, error of the slope and correlation; none through points of one x."""
    xs, ys = [x * unit for x, _ in points], [float(y) for _, y in points]
    line = line_through(list(zip(xs, ys, strict=True)))
    if len(set(xs)) < 2:
        assert line is None
        return
    from scipy.stats import linregress  # loaded by the process that asks it, not by all that read this file

    theirs = linregress(xs, ys)
    assert line.slope == pytest.approx(theirs.slope, abs=1e-9 / unit)
    assert line.at(0.0) == pytest.approx(theirs.intercept, rel=1e-6, abs=1e-6)
    level = len(set(ys)) == 1  # theirs has no error and no correlation then
    assert line.error == pytest.approx(0.0 if level else theirs.stderr, rel=1e-6, abs=1e-5 / unit)
    assert line.alike == pytest.approx(0.0 if level else theirs.rvalue, abs=1e-6)
