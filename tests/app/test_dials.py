"""Dials and header are one: whatever is turned is written, and nothing else in the file moves."""

import tomllib
from copy import deepcopy
from functools import cache

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.app.draft.header_dials import dials, follows, wanted_traits
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.values import replace
from lazy_quarry.demo.session import Rehearsed
from lazy_quarry.demo.site import oxbow
from lazy_quarry.errors import BadValue
from lazy_quarry.views.draft_view import DraftReport, DraftTraits, TraitRung


@cache
def board():
    return Rehearsed(7).client().board()


LINES = (
    'name     = "a"  # its name',
    "# a remark",
    "",
    'walltime = "1h 30m"',
    "walltime='20m' # short",
    "nodes = 2",
    'nodes = "2..4"',
    "ranks = 16",
    "ranks-per-node    =   3",
    "threads=4",
    'memory = "3 GiB/core"',
    'memory = "20 GiB/node"',
    'traits = "avx512"',
    'traits = "avx512 or gpu"',
    'queue = ["tidal", "deep"]',
    'queue = "lantern"',
    "gpus = 1",
    "whole-nodes = true",
    'expect = ["a",\n  "b"]',
    "made-up = 3",
)
TABLES = ("", '\n[array]\ntasks = "1..4"\n', "\n[rehearsal]\nexit = 1")


@st.composite
def headers(draw):
    """A valid header: any lines in any order, each key once, perhaps a table behind them."""
    keys, lines = set(), []
    for line in draw(st.lists(st.sampled_from(LINES), unique=True, max_size=10)):
        key = line.partition("=")[0].strip() if line and not line.startswith("#") else None
        if key not in keys or key is None:
            keys.add(key)
            lines.append(line)
    toml = "\n".join(lines) + draw(st.sampled_from(TABLES))
    block = "\n".join(f"# {line}" if line else "#" for line in toml.split("\n"))
    return f"#!/bin/sh\n# /// job\n{block}\n# ///\necho  'two  spaces' # /// x\n\ttab\n"


def values_of(text):
    return find_block(text)[0].values


def lines_of(text, key):
    """All lines but those of this key and empty ones, with its value's further lines."""
    block = find_block(text)[0]
    gone = set()
    for path, place in block.places.items():
        if path[: len(key)] == key:
            gone |= set(range(place.line, place.last_line + 1))
    kept = [line for number, line in enumerate(text.split("\n"), 1) if number not in gone and line != "#"]
    return [line for line in kept if len(key) == 1 or not line.startswith(f"# {key[-1]}")]


@given(headers(), st.lists(st.tuples(st.integers(0, 14), st.integers(-3, 3)), max_size=8))
def test_any_sequence_of_dials_parses_to_their_values_and_moves_nothing_else(text, turns):
    expected = dict(values_of(text))
    touched = set()
    for which, by in turns:
        row = dials(values_of(text), board())
        dial = row[which % len(row)]
        before = text
        for key, value in dial.turned(by):
            text = set_key(text, key, value)
            touched.add(key)
            *tables, last = key.split(".")
            holder = expected = deepcopy(expected)
            for table in tables:
                holder = holder[table]
            holder.pop(last, None) if value is None else holder.update({last: value})
            assert lines_of(text, tuple(key.split("."))) == lines_of(before, tuple(key.split(".")))
            before = text
        again = dials(values_of(text), board())
        same = next(one for one in again if one.name == dial.name) if dial.name in {one.name for one in again} else None
        if same and dial.turned(by) and not same.trait:
            assert same.at == (dial.turned(by)[0][1] if same.key not in ("walltime", "memory") else same.at)
    block, problems = find_block(text)
    assert problems == []
    assert block.values == expected
    tomllib.loads(block.toml)


@given(headers(), st.integers(0, 14), st.text(alphabet="0123456789hm/. GiBnodeany,", max_size=8))
def test_whatever_is_typed_is_taken_or_refused_with_words(text, which, typed):
    row = dials(values_of(text), board())
    dial = row[which % len(row)]
    try:
        change = dial.typed(typed)
    except BadValue as fault:
        assert str(fault)
        return
    for key, value in change:
        text = set_key(text, key, value)
    found = check_script(text, oxbow(), CheckContext("tove"))
    assert not any(one.code in ("toml", "header-unclosed") for one in found.diagnostics)


@pytest.mark.parametrize(
    ("dial", "typed", "written"),
    [
        ("walltime", "90m", {"walltime": "1h 30m"}),
        ("walltime", "", {}),
        ("nodes", "any", {"nodes": "any"}),
        ("nodes", "2..4", {"nodes": "2..4"}),
        ("nodes", "fit", {}),
        ("ranks", "24", {"ranks": 24}),
        ("ranks", "3/node", {"ranks-per-node": 3}),
        ("memory", "4 GiB", {"memory": "4 GiB/core"}),
        ("memory", "48 GiB/node", {"memory": "48 GiB/node"}),
        ("memory", "/job", {"memory": "2 GiB/job"}),
        ("queue", "tidal, deep", {"queue": ["tidal", "deep"]}),
        ("whole nodes", "yes", {"whole-nodes": True}),
    ],
)
def test_a_value_typed_into_a_dial_is_written_in_the_form_of_the_header(dial, typed, written):
    one = next(one for one in dials({}, board()) if one.name == dial)
    assert {key: value for key, value in one.typed(typed) if value is not None} == written


@pytest.mark.parametrize(("dial", "typed"), [("walltime", "90"), ("ranks", "many"), ("nodes", "4..2"), ("memory", "4")])
def test_a_dial_says_what_to_write_in_place_of_a_value_that_it_cannot_read(dial, typed):
    one = next(one for one in dials({}, board()) if one.name == dial)
    with pytest.raises(BadValue):
        one.typed(typed)


def test_turning_goes_from_any_value_to_the_next_sensible_one():
    row = {one.name: one for one in dials({"walltime": "50m", "ranks": 17}, board())}
    assert row["walltime"].turned(1) == (("walltime", "1h"),)
    assert row["walltime"].turned(-1) == (("walltime", "45m"),)
    assert row["ranks"].turned(1) == (("ranks", 20),)
    longest = next(one for one in dials({"walltime": "3d"}, board()) if one.name == "walltime")
    assert longest.turned(1) == ()  # the queue's limit


def test_traits_are_wanted_left_out_and_left_alone():
    def trait(values, name):
        return next(one for one in dials(values, board()) if one.name == name)

    assert trait({}, "fabric").turned(1) == (("traits", "fabric"),)
    assert trait({"traits": "avx512"}, "fabric").turned(1) == (("traits", "avx512 and fabric"),)
    assert trait({"traits": "fabric"}, "fabric").turned(1) == (("traits", "not fabric"),)
    assert trait({"traits": "not fabric"}, "fabric").turned(-2) == (("traits", None),)
    assert trait({"traits": "avx512 or gpu"}, "fabric").turned(1) == (("traits", "(avx512 or gpu) and fabric"),)
    assert wanted_traits("a or b") is None


def test_each_trait_counts_what_would_match_with_it():
    dial = next(one for one in dials({}, board()) if one.name == "avx512")
    report = DraftReport(diagnostics=(), now_ms=0, traits=DraftTraits((TraitRung("avx512", False, 24, 768, 64),)))
    assert follows(dial, report) == "24 nodes, 64 of 768 cores free"
    none = replace(report, traits=DraftTraits((TraitRung("avx512", False, 0, 0, 0),)))
    assert "together" in follows(dial, none)
