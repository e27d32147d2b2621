"""Whatever a script holds: the check never raises, what it says fits on a line, and the fixes that it offers help."""

import re
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import CheckContext, check_script, override_values
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.header.values import memory
from lazy_quarry.core.job.sweep import parse_tasks
from lazy_quarry.core.plain_text import plain
from lazy_quarry.errors import BadValue
from lazy_quarry.probe.script import looked_up, with_surroundings
from tests.conftest import script, small_site
from tests.hostile import HOSTILE

SITE = small_site((4, 4))


def findings(text, *overrides):
    return check_script(text, SITE, CheckContext("ada", Submission(text, overrides=overrides))).diagnostics


@pytest.mark.parametrize("name", sorted(HOSTILE))
def test_a_hostile_script_is_checked_and_told_in_plain_lines(name, tmp_path):
    text = HOSTILE[name]
    look = with_surroundings if len(text) > 20_000 else looked_up
    found = check_script(text, SITE, CheckContext("ada", look(Submission(text, directory=str(tmp_path))))).diagnostics
    assert found
    for one in found:
        assert one.message == plain(one.message) and len(one.message) < 500
        assert 0 <= one.line <= text.count("\n") + 1


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("#!/bin/sh\n" + "x" * 2**20, "script-too-long"),
        (script("name = 'a'", *["true"], "#!/bin/sh") + "\ud800", "not-text"),
        (script("expect = [\n" + '"a",\n' * 20_000 + "]", "true", "#!/bin/sh"), "header-too-long"),
        (script("expect = " + "[" * 101 + "]" * 101, "true", "#!/bin/sh"), "toml"),
        (script(".".join("a" * 101) + " = 1", "true", "#!/bin/sh"), "toml"),
    ],
)
def test_sizes_and_depths_are_bounded_with_a_message(text, code):
    assert code in [one.code for one in findings(text)]


def test_more_than_one_slip_in_a_header_is_told_and_the_rest_is_checked():
    header = 'walltime = 30m\nmemroy = "1 GiB/core"\nranks = ["a"\nthreads = 0\nqueue = "gone"\n'
    found = {(one.code, one.line) for one in findings(script(header.rstrip("\n"), "echo $lost", "#!/bin/sh"))}
    assert {("toml", 3), ("key-unknown", 4), ("toml", 5), ("value", 6), ("queue", 7)} <= found


@pytest.mark.parametrize(
    ("lines", "line", "fixed"),
    [
        (("#/// job", '# walltime = "1h"', "# ///"), 2, True),
        (("# // job", '#walltime = "1h"', "# //"), 2, True),
        (("# ///job", '# walltime = "1h"', "# ///"), 2, True),
        (("## /// Job", "# ///"), 2, True),
        (("# /// job", '#walltime = "1h"', "# ///"), 2, True),
        (("# /// job", '# walltime = "1h"', "# //"), 2, True),
        (("#/// job", '# walltime = "1h"'), 2, False),
    ],
)
def test_a_nearly_right_header_is_an_error_with_what_was_probably_meant(lines, line, fixed):
    text = "\n".join(["#!/bin/sh", *lines, "true", ""])
    one = next(one for one in findings(text) if one.code in ("header-nearly", "header-unclosed"))
    assert one.severity == "error" and one.line == line and bool(one.fix) == fixed
    if one.fix:
        block, problems = find_block(one.fix.apply(text))
        assert not problems and block.values in ({"walltime": "1h"}, {})


@pytest.mark.parametrize(
    ("written", "meant"),
    [
        ("4G", "4 GiB/core"),
        ("2 GiB per core", "2 GiB/core"),
        ("2 GiB per node", "2 GiB/node"),
        ("512mb a rank", "512 MiB/rank"),
        ("4G/core", "4 GiB/core"),
        ("4/job", "4 GiB/job"),
        ("12", "12 GiB/core"),
        (12, "12 GiB/core"),
        ("0", "1 GiB/core"),
        ("lots/node", "1 GiB/node"),
    ],
)
def test_the_value_offered_for_a_memory_can_be_read(written, meant):
    with pytest.raises(BadValue) as told:
        memory(written)
    offered = re.search(r'write "([^"]+)"', str(told.value))[1]
    assert offered == meant and memory(offered)


def test_a_walltime_with_colons_is_read_alike_in_the_header_and_beside_it():
    for text in ("01:30:00", "1:30:00", '"01:30:00"'):
        assert not override_values(values := {}, f"walltime={text}") and values
        assert "override" not in [one.code for one in findings(script('walltime = "1h"', "true"), f"walltime={text}")]
        assert not [
            one for one in findings(script('walltime = "1h"', "true"), f"walltime={text}") if one.code == "value"
        ]


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(0, 60), st.integers(1, 9)), min_size=1, max_size=6))
def test_a_task_is_named_twice_as_its_numbers_say(rows):
    rows = [(first, first + more, step) for first, more, step in rows]
    numbers = Counter(number for first, last, step in rows for number in range(first, last + 1, step))
    text = ", ".join(f"{first}..{last} by {step}" for first, last, step in rows)
    twice = [number for number, times in numbers.items() if times > 1]
    try:
        read = parse_tasks(text)
    except BadValue as fault:
        assert int(str(fault).split()[1]) in twice
    else:
        assert not twice and sum(len(range(a, b + 1, c)) for a, b, c in read) == len(numbers)


LINES = [
    'walltime = "1h"', "walltime = 90", "walltime = 30m", 'walltime = "99d"', 'waltime = "1h"', "walltime = 1h # soon",
    'memory = "4G"', 'memory = "1 GiB/core"', "memory = 4 GiB/core", 'memroy = "1 GiB/core"', "memory = 2\\x",
    'queue = "al"', 'queue = ["all", "lsat"]', "queue = all", 'account = "silk"', 'tier = "stedy"', "ranks = four",
    'output = "out.txt"', 'output = "{job}.txt"', 'output = "{a}.txt"', "output = out", 'errors = "err"',
    'modules = ["mpi/5.1"]', 'modules = "mpi"', "nodes = 2..3", 'nodes = "2..3"', "summary = yes", 'notify = "me"',
    '[array]\ntasks = "1..9"', "[array]\ntasks = 1..9", '[array]\ntask = "1..3"', "[array.sweep]\na = [1, 2]\nb = [3, 4]",
    "[array.sweep]\na = [1, 2]\nb = [x]", '[rehearsal]\nruntime = "2m"', "# a comment", "", "expect = [", 'x = "',
]  # fmt: skip
BODIES = ["true", "echo $a", "", "echo $LQ_TSK", "module load mpi/5.2", "vim x", "cd $(", "sleep 1 &"]


@given(
    st.lists(st.sampled_from(LINES), max_size=6, unique=True),
    st.lists(st.sampled_from(BODIES), max_size=3),
    st.sampled_from(["#!/bin/bash", "#!/bin/sh", ""]),
    st.sampled_from(["# ///", "# //", "#///", ""]),
)
def test_a_fix_that_is_offered_ends_its_finding_and_makes_no_new_error(header, body, first, last):
    lines = [f"# {line}" if line else "#" for each in header for line in each.split("\n")]
    text = "\n".join([*([first] if first else []), "# /// job", *lines, *([last] if last else []), *body, ""])
    before = findings(text)
    for one in before:
        if one.fix is None:
            continue
        after = findings(one.fix.apply(text))
        same = [each for each in after if (each.code, each.message) == (one.code, one.message)]
        if len(one.fix.replacement) == one.fix.last_line - one.fix.first_line + 1:
            same = [each for each in same if each.line == one.line]  # the same may be wrong elsewhere too
        assert not same, one
        if one.code not in ("header-unclosed", "header-late", "header-nearly", "line-ends"):  # which hide the others
            known = Counter(each.code for each in before if each.severity == "error")
            new = Counter(each.code for each in after if each.severity == "error") - known
            assert not new, (one, new, one.fix.apply(text))
