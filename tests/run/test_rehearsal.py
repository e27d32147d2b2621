"""The rehearsal cluster: a model on a virtual clock, the same every time."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Allocation, Job, Origin, Phase
from lazy_quarry.core.job.request import Memory, Rehearsal, Request
from lazy_quarry.core.units import HOUR_MS, MINUTE_MS
from lazy_quarry.core.values import replace
from lazy_quarry.demo.people import arrivals, busyness
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.demo.session import DemoClient
from lazy_quarry.demo.site import BEGINS_MS, oxbow
from lazy_quarry.run.rehearsal import model, rehearsed_output
from lazy_quarry.store.sqlite.tables import events, sums
from tests.conftest import quickly, rows_of, script, until

HEADER = 'name = "mine"\nwalltime = "1h"\nmemory = "1 GiB/core"'


def job(number=1, **told):
    request = Request("j", "a", ("q",), "t", 3600, Memory(1000), rehearsal=Rehearsal(**told))
    allocation = Allocation("n1", 1, (0, 1), 2000)
    return Job(number, "ada", request, Origin(""), 0, Phase.RUNNING, 1, started_ms=0, allocations=(allocation,))


@given(st.integers(), st.integers(1, 10**6))
def test_an_outcome_depends_on_seed_job_and_attempt_alone(seed, number):
    assert model(seed, job(number)) == model(seed, job(number))
    assert 1000 <= model(seed, job(number)).after_ms <= 3_600_000


def test_the_header_says_how_a_job_behaves():
    assert model(1, job(runtime_s=(600, 600))).after_ms == 600_000
    assert 600_000 <= model(1, job(runtime_s=(600, 900))).after_ms <= 900_000
    assert model(1, job(exit=3)).exit == 3
    assert model(1, job(busy=1.5)).busy == 1.5
    assert model(1, job(runtime_s=(7200, 7200))).cause == "overtime"
    assert model(1, job(memory_mib=3000)).cause == "overmemory"


def test_output_is_an_honest_word_about_the_model():
    ended = replace(job(), ended_ms=600_000, phase=Phase.DONE, exit=0)
    assert "nothing is run" in rehearsed_output(ended, 600_000)
    assert rehearsed_output(ended, 600_000).endswith("finished\n")
    assert "exit 2" in rehearsed_output(replace(ended, exit=2), 600_000)
    assert rehearsed_output(replace(job(), started_ms=None), 0) == ""


def played(seed, steps, searching=lambda one: one):
    rehearsed = searching(Rehearsed(seed))
    number = None
    for at, step in enumerate(steps):
        if at == 1:
            number = rehearsed.client().submit(Submission(script(HEADER))).job
        rehearsed.advance(rehearsed.now_ms + step * MINUTE_MS)
    # without the chained checksum, which begins with the random identity of each journal
    return rehearsed, number, [tuple(row)[:-1] for row in rows_of(rehearsed.session.journal, events)]


@settings(max_examples=6)
@given(st.integers(0, 100))
def test_the_same_commands_and_seed_give_the_same_events_whichever_search_finds_the_places(seed):
    assert played(seed, [7, 50])[2] == played(seed, [7, 50], quickly)[2]


def test_events_do_not_depend_on_how_fast_the_clock_ran():
    assert played(7, [10, 90])[2] == played(7, [10, *[10] * 9])[2]


def test_another_seed_is_another_present():
    assert played(7, [1])[2] != played(8, [1])[2]


@pytest.mark.parametrize("seed", [7, 8, 9])
def test_no_node_is_ever_over_in_the_demo(seed):
    rehearsed = quickly(Rehearsed(seed))
    for _ in range(12):
        rehearsed.advance(rehearsed.now_ms + HOUR_MS)
        held = [
            (allocation.node, core)
            for one in rehearsed.session.engine.state.running()
            for allocation in one.allocations
            for core in allocation.cores
        ]
        assert len(held) == len(set(held))
        assert not any(node == "c17" for node, _ in held)
    strata = rehearsed.client().board().strata
    assert strata.mine + strata.accounts + strata.others + strata.free + strata.closed == strata.total


def test_a_job_starts_no_later_than_its_first_forecast():
    rehearsed = Rehearsed(7)
    job = rehearsed.client().submit(Submission(script(f"{HEADER}\nnodes = 4\nranks = 128\n", "true"))).job
    forecast = rehearsed.client().job(job).forecast_ms
    assert forecast > rehearsed.now_ms
    rehearsed.advance(forecast + 1000)
    assert rehearsed.client().job(job).started_ms <= forecast


def test_your_jobs_stand_in_many_states_and_the_past_is_in_the_books():
    rehearsed = Rehearsed(7)
    rehearsed.add_past(20)
    board = rehearsed.client().board()
    mine = {view.phase for view in board.jobs if view.user == "tove"}
    assert mine >= {
        Phase.RUNNING,
        Phase.WAITING,
        Phase.HELD,
        Phase.DONE,
        Phase.FAILED,
        Phase.OVERTIME,
        Phase.OVERMEMORY,
    }
    kept = rows_of(rehearsed.session.journal, sums)
    for line in board.accounts:
        assert line.charged_core_ms == sum(row.charge_core_ms for row in kept if row.account == line.account)
        assert line.jobs == sum(row.jobs for row in kept if row.account == line.account)
    assert len({row.day_ms for row in kept}) >= 20


def test_cancelled_and_held_jobs_obey_on_the_virtual_clock():
    rehearsed = Rehearsed(7)
    client = rehearsed.client()
    running = next(view for view in client.board().jobs if view.user == "tove" and view.phase is Phase.RUNNING)
    told = client.cancel([running.job, 10**6])
    assert [one.done for one in told] == [True, False] and not told[1].known
    rehearsed.advance(rehearsed.now_ms + 2000)
    assert client.job(running.job).phase is Phase.CANCELLED
    somebody = next(view for view in client.board().jobs if view.user != "tove" and view.phase is Phase.RUNNING)
    assert "belongs to" in client.cancel([somebody.job])[0].message


def test_a_draft_is_told_its_place_start_and_cost():
    client = Rehearsed(7).client()
    report = client.check(
        Submission(script('nodes = 2\nranks = 16\nthreads = 2\nmemory = "1 GiB/core"\nwalltime = "30m"'))
    )
    assert (report.shape.nodes, report.shape.ranks, report.shape.cores) == (2, 16, 32)
    assert [node.ranks for node in report.place.nodes] == [8, 8]
    for node in report.place.nodes:
        assert len(node.own) == 16 and not set(node.own) & set(node.taken)
    assert [rung.walltime_s for rung in report.starts.ladder] == [900, 1800, 3600, 14_400, 43_200, 172_800]
    starts = [rung.start_ms for rung in report.starts.ladder]
    assert starts == sorted(starts)
    assert report.cost.most_core_ms == 32 * (30 * 60 + 30) * 1000


def test_people_submit_most_at_midday_and_little_at_night_and_on_sundays():
    monday = BEGINS_MS - BEGINS_MS % 86_400_000
    assert busyness(monday + 13 * HOUR_MS) > 3 * busyness(monday + 3 * HOUR_MS)
    assert busyness(monday - 11 * HOUR_MS) < busyness(monday + 13 * HOUR_MS) / 2
    first = next(arrivals(1, monday, 100))
    assert first == next(arrivals(1, monday, 100))


def test_the_site_is_whole():
    site = oxbow()
    names = {node.name for node in site.nodes}
    assert all(set(queue.nodes) <= names for queue in site.queues)
    assert not site.node["ford"].runs_jobs
    assert all("ford" not in queue.nodes for queue in site.queues)
    assert site.default_account("tove") == "tide-surge"
    assert site.accounts_of("imre") == ("tide-surge", "commons")


def test_the_demos_clock_runs_stands_and_steps():
    client = DemoClient(speed=3600, past_days=1)
    try:
        began = client.board().now_ms
        until(lambda: client.board().now_ms > began + HOUR_MS, "an hour of its time")
        client.set_clock(paused=True)
        assert client.board().clock.paused
        assert client.faster(-1).speed == 900
        assert client.faster(5).speed == 3600
        client.set_clock(paused=True)
        before = client.site.session.version
        client.step()
        assert client.site.session.version > before
        assert client.changes(before, 1) > before
    finally:
        client.close()
