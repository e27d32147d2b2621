"""The books: every sum is the integral of what was held, however it is split; and whether they agree is proved."""

import json
from collections import Counter
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from lazy_quarry.cli.report import report_csv, report_json, report_lines, waste_lines
from lazy_quarry.core.engine.events import Ended, Started
from lazy_quarry.core.ledger.report import KEYS
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.of_books import burn_down_figure, over_time_figure
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.site.book_words import end_words
from lazy_quarry.store.books import prove
from tests.conftest import script


@pytest.fixture(scope="module")
def demo():
    """Four days of the demo behind its ninety: retries, lost nodes, jobs that gave way, arrays."""
    site = Rehearsed(5)
    site.add_past(90)
    site.advance(site.now_ms + 4 * DAY_MS)
    return site


@pytest.fixture(scope="module")
def attempts(demo):
    """Every attempt that has ended since the journal began: (begin, end, cores, job's record)."""
    found, began = [], {}
    journal, state = demo.present.journal, demo.present.engine.state
    for _, event in journal.events_after(0):
        if isinstance(event, Started):
            began[event.job] = (event.at_ms, sum(len(one.cores) for one in event.allocations))
        elif isinstance(event, Ended) and event.job in began:
            at, cores = began.pop(event.job)
            job = journal.ended_job(event.job) or state.jobs[event.job]
            found.append((at, event.at_ms, cores, job))
    return found


@given(st.integers(-2, 5), st.integers(1, 8), st.lists(st.sampled_from(KEYS), max_size=2, unique=True))
@settings(max_examples=40)
def test_sums_of_any_period_and_split_are_the_integral_of_what_was_held(demo, attempts, first, count, by):
    begin = (demo.present.began_ms // DAY_MS + first) * DAY_MS
    end = begin + count * DAY_MS
    ledger = demo.site.ledger
    since = min(at for at, *_ in attempts)
    span = ledger.period(f"{_day(begin)} to {_day(end - DAY_MS)}")
    assert (span.begin_ms, span.end_ms) == (begin, end)
    found = ledger.report(f"{_day(begin)} to {_day(end - DAY_MS)}", by)
    for name in ("jobs", "failed", "held_core_ms", "charged_core_ms", "cpu_ms", "lost_core_ms", "lost_cpu_ms"):
        assert sum(getattr(row.sums, name) for row in found.rows) == getattr(found.total.sums, name)
    assert found.total.sums.lost_core_ms <= found.total.sums.held_core_ms
    if begin >= since - since % DAY_MS + DAY_MS:  # before that, earlier runs were brought in without their events
        held = Counter()
        for at, until, cores, job in attempts:
            inside = max(0, min(until, end) - max(at, begin))
            key = tuple(_value(one, job) for one in by if one != "month")
            held[key] += cores * inside
        if "month" not in by:
            assert {row.key: row.sums.held_core_ms for row in found.rows if row.sums.held_core_ms} == {
                key: value for key, value in held.items() if value
            }
        assert found.total.sums.held_core_ms == sum(held.values())


def _day(at_ms):
    from datetime import UTC, datetime

    return datetime.fromtimestamp(at_ms / 1000, UTC).date()


def _value(key, job):
    request = job.request
    values = {"account": request.account, "user": job.user, "tier": request.tier, "name": request.name}
    return values.get(key, job.queue or request.queues[0])


def test_use_over_time_adds_up_to_the_report(demo):
    ledger = demo.site.ledger
    for words in ("all", "last month", "last 2 months", "since 1 December", "today"):
        for split in ("account", "user", "tier"):
            over, found = ledger.over_time(words, split), ledger.report(words, [split], None, False)
            assert {key: sum(charged) for key, charged in zip(over.keys, over.charged, strict=True)} == {
                row.key[0]: row.sums.charged_core_ms for row in found.rows
            }
    figure = over_time_figure(ledger.over_time("all", "name"), "oxbow", demo.now_ms)
    assert "others" in figure.legend[-1][1] and figure.panel.plots[0].curves
    assert ledger.report("all", [], {"name": "o'b%r\" ?:x"}).total.sums.jobs == 0
    only = ledger.report("all", ["user"], {"account": "tide-surge,silt"})
    assert (
        only.total.sums
        == ledger.report("all", [], {"account": "tide-surge"}).total.sums
        + ledger.report("all", [], {"account": "silt"}).total.sums
    )


def test_what_was_left_of_a_budget_is_what_is_left_and_what_was_charged_since(demo):
    ledger, lines = demo.site.ledger, demo.present.account_lines()
    ends = ledger.budget_ends()
    for line in lines:
        past = ledger.over_time("last 60 days", "account", {"account": line.account})
        figure = burn_down_figure(line, past, ends.get(line.account), "oxbow", demo.present.now())
        points = figure.panel.plots[0].curves[0].points
        left, begin = line.left_core_ms / HOUR_MS, past.parts[0].begin_ms
        granted = sum(grant.core_ms for grant in line.grants if grant.at_ms >= begin)
        charged = sum(map(sum, past.charged)) + line.running_core_ms
        assert points[-1][1] == left and points[0][1] == pytest.approx(left + (charged - granted) / HOUR_MS)
        if end := ends.get(line.account):
            assert end.daily_core_ms > 0 and (end.likely_days is None or end.likely_days > 0)
    assert "it ends about" in end_words(ends["tide-surge"], lines[0], demo.now_ms)
    with pytest.raises(QuarryError, match="no budget"):
        burn_down_figure(replace(lines[0], budget=None), past, None, "oxbow", demo.now_ms)


@pytest.mark.parametrize(
    ("words", "by", "where", "said"),
    [
        ("whenever", [], {}, "no period"),
        ("today", ["colour"], {}, "nothing to report by"),
        ("today", ["user", "user"], {}, "different keys"),
        ("today", ["user", "name", "tier"], {}, "at most 2"),
        ("today", [], {"colour": "red"}, "nothing to choose by"),
    ],
)
def test_what_cannot_be_reported_is_told(demo, words, by, where, said):
    with pytest.raises(BadValue, match=said):
        demo.site.ledger.report(words, by, where)


def test_reports_in_every_form_say_the_same(demo):
    found = demo.site.ledger.report("last month", ["account"])
    told = report_json(found)
    assert [row["key"] for row in told["rows"]] == [row.key[0] for row in found.rows]
    assert sum(row["charged_core_hours"] for row in told["rows"]) == pytest.approx(told["total"]["charged_core_hours"])
    lines = list(report_lines(found))
    assert lines[2].startswith(found.rows[0].key[0]) and "than in January 2027" in lines[-1]
    assert report_csv(found).splitlines()[0].startswith("account,charged_core_hours,used_core_hours,idle_core_hours")
    assert len(report_csv(found).splitlines()) == 1 + len(found.rows)
    waste = list(waste_lines(demo.site.ledger.report("last month", ["name"])))
    assert "core-hours were held" in waste[0] and len([line for line in waste if "lq advise" in line]) == 5
    assert next(iter(waste_lines(demo.site.ledger.report("2001", ["name"])))).startswith("2001: 0")


def test_the_books_are_proved_and_what_is_wrong_in_them_is_found(demo):
    journal, live = demo.present.journal, demo.present.engine.state.jobs.values()
    proof = prove(journal, live)
    assert not proof.wrong and not proof.unknown and proof.jobs > 11_000
    assert proof.charged_core_ms == demo.site.ledger.report("all").total.sums.charged_core_ms
    with journal.storage.sql.begin() as work:
        work.execute(
            text("UPDATE sums SET charge_core_ms = charge_core_ms + 1 WHERE rowid = (SELECT min(rowid) FROM sums)")
        )
    try:
        assert "charge_core_ms" in prove(journal, live).wrong[0]
    finally:
        with journal.storage.sql.begin() as work:
            work.execute(
                text("UPDATE sums SET charge_core_ms = charge_core_ms - 1 WHERE rowid = (SELECT min(rowid) FROM sums)")
            )
    wrong = replace(next(iter(journal.ended_after(-1, 0, 1))), number=9_999_999)
    assert prove(journal, [*live, wrong]).wrong


def test_report_and_proof_from_the_shell(machine):
    (machine.work / "a.sh").write_text(script('name = "grid"\nwalltime = "1m"\nmemory = "32 MiB/core"', "sleep 1"))
    (machine.work / "b.sh").write_text(
        script('name = "bad"\nwalltime = "1m"\nmemory = "32 MiB/core"', "sleep 0.2; exit 3")
    )
    for name in ("a.sh", "b.sh", "a.sh"):
        machine.lq("submit", name)
    machine.lq("wait", "1", "2", "3")
    told = json.loads(machine.lq("report", "--period", "today", "--by", "name", "--format", "json").stdout)
    rows = {row["key"]: row for row in told["rows"]}
    assert rows["grid"]["jobs"] == 2 and rows["bad"]["failed"] == 1 and rows["bad"]["lost_core_hours"] > 0
    assert rows["grid"]["charged_core_hours"] == pytest.approx(2 / 3600, rel=0.5)
    done = machine.lq("report", "--since", "2020-01-01", "--csv", "out.csv", "--svg", "use.svg")
    assert "together" in done.stdout and (machine.work / "out.csv").read_text().startswith("account,")
    assert "Use by account" in (machine.work / "use.svg").read_text()
    done = machine.lq("draw", "use", "today", "--svg", "today.svg")
    assert done.returncode == 0 and "Use by account" in done.stdout
    assert "no budget" in machine.lq("draw", "burn-down", "root").stderr
    assert "there is no account" in machine.lq("draw", "burn-down", "nobody").stderr
    assert "ends" in machine.lq("account", "list").stdout.splitlines()[0]
    assert json.loads(machine.lq("account", "show", "root", "--format", "json").stdout)[0]["ends"] is None
    assert "idle" in machine.lq("report", "--waste", "--period", "today").stdout
    done = machine.lq("ledger", "--verify")
    assert done.returncode == 0 and "to the millisecond" in done.stdout
    assert json.loads(machine.lq("ledger", "--verify", "--format", "json").stdout)["agree"]
    for words, said in (
        (("report", "--period", "x"), "no period"),
        (("report", "--period", "today", "--since", "2020"), "--since"),
        (("report", "--by", "x"), "nothing to report by"),
        (("ledger",), "--verify"),
    ):
        done = machine.lq(*words)
        assert done.returncode == 2 and said in done.stderr
