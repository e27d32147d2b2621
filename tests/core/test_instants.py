"""Instants as people write them: offsets, zones, both changes of daylight saving, and times before now."""

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.instants import instant_of, parse_instant, parse_since, start_of_day, zone_called
from lazy_quarry.core.units import clock_time, format_instant
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue
from tests.conftest import script, small_site

BERLIN, SANTIAGO = ZoneInfo("Europe/Berlin"), ZoneInfo("America/Santiago")
NOW = parse_instant("2026-11-26T17:00:00Z")  # a Thursday


@pytest.mark.parametrize(
    ("text", "utc"),
    [
        ("2026-11-26T18:00", "2026-11-26T17:00"),  # winter
        ("2026-07-26T18:00", "2026-07-26T16:00"),  # summer
        ("2026-07-26T18:00Z", "2026-07-26T18:00"),
        ("2026-07-26T18:00+05:30", "2026-07-26T12:30"),
        ("2026-10-25T02:30", "2026-10-25T00:30"),  # comes twice: the first
        ("2026-10-25T03:00", "2026-10-25T02:00"),
        ("2026-03-29T01:59", "2026-03-29T00:59"),
        ("2026-03-29T03:00", "2026-03-29T01:00"),
        ("2026-07-26", "2026-07-25T22:00"),
    ],
)
def test_a_time_without_offset_is_in_its_zone_in_summer_and_winter(text, utc):
    assert parse_instant(text, BERLIN) == parse_instant(utc, UTC)


def test_a_time_that_the_clocks_leave_out_is_refused_with_what_to_write():
    with pytest.raises(BadValue, match=r"02:30 on 29 Mar 2026 is left out by the clocks of Europe/Berlin.*write 03:30"):
        parse_instant("2026-03-29T02:30", BERLIN)


@pytest.mark.parametrize(
    ("words", "utc"),
    [
        ("2h ago", "2026-11-26T15:00"),
        ("2h", "2026-11-26T15:00"),
        ("1d 30m ago", "2026-11-25T16:30"),
        ("today", "2026-11-25T23:00"),
        ("Yesterday", "2026-11-24T23:00"),
        ("monday", "2026-11-22T23:00"),
        ("thursday", "2026-11-25T23:00"),
        ("10:40", "2026-11-26T09:40"),
        ("2026-11-03", "2026-11-02T23:00"),
        ("2026-10-01", "2026-09-30T22:00"),
        ("2026-11-03T08:00", "2026-11-03T07:00"),
        ("2026-11-03T08:00Z", "2026-11-03T08:00"),
    ],
)
def test_a_time_before_now_is_read_as_the_help_says(words, utc):
    assert parse_since(words, NOW, BERLIN) == parse_instant(utc)


@pytest.mark.parametrize("words", ["", "soon", "2h ahead", "25:00", "2026-13-01", "9999-01-01", "-2h", "x" * 500])
def test_a_time_that_does_not_lie_before_now_is_refused(words):
    with pytest.raises(BadValue) as told:
        parse_since(words, NOW, BERLIN)
    assert len(str(told.value)) < 250


@given(st.datetimes(datetime(1972, 1, 1), datetime(2990, 1, 1)), st.sampled_from([UTC, BERLIN, SANTIAGO]))
def test_a_time_shown_in_a_zone_is_read_back_in_it(at, zone):
    try:
        instant = instant_of(at, zone)
    except BadValue:
        return  # the clocks leave it out
    assert parse_instant(format_instant(instant, zone)) == instant
    day = datetime.fromtimestamp(instant / 1000, zone).date()
    assert start_of_day(day, zone) <= instant
    assert datetime.fromtimestamp(start_of_day(day, zone) / 1000, zone).date() == day


def test_a_program_that_began_in_winter_shows_summer_right():
    summer = parse_instant("2026-07-26T16:00:00Z")
    assert clock_time(summer, summer, BERLIN) == "18:00"
    assert zone_called("Europe/Berlin") == BERLIN and zone_called("No/Where") is UTC


def test_not_before_is_in_the_zone_of_the_site():
    site = replace(small_site(), zone="Europe/Berlin")
    for written, utc in (('"2026-07-26T18:00"', "2026-07-26T16:00"), ("2026-07-26T18:00:00Z", "2026-07-26T18:00")):
        text = script(f'walltime = "1h"\nmemory = "1 GiB/core"\nnot-before = {written}')
        checked = check_script(text, site, CheckContext("ada", Submission(text)))
        assert checked.request.not_before_ms == parse_instant(utc)
    text = script('walltime = "1h"\nnot-before = 2026-03-29T02:30:00')
    found = check_script(text, site, CheckContext("ada", Submission(text))).diagnostics
    assert [(one.code, one.line) for one in found if one.severity == "error"] == [("value", 4)]
