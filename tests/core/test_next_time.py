"""Advice for the next run: seldom too small, never below what failed, and what it grows with."""

import math
import random
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import linregress

from lazy_quarry.core.advice.next_time import RunToLearnFrom, bound_of, next_time, round_memory, round_time
from lazy_quarry.core.advice.scaling import amdahl, power_law, scaling
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
    late = [run.walltime_s for run in past if run.late]
    assert found.runs == len(past) and found.saved_core_hours >= 0
    if found.walltime_s is None:
        assert not done and not late
        return
    assert all(found.walltime_s > value for value in late)
    if found.walltime.growth is None:
        assert all(found.walltime_s >= value for value in done)
    if found.memory is not None:
        assert all(found.memory_mib > run.requested_mib for run in past if run.full)


@pytest.mark.parametrize("count", [10, 30, 100])
def test_from_ten_runs_on_at_most_one_in_fifty_needs_more(count):
    chance, small = random.Random(count), 0
    for _ in range(600):
        *known, coming = (math.exp(chance.gauss(7, 0.5)) for _ in range(count + 1))
        small += coming > next_time([RunToLearnFrom(value, 0, 1, 1, 0, 0) for value in known]).walltime_s
    assert small / 600 <= 0.035  # one in fifty, and what six hundred draws may stray


def test_a_use_that_grows_with_a_parameter_is_recognised_and_followed():
    def run(n, factor=1.0):
        return RunToLearnFrom(3 * n**1.5 * factor, 10.0, 1, 1, 86_400, 100, parameters=(("n", str(n)), ("kind", "a")))

    known = [run(n, factor) for n in (10, 20, 40, 80) for factor in (0.95, 1.0, 1.05)]
    found = next_time(known, ((("n", "160"), ("kind", "a")),))
    assert found.walltime.growth.parameter == "n" and 1.4 < found.walltime.growth.power < 1.6
    assert 3 * 160**1.5 < found.walltime_s < 3 * 160**1.5 * 2
    assert next_time(known).walltime_s < found.walltime_s and next_time([]) is None


def test_few_runs_and_failures_alone():
    assert bound_of([]) is None
    alone = bound_of([], failed=[600.0])
    assert alone.value == 1200 and alone.only_failed
    assert bound_of([100.0]).value == 250 and bound_of([100.0], failed=[400.0]).above_failed
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
    assert abs(found.fit.serial - serial) < 0.03 and found.fit.serial_error < 0.05
    assert found.points[0].speedup == pytest.approx(1.0, abs=0.05) and found.points[-1].cores == 32
    whole = [point.efficiency for point in found.points]
    assert all(a >= b - 0.1 for a, b in pairwise(whole)) and not found.few
    assert amdahl(0.1, 10) == pytest.approx(1 / (0.1 + 0.09))


def test_beyond_which_cores_the_half_is_lost_is_told_and_few_points_are_said_to_be_few():
    found = scaling([(cores, 1000 * (0.05 + 0.95 / cores)) for cores in (1, 2, 4, 8, 16)])
    assert found.half_at == 9 and "beyond 9 cores each further core does less than half its work" in found.advice
    two = scaling([(1, 100.0), (4, 30.0)])
    assert two.few and "few" in two.advice
    one = scaling([(4, 30.0)])
    assert one.fit is None and "other core counts" in one.advice and scaling([]) is None


def test_a_larger_input_has_a_walltime_with_its_range():
    chance = random.Random(5)
    known = [
        (size, 2.5 * size**1.3 * math.exp(chance.gauss(0, 0.05))) for size in (10, 20, 50, 100, 200) for _ in range(2)
    ]
    law = power_law(known)
    assert abs(law.power - 1.3) < 0.1 and law.runs == 10
    low, middle, high = law.at(1000)
    assert low < 2.5 * 1000**1.3 < high and low < middle < high and power_law(known[:2]) is None


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
    theirs = linregress(xs, ys)
    assert line.slope == pytest.approx(theirs.slope, abs=1e-9 / unit)
    assert line.at(0.0) == pytest.approx(theirs.intercept, rel=1e-6, abs=1e-6)
    level = len(set(ys)) == 1  # theirs has no error and no correlation then
    assert line.error == pytest.approx(0.0 if level else theirs.stderr, rel=1e-6, abs=1e-5 / unit)
    assert line.alike == pytest.approx(0.0 if level else theirs.rvalue, abs=1e-6)
