"""Replayed traces: each policy is held against a plain retelling of its rule, and `planned` against the planner itself."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.placement import PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import make_plan
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Account, Node, Queue, Site, Tier
from lazy_quarry.errors import BadValue
from lazy_quarry.study.replay import POLICIES, replay
from lazy_quarry.study.swf import Trace, TraceJob, read_trace, trace_lines
from lazy_quarry.study.workload import make_trace

CORES = 8
jobs = st.builds(
    lambda gap, run, more, cores: (gap, run, run + more, cores),
    st.sampled_from([0, 0, 1, 3, 10, 40]),
    st.sampled_from([0, 1, 5, 20, 60]),
    st.sampled_from([1, 0, 10, 100]),
    st.integers(1, CORES),
).filter(lambda one: one[2] > 0)
traces = st.lists(jobs, min_size=1, max_size=40).map(lambda many: Trace(tuple(_numbered(many))))


def _numbered(many):
    at = 0
    for number, (gap, run, walltime, cores) in enumerate(many, 1):
        at += gap
        yield TraceJob(number, at, run, walltime, cores)


def told_plainly(trace, starting):
    """Instant by instant: ends, submissions, planning. ``starting`` picks what starts from all that is known."""
    left, waiting, running, starts = list(trace.jobs), [], {}, {}
    while left or running:
        instants = [starts[job.number] + job.run_s for job in running.values()] + [job.submit_s for job in left[:1]]
        now = min(instants)
        running = {job.number: job for job in running.values() if starts[job.number] + job.run_s > now}
        while left and left[0].submit_s <= now:
            waiting.append(left.pop(0))
        for job in list(starting(now, waiting, running, starts)):
            waiting.remove(job)
            running[job.number] = job
            starts[job.number] = now
    return tuple(starts[job.number] for job in trace.jobs)


def first_come(now, waiting, running, starts):
    free = CORES - sum(job.cores for job in running.values())
    for job in waiting:
        if job.cores > free:
            return
        free -= job.cores
        yield job


def easy(now, waiting, running, starts):
    waiting, held = list(waiting), [(starts[job.number] + job.walltime_s, job.cores) for job in running.values()]
    free, found = CORES - sum(cores for _, cores in held), []
    while waiting and waiting[0].cores <= free:
        found.append(waiting.pop(0))
        free -= found[-1].cores
        held.append((now + found[-1].walltime_s, found[-1].cores))
    if not waiting:
        return found
    at = next(at for at, _ in sorted(held) if free + sum(cores for end, cores in held if end <= at) >= waiting[0].cores)
    spare = free + sum(cores for end, cores in held if end <= at) - waiting[0].cores
    for job in waiting[1:]:
        in_time = now + job.walltime_s <= at
        if job.cores <= free and (in_time or job.cores <= spare):
            found.append(job)
            free -= job.cores
            spare -= 0 if in_time else job.cores
    return found


SITE = Site(
    "pool", "rehearsal", (Node("n", CORES, 1_000_000),), (Queue("q", ("n",)),), (Account("a"),), (Tier("t"),), "q", "t"
)


def by_the_planner(now, waiting, running, starts):
    held = [
        PlannedAllocation("n", int(1000 * (starts[job.number] + job.walltime_s)), (job.cores, job.cores, 0, 0))
        for job in running.values()
    ]
    requests = [
        PlanRequest(
            job.number, Request("j", "a", ("q",), "t", int(job.walltime_s), Memory(1), threads=job.cores, grace_s=0)
        )
        for job in waiting
    ]
    plan = make_plan(Planner(SITE), int(now * 1000), held, requests)
    chosen = {placement.job for placement in plan.starting()}
    return [job for job in waiting if job.number in chosen]


@given(traces)
def test_first_come_and_easy_do_what_their_rules_say(trace):
    assert replay(trace, CORES, "first-come").starts == told_plainly(trace, first_come)
    assert replay(trace, CORES, "easy").starts == told_plainly(trace, easy)


@given(traces)
def test_planned_starts_what_the_planner_would_start(trace):
    assert replay(trace, CORES, "planned").starts == told_plainly(trace, by_the_planner)


def test_a_long_trace_goes_through_the_same_rules():
    trace = Trace(tuple(make_trace(400, CORES, 1.3, 5)))
    assert replay(trace, CORES, "easy").starts == told_plainly(trace, easy)
    assert replay(trace, CORES, "planned").starts == told_plainly(trace, by_the_planner)


@pytest.mark.parametrize("policy", POLICIES)
@given(trace=traces)
def test_no_policy_ever_holds_more_than_there_is_or_starts_before_submission(policy, trace):
    found = replay(trace, CORES, policy)
    for start, job in zip(found.starts, trace.jobs, strict=True):
        assert start >= job.submit_s
        if not job.run_s:
            continue  # over in the instant in which it starts
        held = [
            other.cores
            for at, other in zip(found.starts, trace.jobs, strict=True)
            if at <= start < at + other.run_s or other is job
        ]
        assert sum(held) <= CORES
    assert 0 <= found.use <= 1


def test_a_trace_is_read_as_the_standard_says_and_what_cannot_run_is_counted():
    lines = [
        "; Version: 2.2",
        "3 50 -1 100 4 -1 -1 -1 200 -1 1 -1 -1 -1 -1 -1 -1 -1",  # allocated
        "1 10 -1 300 2 -1 -1 8 200 -1 1 -1 -1 -1 -1 -1 -1 -1",  # runs into its walltime
        "2 10 -1 30 2 -1 -1 2 -1 -1 1 -1 -1 -1 -1 -1 -1 -1",  # no walltime
        "4 60 -1 30 -1 -1 -1 -1 90 -1 1 -1 -1 -1 -1 -1 -1 -1",  # no cores
        "5 60 -1 -1 1 -1 -1 1 -1 -1 1 -1 -1 -1 -1 -1 -1 -1",  # no time
        "6 60 -1 30 9 -1 -1 9 90 -1 1 -1 -1 -1 -1 -1 -1 -1",  # larger than the cluster
        "",
    ]
    trace = read_trace(lines, 8)
    assert trace.left_out == 3
    assert [(job.number, job.submit_s, job.run_s, job.walltime_s, job.cores) for job in trace.jobs] == [
        (1, 10, 200, 200, 8),
        (2, 10, 30, 30, 2),
        (3, 50, 100, 200, 4),
    ]
    assert read_trace(trace_lines(trace.jobs, 8), 8).jobs == trace.jobs


@pytest.mark.parametrize("line", ["1 10 -1 300", "1 10 -1 x 2 -1 -1 8 200 -1 1 -1 -1 -1 -1 -1 -1 -1"])
def test_a_broken_line_is_told_by_its_number(line):
    with pytest.raises(BadValue, match=r"t\.swf, line 2"):
        read_trace(["; made up", line], 8, "t.swf")


def test_a_made_up_trace_has_the_load_that_was_asked_for_and_is_the_same_again():
    made = make_trace(3000, 256, 0.9, 4)
    work = sum(job.cores * job.run_s for job in made)
    assert work / (256 * made[-1].submit_s) == pytest.approx(0.9, rel=0.01)
    assert made == make_trace(3000, 256, 0.9, 4) != make_trace(3000, 256, 0.9, 5)
    assert all(1 <= job.cores <= 256 and 0 < job.run_s <= job.walltime_s for job in made)
