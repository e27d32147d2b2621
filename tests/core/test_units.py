import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.instants import parse_instant
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import (
    clock_time,
    exact_duration,
    fold_names,
    format_bytes,
    format_core_hours,
    format_duration,
    format_instant,
    format_size,
    off_words,
    parse_duration,
    parse_names,
    parse_size,
    plural,
)
from lazy_quarry.errors import BadValue


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("90s", 90),
        ("15m", 900),
        ("2h 30m", 9000),
        ("2h30m", 9000),
        ("1d 12h", 129_600),
        ("PT2H30M", 9000),
        ("P1DT12H", 129_600),
        ("P2W", 1_209_600),
        ("1:30:00", 5400),
        ("100:00:01", 360_001),
        ("1.5h", 5400),
        (" 3m ", 180),
    ],
)
def test_durations_are_read_in_every_form(text, seconds):
    assert parse_duration(text) == seconds


@pytest.mark.parametrize(
    "text", ["", "30", "1.5", "5 minutes", "2m 1h", "1h 1h", "P", "PT", "1:2:3", "-5m", "10q", "0.3s", "99999d"]
)
def test_text_that_is_no_duration_is_refused(text):
    with pytest.raises(BadValue):
        parse_duration(text)


def test_a_bare_number_is_offered_minutes_and_hours():
    with pytest.raises(BadValue, match=r'"30m".*"30h"'):
        parse_duration("30")


@given(st.integers(min_value=1, max_value=10**7))
def test_a_printed_duration_reads_back(seconds):
    assert parse_duration(exact_duration(seconds)) == seconds


@pytest.mark.parametrize(
    ("text", "mib"),
    [
        ("512 MiB", 512),
        ("4 GiB", 4096),
        ("1.5 TiB", 1_572_864),
        ("1 MB", 1),
        ("1GB", 954),
        ("1 KiB", 1),
        ("2 TB", 1_907_349),
    ],
)
def test_sizes_are_whole_mebibytes_rounded_up(text, mib):
    assert parse_size(text) == mib


@pytest.mark.parametrize("text", ["", "512", "4 gigs", "GiB", "-1 GiB", "1,5 GiB"])
def test_text_that_is_no_size_is_refused(text):
    with pytest.raises(BadValue):
        parse_size(text)


@given(st.integers(min_value=1, max_value=1023))
def test_a_printed_size_reads_back(gib):
    assert parse_size(format_size(gib * 1024)) == gib * 1024


def test_node_names_unfold_with_the_width_of_their_numbers():
    assert parse_names("c08..c11, m2") == ("c08", "c09", "c10", "c11", "m2")


@pytest.mark.parametrize("text", ["", "c1..", "c9..c3", "a1..b3", "c1,,c2", "c 1", "c0..c999999999"])
def test_text_that_names_no_nodes_is_refused(text):
    with pytest.raises(BadValue):
        parse_names(text)


@given(st.lists(st.integers(min_value=0, max_value=99), min_size=1, unique=True).map(sorted))
def test_folded_names_unfold_to_the_same(numbers):
    names = tuple(f"c{number:02d}" for number in numbers)
    assert parse_names(fold_names(names)) == names


def test_people_read_times_beside_now():
    now = parse_instant("2027-03-01T09:42:00Z")
    assert clock_time(now + 3_600_000, now) == "10:42"
    assert clock_time(now + 86_400_000, now) == "Tue 09:42"
    assert clock_time(now + 20 * 86_400_000, now) == "21 Mar 09:42"
    assert clock_time(now + 400 * 86_400_000, now) == "4 Apr 2028"
    assert format_instant(now) == "2027-03-01T09:42:00.000Z"


def test_amounts_read_well():
    assert format_duration(9_045) == "2h 30m"
    assert format_duration(0) == "0s"
    assert format_duration(-90) == "-1m 30s"
    assert [off_words(ms) for ms in (499, -700, -7_199_999, 90_061_000)] == [
        "right",
        "1s behind",
        "2h behind",
        "1d 1h 1m 1s ahead",
    ]
    assert format_bytes(900) == "900 B"
    assert format_bytes(5_000_000) == "4.8 MiB"
    assert format_core_hours(3_600_000) == "1.00"
    assert format_core_hours(36_000_000_000) == "10,000"
    assert (plural(1, "core"), plural(1204, "core"), plural(2, "entry")) == ("1 core", "1,204 cores", "2 entries")


@pytest.mark.parametrize(
    ("text", "traits", "met"),
    [
        ("fast", {"fast"}, True),
        ("fast and not gpu", {"fast"}, True),
        ("fast and not gpu", {"fast", "gpu"}, False),
        ("a or b and c", {"a"}, True),
        ("(a or b) and c", {"a"}, False),
        ("not (a or b)", {"c"}, True),
        ("avx512", set(), False),
    ],
)
def test_traits_are_matched_as_they_read(text, traits, met):
    assert parse_traits(text).met_by(traits) is met


@pytest.mark.parametrize("text", ["", "and", "a b", "(a", "a and", "a & b", "not"])
def test_broken_trait_expressions_say_what_is_wrong(text):
    with pytest.raises(BadValue):
        parse_traits(text)
