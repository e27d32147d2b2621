"""What is said of ranges and of budgets, the same for all who say it."""

import pytest

from lazy_quarry.core.ledger.accounts import AccountLine
from lazy_quarry.core.ledger.burn import BudgetEnd
from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS
from lazy_quarry.site.book_words import cost_words, end_day, end_words
from lazy_quarry.site.draft_view import DraftCost, DraftReport, DraftShape
from lazy_quarry.site.job_view import StartRange
from lazy_quarry.site.sentences import range_now, range_words

LINE = AccountLine("silt", 0, 0, 0, 0)
NOW = 20_000 * DAY_MS + 9 * HOUR_MS


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
    assert "lasts for years" in end_words(BudgetEnd(None, None, None, 1.0), LINE, NOW)


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
