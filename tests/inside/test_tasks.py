"""The tasks of a spread: the same as a sweep's of the same words, whatever they are; what is wrong is told."""

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.job.inside import MOST_CELLS, thinned
from lazy_quarry.core.job.sweep import make_array
from lazy_quarry.inside.helper import Refused
from lazy_quarry.inside.spread_journal import SpreadJournal
from lazy_quarry.inside.tasks import Tasks, tasks_of

values = st.lists(
    st.text(st.characters(blacklist_categories=["Cc", "Cs", "Zl", "Zp"]), max_size=8), min_size=1, max_size=4
)
ranges = st.tuples(st.integers(-50, 50), st.integers(0, 40), st.integers(1, 7), st.integers(0, 2))


def decimal(number, places):
    return f"{number / 10**places:.{places}f}"


@settings(deadline=None)
@given(st.lists(values | ranges, min_size=1, max_size=3), st.booleans())
def test_a_spread_has_the_tasks_of_the_sweep_with_the_same_words(given_values, tied):
    names, withs, sweep = "abc", [], {}
    for name, one in zip(names, given_values, strict=False):
        if isinstance(one, tuple):
            first, length, step, places = one
            text = f"{decimal(first, places)}..{decimal(first + length, places)} by {decimal(step, places)}"
            withs.append(f"{name}=range {text}")
            sweep[name] = {"range": text}
        else:
            line = ",".join('"' + value.replace('"', '""') + '"' for value in one)
            withs.append(f"{name}={line}")
            sweep[name] = one
    lengths = {len(one) if isinstance(one, list) else one[1] // one[2] + 1 for one in given_values}
    together = []
    if tied and len(lengths) == 1 and len(given_values) > 1:
        together = ["a,b"]
        sweep["together"] = [["a", "b"]]
    tasks, array = tasks_of(withs, None, None, together), make_array({"sweep": sweep}, {}, {})
    assert tasks.count == array.count
    for place in range(min(tasks.count, 60)):
        assert tasks.values(place) == array.values(place)
        told = tasks.filled(["x{a}{a}", "{task}", "{none}", "{}"], place, tasks.values(place))
        assert told == [f"x{array.values(place)['a'] * 2}", str(place + 1), "{none}", "{}"]


def test_tables_lines_and_files_are_tasks_too(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("t.csv").write_text('drag,case\n0.1,"a, b"\n\n0.2,c\n')
    Path("l.txt").write_text("one  \n\n two # no comment\n")
    for name in ("g2.nc", "g1.nc"):
        Path(name).touch()
    assert [tasks_of([], "t.csv", None, []).values(at) for at in (0, 1)] == [
        {"drag": "0.1", "case": "a, b"},
        {"drag": "0.2", "case": "c"},
    ]
    both = tasks_of(["g=files g*.nc"], None, "l.txt", [])
    assert [tuple(both.values(at).values()) for at in range(4)] == [
        ("one", "g1.nc"), ("one", "g2.nc"), ("two # no comment", "g1.nc"), ("two # no comment", "g2.nc"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (([], None, None, []), "nothing to spread"),
        ((["a"], None, None, []), "not NAME=V"),
        ((["LQ_JOB=1"], None, None, []), "not NAME=V"),
        ((["a=1", "a=2"], None, None, []), "given twice"),
        ((["a=range 3..1"], None, None, []), "backwards"),
        ((["a=range 1..2 by 0"], None, None, []), "step of zero"),
        ((["a=range x"], None, None, []), "not a range"),
        ((["a=range 0..99999999"], None, None, []), "more than"),
        ((["a=files none-*"], None, None, []), "no file matches"),
        ((["a=1,2", "b=1"], None, None, ["a,b"]), "a has 2, b has 1"),
        ((["a=1"], None, None, ["a,z"]), "no parameter z"),
        (([], "gone.csv", None, []), "cannot be read"),
        (([], None, "gone.txt", []), "cannot be read"),
        (([], "bad.csv", None, []), "row 2 has 1 cells"),
        (([], "heads.csv", None, []), "no name"),
        (([], None, "empty.txt", []), "no lines"),
        ((["a=" + ",".join("x" * 4000), "b=range 1..4000"], None, None, []), "is the most"),
    ],
)
def test_wrong_options_are_reported_with_the_reason(options, words, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("bad.csv").write_text("a,b\n1,2\n3\n")
    Path("heads.csv").write_text("a b,c\n1,2\n")
    Path("empty.txt").write_text("\n \n")
    with pytest.raises(Refused, match=words):
        tasks_of(*options)


@given(st.text(alphabet="frs.d", min_size=1, max_size=3000), st.integers(1, 500))
def test_a_thinned_field_hides_no_failure(field, most):
    found = thinned(field, most)
    assert len(found) == min(len(field), most) and set(found) <= set(field)
    assert ("f" in found) == ("f" in field)
    assert found == field if len(field) <= most else ("d" * most == found) == (set(field) == {"d"})
    assert MOST_CELLS == 400


entries = st.lists(
    st.tuples(
        st.integers(0, 11),
        st.sampled_from(["done", "failed", "stopped"]),
        st.sampled_from(["", "half", "other", "junk"]),
    ),
    max_size=40,
)


@settings(deadline=None)
@given(entries, st.permutations(["x", "y", "z"]))
def test_a_journal_says_what_is_done_whatever_else_is_in_it(tmp_path_factory, lines, order):
    path = tmp_path_factory.mktemp("j") / "deep" / "a.jsonl"
    tasks = Tasks([[("a", ["x", "y", "z"])], [("b", ["1", "2", "2", "3"])]])
    journal = SpreadJournal(str(path), ["run", "{a}"])
    expected = set()
    for place, outcome, damage in lines:
        entry = {"task": place + 1, "parameters": tasks.values(place), "outcome": outcome}
        if damage == "other":
            path.open("a").write(json.dumps({**entry, "command": "of another"}) + "\n")
        elif damage == "junk":
            path.open("a").write("{not json\n\x00\n[1]\n")
        elif damage == "half":
            path.open("a").write(json.dumps(entry)[:-9] + "\n")
        else:
            journal.note(entry)
            expected |= {place} if outcome == "done" else set()
    assert {place for place, done in enumerate(journal.done(tasks)) if done} == expected
    with pytest.raises(Refused, match="another spread has"):
        SpreadJournal(str(path), ["run"])
    import os

    os.close(journal.fd)
    moved = Tasks([[("a", order)], [("b", ["1", "2", "2", "3"])]])
    again = SpreadJournal(str(path), ["run", "{a}"])
    done = [moved.values(place) for place, one in enumerate(again.done(moved)) if one]
    assert {json.dumps(one) for one in done} == {json.dumps(tasks.values(place)) for place in expected}
    os.close(again.fd)
