"""Periods in plain words: whole days, moved and widened without gaps."""

import random
from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.ledger.burn import budget_end
from lazy_quarry.core.ledger.period import parse_period, period_between
from lazy_quarry.core.ledger.report import parts_of
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.errors import BadValue

NOW = round(datetime(2026, 11, 27, 12, tzinfo=UTC).timestamp() * 1000)
days = st.integers(366, 365 * 900)


@pytest.mark.parametrize(
    ("words", "name", "count"),
    [
        ("today", "27 November 2026", 1),
        ("yesterday", "26 November 2026", 1),
        ("last week", "the week of 16 November 2026", 7),
        ("Last  Month", "October 2026", 31),
        ("this quarter", "2026 Q4", 92),
        ("2026 Q3", "2026 Q3", 92),
        ("q1", "2026 Q1", 90),
        ("2024", "2024", 366),
        ("March", "March 2026", 31),
        ("december", "December 2025", 31),
        ("feb 2024", "February 2024", 29),
        ("2026-03", "March 2026", 31),
        ("last 30 days", "29 October to 27 November 2026", 30),
        ("last 3 months", "1 September to 30 November 2026", 91),
        ("since 3 March", "3 March to 27 November 2026", 270),
        ("since Monday", "23 to 27 November 2026", 5),
        ("since October", "1 October to 27 November 2026", 58),
        ("since December 24", "24 December 2025 to 27 November 2026", 339),
        ("2026-03-01 to 2026-03-31", "March 2026", 31),
        ("3 March to 5 April 2026", "3 March to 5 April 2026", 34),
        ("5 March", "5 March 2026", 1),
    ],
)
def test_words_are_periods(words, name, count):
    found = parse_period(words, NOW)
    assert (found.name, found.days) == (name, count)


@pytest.mark.parametrize(
    "words", ["", "soon", "2026-13", "30 February 2026", "since never", "5 April 2026 to 3 March 2026", "1492", "q5"]
)
def test_words_that_are_no_period_are_refused_with_those_that_are(words):
    with pytest.raises(BadValue):
        parse_period(words, NOW)


@given(days, st.integers(1, 900), st.sampled_from([-1, 1]))
def test_periods_follow_one_another_without_gap(first, count, by):
    period = period_between(first * DAY_MS, (first + count) * DAY_MS)
    assert period.days == count
    other = period.moved(by)
    assert (other.begin_ms == period.end_ms) if by > 0 else (other.end_ms == period.begin_ms)
    wider = period.widened(1)
    assert wider.begin_ms <= period.begin_ms < wider.end_ms
    assert period.widened(-1).end_ms > period.end_ms - 370 * DAY_MS
    again = parse_period(f"{period.first} to {period.last}", NOW)
    assert (again.begin_ms, again.end_ms) == (period.begin_ms, period.end_ms)


@given(days, st.integers(1, 900))
def test_the_parts_of_a_period_cover_it(first, count):
    period = period_between(first * DAY_MS, (first + count) * DAY_MS)
    parts = parts_of(period)
    assert parts[0].begin_ms <= period.begin_ms and parts[-1].end_ms >= period.end_ms
    assert all(one.end_ms == other.begin_ms for one, other in pairwise(parts))
    assert len(parts) <= 62 or count > 62 * 30
    assert parts[0].first + timedelta(days=parts[0].days - 1) == parts[0].last


# -- how long a budget lasts ----------------------------------------------------------------------

HOUR = 3_600_000


@given(st.integers(0, 10**9), st.lists(st.integers(0, 10**7), max_size=60))
def test_a_budget_ends_between_its_ends(left, daily):
    found = budget_end(left * HOUR, [one * HOUR for one in daily])
    if found is None:
        assert not sum(daily)
        return
    inside = [one for one in (found.early_days, found.likely_days, found.late_days) if one is not None]
    assert inside == sorted(inside)
    if found.likely_days is not None:
        assert found.likely_days * found.daily_core_ms == pytest.approx(left * HOUR, rel=1e-6, abs=1.0)


def test_the_end_of_a_budget_lies_in_its_range_eight_times_in_ten():
    chance, held = random.Random(4), 0
    for _ in range(400):
        days_of = [chance.gammavariate(2.0, 100.0) * HOUR for _ in range(400)]
        found = budget_end(round(4000 * HOUR), [round(one) for one in days_of[:28]])
        total, after = 0.0, 0
        while total < 4000 * HOUR:
            total += days_of[28 + after]
            after += 1
        held += found.early_days <= after and (found.late_days is None or after - 1 <= found.late_days)
    assert 0.72 <= held / 400 <= 0.92
