"""The board by changes: whoever follows it sees the same as whoever asks for all of it."""

import asyncio
import random

import pytest

from lazy_quarry.core.engine.commands import CloseNode, HoldJob, OpenNode
from lazy_quarry.core.engine.plans import Plans
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.link.protocol import glance_at, write_request
from lazy_quarry.link.server import Server
from lazy_quarry.link.site_client import CALLS
from lazy_quarry.site import fast_search
from lazy_quarry.site.board_keeper import BoardKeeper
from lazy_quarry.site.fast_search import FastSearch
from lazy_quarry.site.job_views import JobViews
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.site.versioned_table import MOST_GONE, Stamped
from lazy_quarry.views.board import BoardMark
from lazy_quarry.views.board_mirror import BoardMirror
from tests.conftest import SiteUnderTest, script, small_site, until


def all_of(session, caller):
    """The board as somebody sees it who has just come, with everything in sight."""
    jobs = session.engine.state.jobs
    touched = set(jobs.touched)
    keeper = BoardKeeper(session, JobViews(session))
    board = BoardMirror().take(keeper.change(caller, None, list(jobs), whole=True))
    jobs.touched |= touched  # they are for the other keeper, too
    return board


def test_whoever_follows_the_board_sees_what_whoever_asks_for_all_of_it_sees():
    chance, rehearsed = random.Random(4), Rehearsed(7)
    session = rehearsed.session
    people = [rehearsed.person, caller_of(session.site, "olga"), caller_of(session.site, "tove")]
    readers = [(InProcessClient(rehearsed.site, one), BoardMirror()) for one in people]
    nodes = [node.name for node in session.site.nodes if node.runs_jobs]
    for turn in range(60):
        live = list(session.engine.state.jobs)
        what = chance.choice(["time", "time", "time", "hold", "close", "open", "nothing", "past"])
        if what == "time":
            rehearsed.advance(rehearsed.now_ms + chance.randrange(1, 3_000_000))
        elif what == "hold" and live:
            job = session.engine.state.jobs[chance.choice(live)]
            if job.phase is Phase.WAITING:
                session.commit(session.engine.decide(HoldJob(rehearsed.now_ms, job.number, By(job.user))))
        elif what in ("close", "open"):
            command = CloseNode(rehearsed.now_ms, chance.choice(nodes), By(why="sick"))
            if what == "open" and session.engine.state.closures:
                command = OpenNode(rehearsed.now_ms, min(session.engine.state.closures))
            session.commit(session.engine.decide(command))
            rehearsed.site.dispatcher.step()
        elif what == "past" and turn > 30 and not session.past:
            rehearsed.add_past(2)
        client, mirror = chance.choice(readers)
        if chance.random() < 0.3:
            mirror.take(client.look(mirror.mark, chance.sample(live, min(3, len(live)))))
            continue
        settled = False
        while not settled:
            change = client.look(mirror.mark, list(session.engine.state.jobs))
            board, settled = mirror.take(change), change.settled
        fresh = all_of(session, client.caller)
        assert {view.job: view for view in board.jobs} == {view.job: view for view in fresh.jobs}
        assert board.jobs == fresh.jobs
        assert board.nodes == fresh.nodes and board.strata == fresh.strata and board.person.user == client.caller.user
        assert (board.person, board.site, board.notices) == (fresh.person, fresh.site, fresh.notices)


def test_a_look_says_only_what_has_changed_and_a_stranger_gets_all():
    rehearsed = Rehearsed(7)
    client = rehearsed.client()
    first = client.look()
    while not first.settled:  # a slow machine shows a part at a time
        first = client.look(first.mark)
    first = client.look()
    assert first.whole and first.site is not None and len(first.nodes) > 30 and first.jobs
    second = client.look(first.mark)
    assert not second.whole and second.site is None
    assert (second.jobs, second.nodes, second.gone) == ((), (), ())
    rehearsed.site.dispatcher.session.commit(
        rehearsed.session.engine.decide(CloseNode(rehearsed.now_ms, second_node(rehearsed), By(why="sick")))
    )
    third = client.look(second.mark)
    assert [node.name for node in third.nodes] == [second_node(rehearsed)]
    assert client.look(BoardMark("of another engine", third.mark.stamp)).whole


def second_node(rehearsed):
    return [node.name for node in rehearsed.session.site.nodes if node.runs_jobs][1]


def test_a_reader_who_was_away_for_very_long_gets_all():
    table = Stamped()
    for number in range(MOST_GONE + 10):
        table.put(number, number, number + 1)
        table.drop(number, number + 1)
    table.put("kept", 1, MOST_GONE + 20)
    assert table.floor > 0 and list(table.since(MOST_GONE + 15)) == ["kept"]


def test_the_fast_search_is_loaded_where_it_pays(monkeypatch):
    planner = Planner(small_site())
    search = FastSearch(planner)
    search.consider(100)
    assert search.loading is None  # three nodes: all is done before it would be there
    monkeypatch.setattr(fast_search, "PAYS_FROM", 100)
    monkeypatch.setattr(fast_search, "find_spec", lambda name: None)
    search.consider(100)
    assert search.loading is None  # Numba isn't installed
    monkeypatch.undo()
    monkeypatch.setattr(fast_search, "PAYS_FROM", 100)
    search.consider(100)
    until(lambda: planner.kernels is not None, "the compiled search")


@pytest.mark.parametrize("job", [1, None])
def test_the_plan_is_worked_out_a_little_at_a_time(monkeypatch, job):
    rehearsed = Rehearsed(7)
    session = rehearsed.session
    monkeypatch.setattr("lazy_quarry.site.session.SLICE_S", 0.0)
    monkeypatch.setattr("lazy_quarry.site.session.SLICE_JOBS", 1)
    session.engine.plans = Plans(session.engine.plans.site, session.engine.state)  # which knows no plan yet
    waiting = sum(len(line.places) for line in session.engine.state.jobs.lines.values())
    rounds = 0
    while not session.work_out():
        rounds += 1
    assert rounds >= waiting - 1 > 3


async def test_others_are_answered_while_a_plan_is_worked_out():
    said = []

    class Slow:
        def work_out(self):
            said.append("slice")
            return said.count("slice") == 4

    async def other():
        for _ in range(3):
            said.append("answer")
            await asyncio.sleep(0)

    server = Server.__new__(Server)
    server.site = type("Site", (), {"session": Slow()})
    beside = asyncio.create_task(other())
    await server.work_out_plan()
    await beside
    assert said[:6] == ["slice", "answer", "slice", "answer", "slice", "answer"] and said.count("slice") == 4
    assert CALLS["jobs"].plan and not CALLS["submit"].plan
    assert glance_at(write_request(1, "jobs", {})).method == "jobs" and glance_at(b"nonsense").method == ""


def test_books_that_are_still_being_added_up_show_no_figure_that_is_not_true():
    site = SiteUnderTest(small_site(), lambda: 1_000_000)
    site.session.adding_past = True
    assert all(line.adding_up and line.left_core_ms is None for line in site.board().accounts)
    assert site.check(Submission(script('walltime = "1h"'))).cost.left_core_ms is None
    site.session.past_was_added()
    silt = next(line for line in site.board().accounts if line.account == "silt")
    assert not silt.adding_up and silt.left_core_ms == 1000 * 3_600_000
