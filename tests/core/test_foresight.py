"""Foresight: run times drawn from what is known, ranges that hold as often as they say, trials, warnings."""

import math
import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.advice.forecast_calibration import FEWEST, Hindsight, Waits
from lazy_quarry.core.advice.from_trials import Asked, Tried, advise, expected
from lazy_quarry.core.advice.run_times import ALIKE, AS_MUCH, NEWEST, Chance, RunKind, RunTimes
from lazy_quarry.core.advice.warnings import SURE, SURE_OF_MEMORY, LikeIt, Work, chance_full, chance_late
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from lazy_quarry.site.trial_values import asked_of, sizes_in
from lazy_quarry.study.columns import Columns
from lazy_quarry.study.forecasting import HELD, forecast_trace
from lazy_quarry.study.workload import make_trace

kinds = st.builds(
    RunKind,
    st.sampled_from(["ada", "bo"]),
    st.sampled_from(["", "a", "b"]),
    st.integers(1, 4096),
    st.integers(1, 10**6),
)


# -- run times ------------------------------------------------------------------------------------


@given(st.lists(st.tuples(kinds, st.floats(0, 1e7)), max_size=60), kinds, st.floats(0, 1e6), st.integers(0, 99))
def test_a_drawn_run_time_lies_between_what_has_passed_and_the_walltime(past, kind, elapsed, job):
    times = RunTimes()
    for one, took in past:
        times.learn(one, took)
    drawn = times.draw(kind, elapsed, Chance(1, 20), job)
    assert len(drawn) == 20
    assert ((drawn >= elapsed) & (drawn <= max(kind.walltime_s, elapsed))).all()
    again = times.draw(kind, elapsed, Chance(1, 20), job)
    assert (drawn == again).all(), "the same again, so that ranges don't flicker"


def test_runs_of_the_name_say_more_than_those_of_others():
    times = RunTimes()
    for place in range(40):
        times.learn(RunKind("ada", "grid", 8, 7200), 600 + place)
        times.learn(RunKind("bo", f"fit-{place % 4}", 8, 7200), 7000)
    own = times.draw(RunKind("ada", "grid", 8, 3600), 0.0, Chance(1, 20), 1)
    assert own.min() >= 600 and own.max() < 640
    other = times.draw(RunKind("ada", "grid", 8, 7200), 5000.0, Chance(1, 100), 1)
    assert other.min() > 5000  # it has outlasted all of its name: those of its size are what is left
    assert np.count_nonzero(other == 7000) >= 90
    new = times.draw(RunKind("cy", "new", 8, 720), 0.0, Chance(1, 20), 1)
    assert new.max() <= 720, "a share of its own walltime"


@given(st.sampled_from(["sweep", ""]), st.integers(0, 12), st.integers(0, 12), st.integers(0, 99))
def test_equal_jobs_of_a_new_name_take_as_long_as_each_other_until_some_have_ended(name, others, ended, seed):
    """A hundred of them are long together or short together: what is unknown doesn't even out over them."""
    times, chance, kind = RunTimes(), Chance(seed, 200), RunKind("ada", name, 4, 3600)
    for place in range(others):
        times.learn(RunKind("bo", f"fit-{place}", 4, 4000), 300.0 * place)
    for place in range(ended):
        times.learn(kind, 1000.0 + place)
    one, other = (times.draw(kind, 0.0, chance, job) for job in (1, 2))
    alike = (one == other).mean()
    assert times.new_name("ada", name) == ("ada sweep" if name and ended < 4 else "")
    if name and ended >= 4:
        assert ((one >= 1000) & (one < 1012)).all() and alike < 0.6
    else:
        assert (ALIKE - 0.1 <= alike < 1) if name else alike < 0.6


def test_a_hundred_equal_jobs_say_no_more_of_others_than_a_few():
    times = RunTimes()
    for place in range(80):
        times.learn(RunKind("bo", f"fit-{place % 20}", 4, 3600), 3000)
    for _ in range(500):
        times.learn(RunKind("ada", "sweep", 4, 3600), 60)
        times.learn(RunKind("cy", "", 16, 3600), 90)
    other, of_many = (times.draw(RunKind("di", "new", cores, 3600), 0.0, Chance(1, 120), 1) for cores in (4, 16))
    assert 2 <= np.count_nonzero(other < 61) <= 10, "about four of eighty-four"
    assert np.count_nonzero(of_many < 91) >= 110, "without a name each is a job by itself"
    assert (times.draw(RunKind("di", "", 16, 3600), 0.0, Chance(1, 120), 1) < 91).all()


@pytest.mark.parametrize("count", [0, 1, 12, 60])
def test_a_class_says_the_more_the_more_runs_it_has_and_a_broader_one_the_rest(count):
    times = RunTimes()
    for place in range(count):
        times.learn(RunKind("ada", f"of-{place}", 4, 3600), 60)
    for place in range(NEWEST):
        times.learn(RunKind("ada", f"other-{place}", 64, 3600), 3000)
    drawn = times.draw(RunKind("bo", "new", 4, 3600), 0.0, Chance(2, 400), 1)
    own, rest = count / (count + AS_MUCH), AS_MUCH / (count + AS_MUCH)
    assert abs(np.count_nonzero(drawn == 60) / 400 - own) < 0.02
    assert abs(np.count_nonzero(drawn == 3000) / 400 - rest) < 0.02, "what no class says is next to nothing"


# -- calibration ----------------------------------------------------------------------------------


@pytest.mark.parametrize(("scale", "shift"), [(1.0, 0.0), (5.0, 0.0), (0.2, 30.0)])
def test_ranges_that_are_off_are_set_right_by_those_before(scale, shift):
    chance, calibration, held, at = random.Random(3), Hindsight(), [], 0
    for job in range(1500):
        at += 100_000
        middle = math.exp(chance.gauss(7, 1))
        drawn = Waits(0.9 * middle, middle, 1.1 * middle)  # far too narrow, whatever comes
        shown = calibration.corrected(("new", ""), at, [drawn])[0]
        assert shown.early_s <= shown.likely_s <= shown.late_s
        waited = scale * middle * math.exp(chance.gauss(0, 0.5)) + shift
        calibration.note(("new", ""), job, at, drawn, shown)
        calibration.started(job, at + round(waited * 1000))
        if job >= 500:
            held.append(shown.early_s <= waited <= shown.late_s)
    assert 0.75 <= np.mean(held) <= 0.85


def test_forecasts_are_corrected_most_by_those_with_about_the_same_wait_by_the_plan():
    """Who waits long by the plan is overtaken, who waits little is not: neither is told what is true of the other."""
    chance, calibration, held, at = random.Random(5), Hindsight(), {60.0: [], 90_000.0: []}, 0
    for job in range(1200):
        at += 100_000
        planned = chance.choice([60.0, 90_000.0])
        drawn = Waits(0.4 * planned, 0.5 * planned, 0.6 * planned)
        shown = calibration.corrected(("new", ""), at, [drawn], [planned])[0]
        waited = planned * (0.5 if planned < 1000 else 0.9) * math.exp(chance.gauss(0, 0.1))
        calibration.note(("new", ""), job, at, drawn, shown, planned)
        calibration.started(job, at + round(waited * 1000))
        if job >= 400:
            held[planned].append(shown.early_s <= waited <= shown.late_s)
            assert planned < 1000 or shown.late_s - shown.early_s < planned
    assert all(0.74 <= np.mean(each) <= 0.88 for each in held.values())


@pytest.mark.parametrize(("waited", "most"), [(0.5, 1.0), (3.0, 3.3)])
def test_a_job_drawn_to_start_at_once_that_waits_for_days_moves_no_other_beyond_its_place_in_the_plan(waited, most):
    """The plan's own starts bound the late end: at them, or as far behind them as nearly all starts were."""
    calibration, drawn = Hindsight(), Waits(0.0, 0.0, 0.0)
    for job in range(2 * FEWEST):
        planned = 50_000.0 + 1000 * job
        calibration.note(("new", ""), job, 0, drawn, drawn, planned)
        calibration.started(job, round(waited * planned * 1000))
    other = Waits(20_000.0, 30_000.0, 40_000.0)
    free = calibration.corrected(("new", ""), 10**9, [other])[0]
    bound = calibration.corrected(("new", ""), 10**9, [other], [60_000.0])[0]
    assert free.late_s > 1_000_000 and bound.early_s <= bound.likely_s <= bound.late_s <= most * 60_000 + 1


@pytest.mark.parametrize(("planned", "most"), [(None, None), (60_000.0, None), (4_200.0, 4_200), (1_000.0, 4_000)])
def test_until_forecasts_have_been_seen_a_range_is_wider_than_its_draws_and_stays_before_the_plan(planned, most):
    drawn = Waits(2_000, 3_000, 4_000)
    (shown,) = Hindsight().corrected(("new", ""), 0, [drawn], [planned])
    assert 1_000 < shown.early_s < 2_000 and shown.likely_s == 3_000
    assert shown.late_s == most if most else 4_000 < shown.late_s < 6_000
    (now,) = Hindsight().corrected(("new", ""), 0, [Waits(0, 0, 0)], [planned])
    assert now.early_s == 0


def test_all_of_a_new_name_correct_others_as_much_as_one_job():
    """They are late together or early together: what was unknown of one was of all."""
    calibration, drawn = Hindsight(), Waits(900, 1000, 1100)
    for job in range(4 * FEWEST):
        calibration.note(("new", ""), job, 0, drawn, drawn, new_name="ada sweep")
        calibration.started(job, 90_000_000)
    assert calibration.corrected(("new", ""), 10**9, [drawn]) == Hindsight().corrected(("new", ""), 0, [drawn])
    for job in range(FEWEST - 1):
        calibration.note(("new", ""), 1000 + job, 0, drawn, drawn)
        calibration.started(1000 + job, 1_000_000)
    again = Hindsight(calibration.kept())
    for one in (calibration, again):
        (shown,) = one.corrected(("new", ""), 10**9, [drawn])
        assert shown.late_s < 2000 and shown.likely_s == pytest.approx(1000)
    for job in range(FEWEST):
        again.note(("new", ""), 2000 + job, 0, drawn, drawn)
        again.started(2000 + job, 90_000_000)
    assert again.corrected(("new", ""), 10**9, [drawn])[0].late_s > 80_000


def test_a_job_that_has_not_started_counts_as_late_and_a_changed_one_not_at_all():
    calibration, drawn = Hindsight(), Waits(10, 20, 30)
    for job in range(FEWEST):
        calibration.note(("new", "spare"), job, 0, drawn, drawn)
    for job in range(5):
        calibration.dropped(job)
    assert calibration.seen(("new", "spare")) == FEWEST - 5  # too few of its own by now, and of all tiers
    for job in range(FEWEST):
        calibration.note(("new", "spare"), 100 + job, 0, drawn, drawn)
    calibration.settle(50_000)
    kept = calibration.kept()[("new", "spare")]
    assert kept.late < 0.1  # all of them are overdue
    assert calibration.corrected(("new", "spare"), 500_000, [drawn])[0].late_s >= 400
    again = Hindsight(calibration.kept())
    again.started(100, 900_000)
    assert again.corrected(("new", "spare"), 900_000, [drawn])[0].late_s >= 400


def test_on_a_trace_it_never_saw_ranges_hold_and_the_middle_is_nearer_than_the_plan():
    trace = make_trace(1600, 64, 0.8, 21)
    columns = Columns(*(list(one) for one in zip(*((float(job.submit_s), float(job.run_s), float(job.walltime_s), job.cores) for job in trace), strict=True)))  # fmt: skip
    told = [one for one in forecast_trace(columns, 64, lambda started: None, 2) if one.stage == "new"]
    for held in HELD:
        known = [one for one in told if one.held == held]
        counted = known[len(known) // 2 :]
        share = sum(one.shown.early_s - 1 <= one.waited_s <= one.shown.late_s + 1 for one in counted) / len(counted)
        assert abs(share - held) < 0.12, held
    off = sum(abs(one.shown.likely_s - one.waited_s) for one in counted)
    assert 3 * off < sum(abs(one.by_plan_s - one.waited_s) for one in counted)


# -- trials ---------------------------------------------------------------------------------------

ONE = Tried(Phase.DONE, 600, 4, 2300, 8192, 1000)


@pytest.mark.parametrize(
    ("ran", "walltime_s", "key", "value"),
    [
        (ONE, 7200, "walltime", "25m"),
        (ONE, 7200, "memory", "640 MiB/core"),
        (replace(ONE, memory_peak_mib=7900), 900, "walltime", None),
        (replace(ONE, memory_peak_mib=7900), 900, "memory", None),
        (replace(ONE, phase=Phase.OVERTIME, took_s=900), 900, "walltime", None),
        (Tried(Phase.OVERMEMORY, 60, 4, 230, 8192, 8300), 900, "memory", "4 GiB/core"),
    ],
)
def test_advice_of_one_trial_follows_what_it_used(ran, walltime_s, key, value):
    assert next(one.value for one in advise([ran], Asked(walltime_s)) if one.key == key) == value


def test_idle_cores_are_named():
    idle = next(
        one
        for one in advise([replace(ONE, cores=8, cpu_s=660.0, memory_peak_mib=7900)], Asked(900))
        if one.key == "cores"
    )
    assert "2 is enough" in idle.reason


@pytest.mark.parametrize("sizes", [(2, 4), (1, 2, 4), (3, 6, 9)])
def test_from_two_or_three_sizes_the_whole_is_told_with_its_range(sizes):
    chance, held, small = random.Random(str(sizes)), 0, 0
    for _ in range(800):
        power, factor = chance.uniform(0.8, 2.2), chance.uniform(5, 500)

        def took(size, power=power, factor=factor):
            return factor * size**power * math.exp(chance.gauss(0, 0.12))

        found = expected([(size, took(size)) for size in sizes], 20)
        whole = took(20)
        held += found.low <= whole <= found.high
        small += whole > found.bound
    assert held / 800 >= 0.77 and small / 800 <= 0.03


def test_sizes_are_advised_from_and_what_cannot_be_told_says_why():
    trials = [Tried(Phase.DONE, 60.0 * size, 2, 100.0 * size, 4096, 100 * size, size) for size in (1, 2, 4)]
    walltime, _, memory = advise(trials, Asked(86_400, "cells", 40))
    assert "cells=40" in walltime.reason and "8 times in 10" in walltime.reason and walltime.value is not None
    assert memory.value.endswith("/core")
    late = [replace(one, phase=Phase.OVERTIME) for one in trials[1:]]
    assert "1 size came to an end" in advise([trials[0], *late], Asked(86_400, "cells", 40))[0].reason
    assert "isn't known" in advise(trials, Asked(86_400, "cells"))[0].reason
    assert expected([(1, 5.0), (1, 6.0)], 9) is None
    steeper = expected([(1, 100.0), (2, 110.0), (4, 200.0)], 8)
    assert steeper.middle > 350  # the last two sizes say how it goes on


def test_sizes_are_read_from_words():
    assert sizes_in(["cells=2,4,8", "grid=north"]) == (
        "cells",
        [{"grid": "north", "cells": "2"}, {"grid": "north", "cells": "4"}, {"grid": "north", "cells": "8"}],
    )
    assert sizes_in(["name=a,b"]) == ("", [{"name": "a,b"}]) and sizes_in([]) == ("", [])
    for wrong in (["cells"], ["=3"], ["a=1,2", "b=1,2"], ["a=1,2,3,4,5,6"]):
        with pytest.raises(BadValue):
            sizes_in(wrong)
    assert asked_of(60, "cells", "echo ${cells:-200}").size == 200
    assert asked_of(60, "cells", "echo $cells").size is None and asked_of(60, "cells", "", None, 7.0).size == 7


# -- warnings -------------------------------------------------------------------------------------


def like_it(took, cores=lambda part: 1.0, memory=lambda part: 1000, late=False, points=24):
    """An earlier run with its curve, from what it did after each part of its time."""
    parts = [(place + 0.5) / points for place in range(points)]
    curve = Curve(
        0,
        round(1000 * took / points),
        tuple(round(100 * cores(part)) for part in parts),
        tuple(round(memory(part)) for part in parts),
    )
    return LikeIt(took, took * sum(map(cores, parts)) / points, late, max(map(memory, parts)), curve)  # fmt: skip


curves = st.builds(
    lambda took, cores, memory, late: like_it(took, lambda part: cores[int(4 * part)], lambda part: memory[int(4 * part)], late),
    st.floats(1, 1e5), st.lists(st.floats(0, 64), min_size=4, max_size=4), st.lists(st.floats(0, 1e6), min_size=4, max_size=4), st.booleans(),
)  # fmt: skip


@given(
    st.builds(Work, st.floats(0, 1e5), st.floats(0, 1e6), st.floats(0, 64)),
    st.integers(60, 10**5),
    st.lists(curves | st.builds(LikeIt, st.floats(1, 1e5), st.floats(0, 1e5)), max_size=30),
    st.floats(0, 1e5),
)
def test_a_chance_is_one_whatever_the_runs(work, walltime, earlier, memory):
    late, full = chance_late(work, walltime, earlier), chance_full([memory], work.elapsed_s, 8192, earlier)
    known = sum(one.curve is not None for one in earlier)
    for found in (late, full):
        assert found is None or (0 <= found.chance <= 1 and 3 <= found.runs <= known and found.value >= 0)
    assert late is None or late.value >= work.elapsed_s


PHASES = {
    "even": lambda part: 4.0,
    "reads first": lambda part: 0.0 if part < 0.3 else 4.0,
    "writes last": lambda part: 4.0 if part < 0.8 else 0.0,
    "serial first": lambda part: 1.0 if part < 0.4 else 4.0,
}


@pytest.mark.parametrize("phases", PHASES)
def test_a_run_that_gets_on_at_half_the_rate_is_told_and_one_as_before_is_not(phases):
    cores = PHASES[phases]
    earlier = [like_it(3000 + 10 * place, cores) for place in range(20)]

    def told(slower):
        """At which part of its walltime it is told first that it will be late."""
        for elapsed in range(60, 3600, 60):
            parts = [(second + 0.5) / 3100 / slower for second in range(elapsed)]
            cpu, busy = sum(cores(min(0.99, part)) for part in parts) / slower, cores(min(0.99, parts[-1])) / slower
            late = chance_late(Work(elapsed, cpu, busy), 3600, earlier)
            if late is not None and late.chance >= SURE:
                return elapsed
        return None

    assert told(1.0) is None and told(2.0) <= 2700
    assert chance_late(Work(1800, 900, 4), 3600, earlier[:2]) is None  # too few to tell
    assert chance_late(Work(1800, 900, 4), 3600, [LikeIt(3000, 12_000)] * 9) is None  # nothing to compare with
    assert chance_late(Work(100, 10, 4), 3600, earlier) is None  # too early


MEMORY = {
    "steady": lambda part: 5000 * part,
    "soon level": lambda part: 5000 * min(1.0, part / 0.3),
    "jumps late": lambda part: 2000.0 if part < 0.8 else 5000.0,
}


@pytest.mark.parametrize("shape", MEMORY)
def test_memory_is_told_where_runs_before_went_on_to_too_much_and_not_where_it_stays(shape):
    grows = MEMORY[shape]
    earlier = [like_it(3600 + 20 * place, memory=grows) for place in range(-5, 6)]

    def told(times):
        for elapsed in range(60, 3600, 60):
            full = chance_full([times * grows(elapsed / 3600)], elapsed, 8192, earlier)
            if full is not None and full.chance >= SURE_OF_MEMORY:
                return elapsed
        return None

    assert told(1.0) is None and told(1.5) is None and 360 <= told(2.2) < 0.8 * 3600
    assert chance_full([7000], 1800, 8192, earlier[:2]) is None and chance_full([], 1800, 8192, earlier) is None
