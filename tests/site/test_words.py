"""Sentences about ranges and budgets, the same for all who say it."""

import re
from pathlib import Path
from types import SimpleNamespace

import pytest

import lazy_quarry
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.ledger.period import parse_period
from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS
from lazy_quarry.views.draft_view import DraftCost, DraftReport, DraftShape
from lazy_quarry.views.job_view import StartRange
from lazy_quarry.wording.book_words import cost_words, end_day, end_words, waits_words
from lazy_quarry.wording.sentences import range_now, range_words, sooner_words, start_in_short

LINE = AccountLine("silt", 0, 0, 0, 0)
NOW = 20_000 * DAY_MS + 9 * HOUR_MS


@pytest.mark.parametrize(
    ("after_ms", "at_once", "said"),
    [
        (0, True, "now"),
        (800, True, "now"),  # worked out a moment after the board that is shown
        (-800, True, "now"),
        (600_000, False, "by 09:10, 20m sooner,"),
        (2_400_000, False, None),  # no sooner than it likely does as it is
    ],
)
def test_a_change_that_starts_a_job_at_once_says_now_whenever_it_is_looked_at(after_ms, at_once, said):
    view = SimpleNamespace(range=None, forecast_ms=NOW + 30 * MINUTE_MS)
    change = Suggestion((("queue", "deep"),), "", NOW + after_ms, "in queue deep", at_once)
    told = [words for _, words in sooner_words(view, [change], NOW)]
    assert told == ([] if said is None else [f"It would start {said} in queue deep."])


@pytest.mark.parametrize(
    ("early", "likely", "late", "plan", "said"),
    [
        (20, 40, 90, 120, "about 09:40; 8 times in 10 between 09:20 and 10:30; by the plan 11:00"),
        (-5, 40, 90, 120, "about 09:40; 8 times in 10 between now and 10:30; by the plan 11:00"),
        (-9, -5, 90, 120, "about 09:00; 8 times in 10 between now and 10:30; by the plan 11:00"),
        (20, 40, 90, None, "about 09:40; 8 times in 10 between 09:20 and 10:30"),
        (20, 40, 90, 0, ""),  # by the plan it starts now, and so it does
        (-60, -40, -1, 120, ""),  # all of the range is over
    ],
)
def test_a_range_is_told_with_what_is_left_of_it(early, likely, late, plan, said):
    known = StartRange(*(NOW + minutes * MINUTE_MS for minutes in (early, likely, late)))
    by_plan = None if plan is None else NOW + plan * MINUTE_MS
    assert range_words(known, by_plan, NOW) == said


@pytest.mark.parametrize(
    ("early", "likely", "late", "said"),
    [
        (100, 120, 150, "about 11:00"),
        (20, 40, 90, "09:20 to 10:30"),
        (-5, 40, 90, "now to 10:30"),
        (100, 120, 3 * 1440, "10:40 to Mon 09:00"),
        (5000, 6000, 7000, "Mon 20:20 to Wed 05:40"),  # over days, though it is less than half of the wait
        (119, 120, 120, "about 11:00"),
    ],
)
def test_a_row_points_at_a_start_only_where_that_can_be_known(early, likely, late, said):
    known = StartRange(*(NOW + minutes * MINUTE_MS for minutes in (early, likely, late)))
    view = SimpleNamespace(range=known, forecast_ms=NOW + 999 * MINUTE_MS)
    assert start_in_short(view, NOW) == said


@pytest.mark.parametrize(
    ("half", "most", "said"),
    [
        (0, 0, "nobody waited"),
        (0, 7200, "half at once, 19 in 20 at most 2h"),
        (240, 7200, "half at most 4m, 19 in 20 at most 2h"),
    ],
)
def test_waits_are_told_without_noughts(half, most, said):
    assert waits_words(half, most) == said


@pytest.mark.parametrize(
    ("words", "when"),
    [
        ("2026-11-29", "on 29 November 2026"),
        ("2026-11", "in November 2026"),
        ("2026-03-03 to 2026-03-09", "from 3 to 9 March 2026"),
    ],
)
def test_a_period_is_named_as_one_says_it(words, when):
    assert parse_period(words, NOW).when == when


def test_numbers_and_their_nouns_go_through_one_place():
    """A number before a noun in the plural is right for all numbers but one: ``plural`` knows which."""
    nouns = "cores|tasks|jobs|nodes|ranks|days|others|GPUs|threads|attempts|sizes"
    loose = re.compile(
        r"\{(?![A-Z_]+(?::,)?\}|who\}|may\}|name\}|view\.name\}|runs\})[^{}]*[^{}f]\} (" + nouns + r")\b"
    )
    apart = ("inside/", "run/node/", "demo/scripts/")  # which may use the standard library alone
    source = Path(lazy_quarry.__file__).parent
    found = [
        f"{path.relative_to(source)}:{number}: {line.strip()}"
        for path in sorted(source.rglob("*.py"))
        if not f"{path.relative_to(source)}".startswith(apart)
        for number, line in enumerate(path.read_text().split("\n"), 1)
        if loose.search(line) and '"""' not in line
    ]
    assert not found, found


def test_nothing_of_a_range_lies_before_the_present():
    known = StartRange(NOW - 10, NOW - 5, NOW + 5, 40)
    assert range_now(known, NOW) == StartRange(NOW, NOW, NOW + 5, 40)
    assert range_now(known, NOW + 5) is None and range_now(None, NOW) is None
    assert range_words(None, NOW + 1, NOW) == ""


def test_the_end_of_a_budget_is_a_day_with_its_year_where_that_is_another():
    assert (end_day(1, NOW), end_day(300, NOW), end_day(None, NOW)) == ("5 Oct", "31 Jul 2025", "in years")
    end = BudgetEnd(10.0, 20.0, None, 100.0 * HOUR_MS)
    assert end_words(end, LINE, NOW).endswith(
        "(100.0 core-hours a day), it ends about 24 Oct; 9 times in 10 not before 14 Oct"
    )
    assert "enough for years" in end_words(BudgetEnd(None, None, None, 1.0), LINE, NOW)


@pytest.mark.parametrize(
    ("counts", "factor", "tasks", "said"),
    [
        (4000, 1000, 0, "4 cores × 2h = at most 8.00 core-hours"),
        (6500, 1000, 0, "4 cores that count as 6.5 × 2h = at most 13.0 core-hours"),
        (4000, 2000, 3, "3 tasks × 4 cores × 2h × 2 = at most 48.0 core-hours"),
    ],
)
def test_a_cost_is_told_with_what_it_follows_from(counts, factor, tasks, said):
    most = round((tasks or 1) * counts * factor * 2 * HOUR_MS / 1e6)
    shape = DraftShape(nodes=1, ranks=4, threads=1, cores=4, walltime_s=7200, tasks=tasks)
    report = DraftReport(diagnostics=(), now_ms=0, shape=shape, cost=DraftCost("silt", most, None, counts, factor))
    assert cost_words(report) == said
