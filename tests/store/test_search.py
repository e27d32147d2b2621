"""Searching: the index finds what its plain rule finds, follows the journal, and is made anew when it is damaged."""

import string
from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.job.job import TASK_SPAN
from lazy_quarry.core.search.facts import Facts
from lazy_quarry.core.search.fields import FIELDS
from lazy_quarry.core.search.query import Order, meets, parse_order, parse_query, parts_of
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue, StateFolderError
from lazy_quarry.store.codec import text_key
from lazy_quarry.store.search_index import IndexEntry
from lazy_quarry.store.sqlite.search_index import FILE, SqlSearchIndex

NOW = 1_800_000_000_000
PLAIN = Facts(
    job=1, of=1, task=None, name="tide", state="done", user="ada", account="silt", queue="all", tier="steady", nodes="n1\nn2",
    parameters="", arguments="", path="", reason="", signal="", exit=0, attempt=1, cores=4, gpus=0, memory_mib=100, requested_mib=200,
    walltime_s=600, took_s=60, waited_s=5, cpu_ms=1000, read_bytes=0, written_bytes=0, charge_core_ms=0,
    submitted_ms=NOW - 9000, started_ms=NOW - 5000, ended_ms=NOW - 1000,
)  # fmt: skip
words = st.sampled_from(
    ["tide", "Tide-2", "sür_ge", "a*b", "[x]", "no", "convergence", "eel tracks", "%_", "x\ny", "Ünd"]
)
counts = st.integers(0, 5) | st.integers(0, 2**40)


@st.composite
def entries(draw, number):
    array = draw(st.none() | st.integers(1, 3))
    return IndexEntry(
        replace(
            PLAIN,
            job=number if array is None else array * TASK_SPAN + number,
            of=number if array is None else array,
            task=None if array is None else number,
            parameters="" if array is None else f"grid={draw(words)}\nbeta={draw(counts)}".replace("x\ny", "xy"),
            nodes="\n".join(draw(st.lists(st.sampled_from(["n1", "n2", "n[3]"]), max_size=2))),
            name=draw(words),
            state=draw(st.sampled_from(["done", "failed", "overtime"])),
            exit=draw(st.none() | st.integers(0, 3)),
            memory_mib=draw(counts),
            took_s=draw(counts),
            ended_ms=NOW - draw(st.integers(0, 10**10)),
        ),
        *(lambda script: (text_key(script), script))(draw(words)),
        "" if array is not None else draw(words),
    )


terms = st.builds(
    "{}{}".format,
    st.sampled_from(["", "-"]),
    st.one_of(
        st.sampled_from(
            ["tide", "sur*", "no", '"no convergence"', "conv*", "text:tide", "text:und", 'text:"eel tra"*', "x"]
        ),
        st.builds("name:{}".format, st.sampled_from(["tide", "t*", "*[x]*", "a?b", "a*b", "tide,no", "*_*"])),
        st.builds("state:{}".format, st.sampled_from(["done", "failed,overtime", "*e*"])),
        st.builds("node:{}".format, st.sampled_from(["n1", "n?", "n[3]", "n1,n2"])),
        st.builds("parameter:{}".format, st.sampled_from(["grid=tide", "grid=*2", "beta=?", "*=4"])),
        st.builds("exit:{}".format, st.sampled_from(["0", "1..", "..1", ">1", "<=2", "any", "0,3"])),
        st.builds("memory:{}".format, st.sampled_from([">2MiB", "1GiB..", "..3MiB", "0MiB", "<4TiB"])),
        st.builds("took:{}".format, st.sampled_from([">2s", "1h..", "3s", "<=1d"])),
        st.sampled_from(
            ["since:2w", "until:yesterday", "ended:<4w", "submitted:today", "task:1..3", "job:1,2", "job:3"]
        ),
    ),
)


@given(st.data())
@settings(max_examples=200)
def test_the_index_finds_just_what_the_rule_for_one_job_finds(data):
    known = {entry.facts.job: entry for entry in (data.draw(entries(number)) for number in range(4, 12))}
    text = " ".join(data.draw(st.lists(terms, max_size=3)))
    query, order = parse_query(text, NOW), data.draw(st.sampled_from([None, "-memory", "name", "exit", "-took"]))
    index = SqlSearchIndex(None, "it")
    index.add(known.values(), NOW)
    wanted = {
        job
        for job, entry in known.items()
        if (entry.facts.task is not None) is query.tasks and meets(query, entry.facts, entry.script, entry.printed)
    }
    sort = parse_order(order) if order else None
    found = index.find(query, sort, 100, 0)
    assert set(found) == wanted and len(found) == len(wanted), text
    kept = [getattr(known[job].facts, (sort or Order(FIELDS["ended"], True)).field.kept) for job in found]
    told = [each for each in kept if each is not None]
    assert told == sorted(told, reverse=sort is None or sort.down)
    assert [*index.find(query, sort, 3, 0), *index.find(query, sort, 100, 3)] == found  # page by page


@pytest.mark.parametrize(
    "text, told",
    [
        ("memry:>4GiB", 'did you mean "memory"'),
        ("memory:>4", "has no unit"),
        ("memory:>x", "not a size"),
        ("exit:two", "no whole number"),
        ("ended:tomorrow", "no time before now"),
        ('text:"a', "not closed"),
        ("name:", "memory"),
        ("name:a,,b", "nothing to look for"),
        ("text:---", "no word"),
        ("charge:much", "core-hours"),
        ("a " * 1200, "2,000 characters"),
        ("a " * 60, "40 conditions"),
    ],
)
def test_a_search_that_cannot_be_read_is_told_with_the_word(text, told):
    if text == "name:":
        assert parse_query("name:", NOW).terms[0].field is None  # a word that ends so
        return
    with pytest.raises(BadValue) as fault:
        parse_query(text, NOW)
    assert told in str(fault.value)


@pytest.mark.parametrize(
    ("text", "same"),
    [
        ("overtime", "state:overtime"),
        ("-done surge", "-state:done surge"),
        ("Overtime last 2 days surge", "state:overtime ended:2026-11-26..2026-11-27 surge"),
        ("since Monday failed", "ended:2026-11-23..2026-11-27 state:failed"),
        ("name:x October 2026", "name:x ended:2026-10-01..2026-10-31"),
        ("last month", "ended:2026-10-01..2026-10-31"),
        ("from 3 October to 5 October", "ended:2026-10-03..2026-10-05"),
        ("yesterday", "ended:2026-11-26"),
    ],
)
def test_times_and_states_need_no_field(text, same):
    now = round(datetime(2026, 11, 27, 12, tzinfo=UTC).timestamp() * 1000)
    assert parse_query(text, now).terms == parse_query(same, now).terms


def test_in_quotes_or_where_they_are_no_time_they_are_words():
    for text in ('"overtime"', '"last month"', "since", "last run", "since autumn", "2026 rows", "march"):
        assert all(term.field is None for term in parse_query(text, NOW).terms), text
    assert parts_of('overtime  last month "a b" -name:x', NOW) == ["overtime", "last month", '"a b"', "-name:x"]


@given(st.text(alphabet=string.printable + "äñ\u2028\x00", max_size=60))
def test_whatever_is_typed_is_read_or_refused(text):
    try:
        query = parse_query(text, NOW)
    except BadValue:
        return
    index = SqlSearchIndex(None, "it")
    index.add([IndexEntry(PLAIN, 0, "")], NOW)
    assert index.find(query, None, 5, 0) == ([1] if meets(query, PLAIN, "") and not query.tasks else [])


def test_an_array_takes_the_sums_of_its_tasks_and_is_found_by_what_they_printed(tmp_path):
    index = SqlSearchIndex(tmp_path, "it")
    tasks = [
        IndexEntry(
            replace(PLAIN, job=7 * TASK_SPAN + at, of=7, task=at, memory_mib=100 * at, cpu_ms=5), 0, "", f"line {at}"
        )
        for at in (1, 2, 3)
    ]
    index.add(
        [IndexEntry(replace(PLAIN, job=7, of=7, nodes="", memory_mib=0), 0, ""), *tasks], NOW
    )  # in the wrong order, too
    assert index.find(parse_query("memory:300MiB cpu:..1s", NOW), None, 9, 0) == [7]
    assert index.find(parse_query('text:"line 2"', NOW), None, 9, 0) == [7]
    assert index.find(parse_query("task:2..", NOW), parse_order("-memory"), 9, 0) == [
        7 * TASK_SPAN + 3,
        7 * TASK_SPAN + 2,
    ]
    index.forget_printed(NOW)
    assert index.find(parse_query('text:"line 2"', NOW), None, 9, 0) == []


@pytest.mark.parametrize("damage", ["cut", "noise", "other"])
def test_an_index_that_is_damaged_or_of_another_journal_is_made_anew(tmp_path, damage):
    index = SqlSearchIndex(tmp_path, "it")
    index.add([IndexEntry(replace(PLAIN, job=at, of=at), 0, "") for at in range(1, 400)], NOW)
    index.close()
    path = tmp_path / FILE
    if damage == "cut":
        path.write_bytes(path.read_bytes()[:5000])
    elif damage == "noise":
        path.write_bytes(b"no database at all" * 300)
    anew = SqlSearchIndex(tmp_path, "another" if damage == "other" else "it")
    try:
        found = anew.find(parse_query("", NOW), None, 9, 0)
    except StateFolderError:
        found = anew.find(parse_query("", NOW), None, 9, 0)
    assert found == [] and anew.mark() == 0
    anew.add([IndexEntry(PLAIN, 0, "")], NOW)
    assert anew.find(parse_query("tide", NOW), None, 9, 0) == [1]
    assert path.stat().st_mode & 0o077 == 0
