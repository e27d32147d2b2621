import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import fields

from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.header.keys import KEYS
from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.notice import Notify
from lazy_quarry.core.job.request import Memory, Request, Retries
from lazy_quarry.errors import BadValue
from tests.conftest import script, small_site

GOOD = 'walltime = "1h"\nmemory = "1 GiB/core"'


def checked(text, *overrides, user="ada", left=None, **more):
    return check_script(
        text,
        small_site(),
        CheckContext(user, Submission(text, "dir/tide table.sh", "/work", overrides, **more), left or {}),
    )


def codes(text, *overrides, **more):
    return [(one.code, one.line) for one in checked(text, *overrides, **more).diagnostics]


def test_a_good_script_has_nothing_to_say_of_it():
    found = checked(script(GOOD))
    assert found.diagnostics == ()
    assert found.request.walltime_s == 3600
    assert found.request.memory == Memory(1024, "core")
    assert found.request.name == "tide-table"
    assert found.request.account == "silt"


def test_defaults_are_said_aloud():
    assert set(codes(script(""))) == {("memory-absent", 2), ("walltime-absent", 2)}
    messages = " ".join(one.message for one in checked(script("")).diagnostics)
    assert "30m" in messages and "512 MiB" in messages


def test_a_script_without_header_is_told_so():
    assert ("header-missing", 1) in codes("#!/bin/sh\ntrue\n")


@pytest.mark.parametrize(
    ("text", "code", "line"),
    [
        ("#!/bin/sh\n# /// job\n# a = 1\ntrue\n", "header-unclosed", 2),
        ("#!/bin/sh\n# /// job\n#a = 1\n# ///\ntrue\n", "header-unclosed", 2),
        ("#!/bin/sh\n# /// job\n# ///\n\n# /// job\n# ///\ntrue\n", "header-twice", 5),
        ("#!/bin/sh\ntrue\n# /// job\n# ///\n", "header-late", 3),
        ("#!/bin/sh\n# /// job\n# ///\n# /// script\n# ///\ntrue\n", "header-crowded", 4),
        ("#!/bin/sh\n# /// job\n# walltime = 30m\n# ///\ntrue\n", "toml", 3),
        ("#!/bin/sh\n# /// job\n# a = [1,\n# ///\ntrue\n", "toml", 3),
        ("#!/bin/sh\r\n# /// job\r\n# ///\r\ntrue\r\n", "line-ends", 1),
        ("# /// job\n# ///\ntrue\n", "interpreter-missing", 1),
        ("#!\ntrue\n", "interpreter-missing", 1),
    ],
)
def test_a_broken_form_is_found_in_its_line(text, code, line):
    assert (code, line) in codes(text)
    assert checked(text).refused


def test_windows_line_ends_have_a_certain_fix():
    text = script(GOOD).replace("\n", "\r\n")
    fix = next(one.fix for one in checked(text).diagnostics if one.code == "line-ends")
    assert checked(fix.apply(text)).diagnostics == ()


def test_a_missing_interpreter_has_a_certain_fix():
    text = script(GOOD).split("\n", 1)[1]
    fix = next(one.fix for one in checked(text).diagnostics if one.code == "interpreter-missing")
    assert not checked(fix.apply(text)).refused


def test_a_misspelt_key_is_offered_the_nearest_one():
    text = script('walltime = "1h"\nmemroy = "1 GiB/core"')
    one = next(one for one in checked(text).diagnostics if one.code == "key-unknown")
    assert (one.line, one.column) == (4, 3)
    assert '"memory"' in one.message
    assert checked(one.fix.apply(text)).diagnostics == ()


@pytest.mark.parametrize(
    "line",
    [
        "walltime = 30",
        'walltime = "0s"',
        "walltime = true",
        'name = "two words"',
        "name = 5",
        "nodes = 0",
        "nodes = true",
        'nodes = "4..2"',
        'nodes = "some"',
        "ranks = 1.5",
        'ranks = "4"',
        "threads = -1",
        'memory = "4 GiB"',
        "memory = 4",
        'memory = "4 GiB/cpu"',
        'memory = "0 MiB/core"',
        "whole-nodes = 1",
        'traits = "a and"',
        'on-nodes = "n9..n1"',
        'arguments = "one"',
        "arguments = [1]",
        'output = "out-{jobs}.txt"',
        'output = "logs/"',
        'output = ""',
        'errors = "{x}"',
        'environment = { "a-b" = "1" }',
        'environment = { LQ_JOB = "1" }',
        "environment = { A = [1] }",
        "queue = []",
        'not-before = "tomorrow"',
        "retries = -1",
        'at-overtime = "later"',
        'notify = { on = ["failed"] }',
        'notify = { to = "nobody", on = ["failed"] }',
        'notify = { to = "a@b", on = ["sometimes"] }',
        'stage = { inn = ["x"] }',
        'after = { 4 = "maybe" }',
        'array = { tasks = "1-4" }',
        "array = { sweep = { level = [] } }",
        'rehearsal = { runtime = "2h..1h" }',
        "rehearsal = { exit = 300 }",
        "gpu-memory = 8",
        'readable-by = ""',
    ],
)
def test_a_value_that_cannot_be_read_is_an_error_in_its_line(line):
    key = line.split(" ")[0]
    found = [one for one in checked(script(f"summary = true\n{line}")).diagnostics if one.severity == "error"]
    assert [one.line for one in found] == [4], found
    assert found[0].message.startswith(key) or key in found[0].message


def test_mail_that_is_asked_for_is_in_the_request():
    found = checked(script(f'{GOOD}\nnotify = {{ to = "a@b.example", on = ["failed", "75%", "20m left"] }}'))
    assert found.request.notify == Notify("a@b.example", ("failed", "75%", "20m left")) and not found.refused


def test_every_key_of_the_design_is_known():
    assert len(KEYS) == 37
    decided = [field for one in KEYS.values() for field in one.fields]
    made_of_tasks = ["task", "parameters"]
    assert sorted((*decided, *made_of_tasks)) == sorted(one.name for one in fields(Request))  # each by one key
    assert all(len(one.fields) == 1 for one in KEYS.values() if one.plain)


@pytest.mark.parametrize(
    ("lines", "nodes", "ranks"),
    [
        ("ranks = 10", None, 10),
        ("nodes = 2", 2, 2),
        ("nodes = 2\nranks = 10", 2, 10),
        ("nodes = 2\nranks-per-node = 3", 2, 6),
        ("ranks-per-node = 3", 1, 3),
        ("ranks = 6\nranks-per-node = 3", 2, 6),
    ],
)
def test_shapes_follow_from_what_is_said(lines, nodes, ranks):
    request = checked(script(f"{GOOD}\n{lines}")).request
    assert (request.nodes, request.ranks) == (nodes, ranks)


@pytest.mark.parametrize(
    "lines", ["nodes = 2\nranks = 7\nranks-per-node = 3", "nodes = 3\nranks = 2", "ranks = 7\nranks-per-node = 3"]
)
def test_shapes_that_contradict_themselves_are_errors(lines):
    assert "shape" in [one.code for one in checked(script(f"{GOOD}\n{lines}")).diagnostics]


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        ("ranks = 40", "the most is ranks = 25"),
        ("threads = 20", "the most is threads = 16"),
        ("nodes = 4", "the most is nodes = 3"),
        ("gpus = 3", "the most is gpus = 2"),
        ('memory = "40 GiB/rank"', "32 GiB"),
        ('scratch = "1 TiB"', "the most is 9.8 GiB"),
        ('traits = "slow"', "its nodes have fast"),
        ('on-nodes = "n7"', "n1..n3"),
    ],
)
def test_an_impossible_request_is_told_the_nearest_possible_one(lines, words):
    header = "\n".join([*(GOOD.split("\n")[: 1 if "memory" in lines else 2]), lines])
    found = checked(script(header))
    one = next(one for one in found.diagnostics if one.code == "impossible")
    assert words in one.message
    assert one.line == header.count("\n") + 3


def test_limits_of_queues_and_people():
    assert (
        "over the limit of queue all, 1d"
        in checked(script('walltime = "2d"\nmemory = "1 GiB/core"')).diagnostics[0].message
    )
    assert "only for ada" in checked(script(f'{GOOD}\nqueue = "last"'), user="bo").diagnostics[0].message
    assert "did you mean" in checked(script(f'{GOOD}\nqueue = "al"')).diagnostics[0].message
    assert "you may charge silt" in checked(script(f'{GOOD}\naccount = "eels"'), user="bo").diagnostics[0].message
    assert 'did you mean "mpi/5.0"' in checked(script(f'{GOOD}\nmodules = ["mpi/5.1"]')).diagnostics[0].message


def test_any_of_several_queues_will_do():
    found = checked(script('walltime = "2h"\nmemory = "1 GiB/core"\nqueue = ["last", "all"]'))
    assert not found.refused
    assert [need.queue for need in found.needs] == ["all"]


def test_a_spent_budget_is_an_error_and_a_short_one_a_warning():
    assert codes(script(GOOD), left={"silt": 0}) == [("budget", 2)]
    assert not checked(script(GOOD), left={"silt": 1000}).refused


def test_overrides_are_toml_else_text_and_may_be_dotted():
    request = checked(script(GOOD), "ranks=4", "name=quick", "walltime=10m", "rehearsal.exit=3").request
    assert (request.ranks, request.name, request.walltime_s, request.rehearsal.exit) == (4, "quick", 600, 3)
    assert codes(script(GOOD), "ranks") == [("override", 0)]
    assert codes(script(GOOD), "ranks=none") == [("value", 0)]


def test_arguments_of_the_command_line_stand_for_those_of_the_header():
    text = script(f'{GOOD}\narguments = ["a"]')
    assert checked(text).request.arguments == ("a",)
    assert checked(text, arguments=("b", "c")).request.arguments == ("b", "c")


@pytest.mark.parametrize("raw", [b"", b"  \n", b"\x7fELF\0\0", b"#!/bin/sh\n\xff\xfe"])
def test_a_file_that_is_no_script_is_refused(raw):
    with pytest.raises(BadValue):
        decode_script(raw)


BROAD = """#!/usr/bin/env bash
# a comment of mine
# /// job
# name     = "surge"     # keep me
#
# walltime = "1h"
# ranks    = 4
#   memory = "1 GiB/core"
# unknown  = [1,   2]
#
# [rehearsal]
# exit = 0
# ///

echo "$LQ_JOB"  # /// not a block
"""


def test_editing_one_key_changes_no_other_line():
    edited = set_key(BROAD, "walltime", "2h 30m")
    assert edited.split("\n")[5] == '# walltime = "2h 30m"'
    assert [line for line in edited.split("\n") if "walltime" not in line] == [
        line for line in BROAD.split("\n") if "walltime" not in line
    ]


def test_editing_adds_and_removes_keys_and_tables():
    assert find_block(set_key(BROAD, "threads", 2))[0].values["threads"] == 2
    assert "ranks" not in set_key(BROAD, "ranks", None)
    assert set_key("#!/bin/sh\ntrue\n", "ranks", 4) == "#!/bin/sh\n# /// job\n# ranks = 4\n# ///\ntrue\n"
    assert find_block(set_key(BROAD, "rehearsal.exit", 3))[0].values["rehearsal"]["exit"] == 3
    with pytest.raises(BadValue):
        set_key("#!/bin/sh\n# /// job\n# a = \n# ///\n", "ranks", 1)


VALUES = st.one_of(st.integers(1, 99), st.sampled_from(["1h", "2h 30m", "3 GiB/core", "tidal"]), st.booleans())


@given(
    st.lists(st.tuples(st.sampled_from(["ranks", "walltime", "threads", "queue", "whole-nodes"]), VALUES), max_size=8)
)
def test_any_sequence_of_edits_keeps_everything_else(moves):
    text, expected = BROAD, tomllib.loads(find_block(BROAD)[0].toml)
    for key, value in moves:
        text = set_key(text, key, value)
        expected[key] = value
    block, problems = find_block(text)
    assert problems == []
    assert block.values == expected
    touched = {key for key, _ in moves}
    kept = [line for line in BROAD.split("\n") if line[2:].split(" ")[0] not in touched]
    after = [line for line in text.split("\n") if line[2:].split(" ")[0] not in touched]
    assert after == kept


@given(st.text(alphabet=st.sampled_from("# /job=\n\r[]\"'ab1"), max_size=200))
def test_no_text_whatever_breaks_the_check(text):
    checked(text)


@given(
    st.dictionaries(
        st.sampled_from(sorted(KEYS)),
        st.one_of(st.integers(), st.text(max_size=8), st.booleans(), st.lists(st.integers(), max_size=2)),
    )
)
def test_no_value_whatever_breaks_a_reader(values):
    import tomlkit

    try:
        header = tomlkit.dumps(values).rstrip("\n")
    except ValueError:
        return
    if "\r" not in header and "\x85" not in header:
        checked(script(header))


@pytest.mark.parametrize("name", ["PATH", "HOME", "LQ_JOB", "OMP_NUM_THREADS", "a-b", "2x", "IFS", "BASH_ENV"])
def test_a_parameter_replaces_no_variable_that_a_task_has_anyway(name):
    found = checked(script(f'{GOOD}\narray.sweep."{name}" = [1, 2]'))
    assert [one.code for one in found.diagnostics] == ["value"] and name in found.diagnostics[0].message


@pytest.mark.parametrize(
    ("value", "read"),
    [
        ("3", Retries(3, ("failed", "lost"))),
        ('{ times = 2, on = ["overmemory", "overtime"] }', Retries(2, ("overmemory", "overtime"))),
        ("{ times = 2 }", Retries(2, ("failed", "lost"))),
        ('{ times = 2, on = ["done"] }', None),
        ('{ on = ["lost"] }', None),
        ("-1", None),
    ],
)
def test_retries_say_what_they_cover(value, read):
    found = checked(script(f"{GOOD}\nretries = {value}"))
    assert (found.request.retries if found.request else None) == read
