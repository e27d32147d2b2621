"""The demo goes on: what happens to its site for a year, and the first days of it for real."""

from itertools import takewhile

from lazy_quarry.core.engine.commands import GrantHours, LoseNode, OpenNode, Reserve
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.demo.happenings import QUARTER_CORE_HOURS, happenings
from lazy_quarry.demo.people import KINDS, arrivals
from lazy_quarry.demo.rehearsed import FUTURE_A_DAY, Rehearsed
from lazy_quarry.demo.site import BEGINS_MS, oxbow
from lazy_quarry.store.sqlite.tables import events
from tests.conftest import quickly, rows_of

YEAR_MS = 365 * DAY_MS


def test_a_year_of_the_demo_has_repairs_grants_and_announcements():
    year = list(takewhile(lambda one: one.at_ms < BEGINS_MS + YEAR_MS, happenings(7, oxbow())))
    assert [one.at_ms for one in year] == sorted(one.at_ms for one in year)
    down, mended = {one.node for one in oxbow().closures}, []
    for one in year:
        if isinstance(one, LoseNode):
            assert one.node not in down and one.at_ms > BEGINS_MS + DAY_MS
            down.add(one.node)
        elif isinstance(one, OpenNode):
            mended.append(one)
            down.remove(one.node)
        elif isinstance(one, Reserve):
            assert one.window.begins_ms == one.at_ms + 10 * DAY_MS and len(one.window.nodes) == 16
    assert len(mended) > 40 and len(down) < 4
    grants = [one for one in year if isinstance(one, GrantHours)]
    assert len(grants) == 4 * len(QUARTER_CORE_HOURS) and len({one.by.why for one in grants}) == 4


def test_people_come_and_go_by_season_and_names_differ_in_their_run_times():
    year = takewhile(lambda one: one.at_ms < BEGINS_MS + YEAR_MS, arrivals("y", BEGINS_MS, FUTURE_A_DAY))
    by_month, shares = {}, {}
    for one in year:
        month = (one.at_ms - BEGINS_MS) // (30 * DAY_MS)
        by_month.setdefault(one.request.name, set()).add(month)
        runtime = one.request.rehearsal.runtime_s[0]
        if not one.request.rehearsal.exit:
            shares.setdefault(one.request.name, []).append(runtime / one.request.walltime_s)
    assert by_month["eel-tags"] <= {2, 3, 4, 5, 6, 7} and len(by_month["surge-ens"]) == 13
    assert set(by_month) == {kind.name for kind in KINDS}
    tenths = {name: sorted(each) for name, each in shares.items()}
    spread = {name: each[len(each) * 9 // 10] / each[len(each) // 10] for name, each in tenths.items()}
    assert spread["boundary"] < 1.5 < spread["eel-drift"] and spread["kelp-train"] > 2


def test_the_first_days_are_busy_with_a_node_mended_and_budgets_that_last():
    rehearsed = quickly(Rehearsed(7))
    used, waited = [], 0
    for day in range(1, 6):
        rehearsed.advance(BEGINS_MS + day * DAY_MS)
        state = rehearsed.session.engine.state
        used.append(sum(job.cores_allocated for job in state.running()))
        waited += any(job.phase is Phase.WAITING for job in state.jobs.values())
    assert sum(used) / len(used) > 550 and waited == 5
    assert "c17" not in state.closures and {row.kind for row in rows_of(rehearsed.session.journal, events)} >= {
        "node-closed",
        "node-opened",
    }
    assert all(line.left_core_ms > 0 for line in rehearsed.session.account_lines() if line.account != "commons")
