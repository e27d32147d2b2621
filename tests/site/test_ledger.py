"""The books: every sum is the integral of what was held, however it is split; and whether they agree is proved."""

import json
from collections import Counter
from statistics import median

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from lazy_quarry.cli.output.report_text import report_csv, report_json, report_lines, waste_json, waste_lines
from lazy_quarry.core.engine.commands import LoseNode
from lazy_quarry.core.engine.events import Ended, Started, Stopping
from lazy_quarry.core.job.by import By
from lazy_quarry.core.ledger.report import KEYS
from lazy_quarry.core.units import DAY_MS, HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.draw.figures.books_figures import burn_down_figure, over_time_figure
from lazy_quarry.draw.figures.reports_figures import rhythm_figure, shares_figure, waits_figure, waste_figure
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.store.proof import prove
from lazy_quarry.store.storage import CELL_KEY, Wanted
from lazy_quarry.wording.book_words import end_words
from tests.conftest import quickly, script


@pytest.fixture(scope="module")
def demo():
    """Two days of the demo behind its ninety: retries, a lost node, jobs that gave way, arrays."""
    site = quickly(Rehearsed(5))
    site.add_past(90)
    assert site.client().report("all").total.sums.jobs  # what ends from now on is added to the sums at hand
    site.advance(site.now_ms + DAY_MS)
    busy = next(one.allocations[0].node for one in site.session.engine.state.running())
    events = site.session.engine.decide(LoseNode(site.now_ms, busy, By(why="no answer")))
    stopped = {event.job for event in events if isinstance(event, Stopping)}
    site.session.commit(events)
    site.site.dispatcher.step()
    site.advance(site.now_ms + DAY_MS)
    ended = (event for _, event in site.session.journal.events_after(0) if isinstance(event, Ended))
    assert stopped & {event.job for event in ended if event.again}
    return site


@pytest.fixture(scope="module")
def attempts(demo):
    """Every attempt that has ended since the journal began: (begin, end, cores, job's record)."""
    found, began = [], {}
    journal, state = demo.session.journal, demo.session.engine.state
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
    begin = (demo.session.began_ms // DAY_MS + first) * DAY_MS
    end = begin + count * DAY_MS
    ledger = demo.client()
    since = min(at for at, *_ in attempts)
    span = demo.site.ledger.period(f"{_day(begin)} to {_day(end - DAY_MS)}")
    assert (span.begin_ms, span.end_ms) == (begin, end)
    found = ledger.report(f"{_day(begin)} to {_day(end - DAY_MS)}", by)
    for name in (
        "jobs",
        "failed",
        "held_core_ms",
        "charged_core_ms",
        "cpu_ms",
        "lost_core_ms",
        "lost_cpu_ms",
        "asked_core_ms",
    ):
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


@given(
    st.integers(-40, 5), st.integers(1, 60), st.lists(st.sampled_from(KEYS), max_size=2, unique=True),
    st.sampled_from([{}, {"account": ("tide-surge", "silt")}, {"user": ("imre",)}, {"name": ("nobody's",)}]),
)  # fmt: skip
@settings(max_examples=60)
def test_sums_at_hand_are_those_that_are_kept(demo, first, count, by, where):
    begin = (demo.session.began_ms // DAY_MS + first) * DAY_MS
    parts = tuple(begin + 7 * DAY_MS * number for number in range(4))
    keys = tuple("part" if key == "month" else key for key in by)
    wanted = Wanted(begin, begin + count * DAY_MS, keys, where, parts if "part" in keys else ())
    kept, at_hand = demo.session.journal.storage.sums(wanted), demo.session.journal.sums.rows(wanted)
    plain = [tuple(one or 0 if place >= len(keys) else one for place, one in enumerate(row)) for row in kept]
    assert sorted(plain) == sorted(
        tuple(one or 0 if place >= len(keys) else one for place, one in enumerate(row)) for row in at_hand
    )


def test_use_over_time_adds_up_to_the_report(demo):
    ledger = demo.client()
    for words in ("all", "last month", "last 2 months", "since 1 December", "today"):
        for split in ("account", "user", "tier"):
            over, found = ledger.over_time(words, split), ledger.report(words, [split], None, False)
            assert {key: sum(charged) for key, charged in zip(over.keys, over.charged, strict=True)} == {
                row.key[0]: row.sums.charged_core_ms for row in found.rows
            }
        for place, part in enumerate(over.parts):
            found = ledger.report(f"{part.first} to {part.last}", ["tier"], None, False)
            charged = {key: each[place] for key, each in zip(over.keys, over.charged, strict=True) if each[place]}
            assert charged == {row.key[0]: row.sums.charged_core_ms for row in found.rows if row.sums.charged_core_ms}
    with pytest.raises(BadValue, match="nothing to split by"):
        ledger.over_time("today", "month")
    figure = over_time_figure(ledger.over_time("all", "name"), "oxbow", demo.now_ms)
    assert "others" in figure.legend[-1][1] and figure.panel.plots[0].curves
    assert ledger.report("all", [], {"name": "o'b%r\" ?:x"}).total.sums.jobs == 0
    only = ledger.report("all", ["user"], {"account": "tide-surge,silt"})
    assert (
        only.total.sums
        == ledger.report("all", [], {"account": "tide-surge"}).total.sums
        + ledger.report("all", [], {"account": "silt"}).total.sums
    )


def test_the_balance_at_an_instant_is_todays_and_the_charges_since(demo):
    ledger, lines = demo.client(), demo.session.account_lines()
    ends = ledger.budget_ends()
    for line in lines:
        past = ledger.over_time("last 60 days", "account", {"account": line.account})
        figure = burn_down_figure(line, past, ends.get(line.account), "oxbow", demo.session.now())
        points = figure.panel.plots[0].curves[0].points
        left, begin = line.left_core_ms / HOUR_MS, past.parts[0].begin_ms
        granted = sum(grant.core_ms for grant in line.grants if grant.at_ms >= begin)
        places = [at for at, part in enumerate(past.parts) if part.begin_ms >= line.budget.term.begin_ms]
        charged = sum(amounts[at] for amounts in past.charged for at in places) + line.running_under_core_ms
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
def test_a_report_that_cannot_be_made_says_why(demo, words, by, where, said):
    with pytest.raises(BadValue, match=said):
        demo.client().report(words, by, where)


def test_reports_in_every_form_say_the_same(demo):
    found = demo.client().report("last month", ["account"])
    told = report_json(found)
    assert [row["key"] for row in told["rows"]] == [row.key[0] for row in found.rows]
    assert sum(row["charged_core_hours"] for row in told["rows"]) == pytest.approx(told["total"]["charged_core_hours"])
    lines = list(report_lines(found))
    assert lines[2].startswith(found.rows[0].key[0]) and "than in January 2027" in lines[-1]
    assert report_csv(found).splitlines()[0].startswith("account,charged_core_hours,used_core_hours,idle_core_hours")
    assert len(report_csv(found).splitlines()) == 1 + len(found.rows)
    waste = list(waste_lines(demo.client().waste("last month"), "tove"))
    assert "core-hours, held" in waste[0] and len([line for line in waste if "requested" in line]) == 6
    assert next(iter(waste_lines(demo.client().waste("2001"), "tove"))).startswith("2001: 0")


def test_the_books_are_proved_and_what_is_wrong_in_them_is_found(demo):
    journal, live = demo.session.journal, demo.session.engine.state.jobs.values()
    proof = prove(journal, live)
    assert not proof.wrong and not proof.unknown and proof.jobs > 11_000
    assert proof.charged_core_ms == demo.client().report("all").total.sums.charged_core_ms
    first = " AND ".join(f"{name} = (SELECT {name} FROM sums LIMIT 1)" for name in CELL_KEY)
    for by in ("+ 1", "- 1"):
        with journal.storage.sql.begin() as work:
            work.execute(text(f"UPDATE sums SET charge_core_ms = charge_core_ms {by} WHERE {first}"))
        assert ("charge_core_ms" in f"{prove(journal, live).wrong}") is (by == "+ 1")
    wrong = replace(next(iter(journal.ended_after(-1, 0, 1))), number=9_999_999)
    assert prove(journal, [*live, wrong]).wrong


@given(st.integers(-3, 3), st.integers(1, 6), st.sampled_from([{}, {"account": "tide-surge"}, {"user": "imre,noor"}]))
@settings(max_examples=20)
def test_use_by_hour_is_what_was_held_in_those_hours(demo, first, count, where):
    """Each run counts evenly between its beginning and end; the attempts of a job are spread over all of that time."""
    begin = (demo.session.began_ms // DAY_MS + first) * DAY_MS
    end = begin + count * DAY_MS
    found = demo.client().rhythm(f"{_day(begin)} to {_day(end - DAY_MS)}", where)
    known = EndedFilter(since_ms=begin, limit=100_000, accounts=("tide-surge",) if "account" in where else None)
    jobs = [job for job in demo.session.journal.ended(known) if job.request.array is None]
    arrays = [job for job in demo.session.journal.ended(known) if job.request.array is not None]
    jobs += [task for job in arrays for task in demo.session.journal.ended(EndedFilter(array=job.number, limit=10_000))]
    jobs += [
        task
        for job in demo.session.engine.state.jobs.values()
        if job.request.array is not None
        for task in demo.session.journal.ended(EndedFilter(array=job.number, limit=10_000))
        if "account" not in where or task.request.account == "tide-surge"
    ]
    users = where.get("user", "").split(",")
    held = sum(
        job.allocated_core_ms
        * max(0, min(job.ended_ms, end) - max(job.times.first_start_ms, begin))
        / (job.ended_ms - job.times.first_start_ms)
        for job in jobs
        if (job.times.first_start_ms or job.ended_ms) < job.ended_ms and ("user" not in where or job.user in users)
    )
    assert sum(map(sum, found.held)) * HOUR_MS == pytest.approx(held, rel=1e-9)
    assert sum(map(sum, found.hours)) <= count * 24 + 1e-6


def test_waits_shares_and_waste_say_what_the_jobs_say(demo):
    ledger, journal = demo.client(), demo.session.journal
    sizes = ledger.waits("last month")
    total = ledger.report("last month", []).total
    assert sum(row.jobs for row in sizes.rows) <= total.sums.jobs and sizes.rows[0].least == 1
    span = sizes.period
    ended = journal.ended(EndedFilter(since_ms=span.begin_ms, until_ms=span.end_ms - 1, limit=100_000))
    single = [one for one in ended if one.started_ms is not None and one.request.array is None and one.attempt == 1]
    waited = [(one.started_ms - one.submitted_ms) / 1000 for one in single if one.cores_allocated == 1]
    assert sizes.rows[0].wait_median_s == pytest.approx(median(waited)) and sizes.rows[0].jobs == len(waited)
    shares = {line.account: line for line in ledger.shares()}
    assert sum(line.target for line in shares.values()) == pytest.approx(1)
    assert sum(line.used for line in shares.values()) == pytest.approx(1)
    assert shares["commons"].ahead_h > shares["tide-surge"].ahead_h
    counted = sum(counts for _, _, counts in shares["silt"].days)
    assert counted < sum(amount for _, amount, _ in shares["silt"].days)
    waste = ledger.waste("last month", {"account": "tide-surge"})
    assert all(row.sums.asked_core_ms > row.sums.used_core_ms for row in waste.rows) and len(waste.rows) == 5
    assert any(row.advised_core_ms for row in waste.rows)
    assert all(row.advised_core_ms <= row.sums.asked_core_ms for row in waste.rows)
    words = "\n".join(waste_lines(waste, "imre"))
    assert "(lq advise surge-coast)" in words and "most is to be won with" in words
    assert "(lq advise" not in "\n".join(waste_lines(waste, "bram"))
    assert waste_json(waste)["rows"][0]["asked_core_hours"] > 0
    now = demo.session.now()
    for figure, told in (
        (waits_figure(sizes, "oxbow", now), "19 in 20"),
        (rhythm_figure(ledger.rhythm("last month"), "oxbow", now), "on average"),
        (shares_figure(ledger.shares(), "oxbow", now), "33% is its target"),
        (waste_figure(waste, "oxbow", now), "held idle"),
    ):
        assert told in f"{figure.note} {figure.legend}"
    for nothing in (
        lambda: waits_figure(ledger.waits("2020"), "oxbow", now),
        lambda: rhythm_figure(ledger.rhythm("2020"), "oxbow", now),
        lambda: waste_figure(ledger.waste("2020"), "oxbow", now),
        lambda: shares_figure((), "oxbow", now),
    ):
        with pytest.raises(QuarryError):
            nothing()


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
    told = json.loads(machine.lq("report", "--waste", "--period", "today", "--format", "json").stdout)
    assert told["total"]["asked_core_hours"] == pytest.approx(3 / 60, rel=1e-3)
    told = json.loads(machine.lq("report", "--sizes", "--period", "today", "--format", "json").stdout)
    assert [(row["cores_least"], row["jobs"]) for row in told["rows"]] == [(1, 3)]
    assert "1 core" in machine.lq("report", "--sizes", "--period", "today").stdout
    done = machine.lq("report", "--shares", "--svg", "shares.svg")
    assert "stands ahead" in done.stdout and "half-life" in (machine.work / "shares.svg").read_text()
    assert json.loads(machine.lq("report", "--shares", "--format", "json").stdout)[0]["target"] == 1
    for name in ("waits", "rhythm", "shares", "waste"):
        assert (
            machine.lq("draw", name, *(["today"] if name != "shares" else []), "--svg", f"{name}.svg").returncode == 0
        )
    done = machine.lq("ledger", "--verify")
    assert done.returncode == 0 and "to the millisecond" in done.stdout
    assert json.loads(machine.lq("ledger", "--verify", "--format", "json").stdout)["agree"]
    for words, said in (
        (("report", "--period", "x"), "no period"),
        (("report", "--period", "today", "--since", "2020"), "--since"),
        (("report", "--by", "x"), "nothing to report by"),
        (("report", "--waste", "--sizes"), "one of"),
        (("report", "--waste", "--csv", "x"), "--csv"),
        (("ledger",), "--verify"),
    ):
        done = machine.lq(*words)
        assert done.returncode == 2 and said in done.stderr
