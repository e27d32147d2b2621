"""Tasks that would write one file: found by the parts of its name, and told with both tasks."""

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.clashes import first_clash
from lazy_quarry.core.job.sweep import make_array
from lazy_quarry.core.paths import filled_path
from tests.conftest import script, small_site

VALUES = st.lists(st.sampled_from(["1", "11", "a", "a/b", "a-b", "b", "-"]), min_size=1, max_size=4)


@given(
    VALUES, VALUES, st.booleans(),
    st.lists(st.sampled_from(["{x}", "{y}", "{job}", "-", "_", "out", "{x}{y}"]), min_size=1, max_size=5),
)  # fmt: skip
def test_two_tasks_clash_exactly_where_their_names_are_the_same(xs, ys, tied, pieces):
    table = {"sweep": {"x": xs, "y": ys}}
    if tied:
        table["sweep"] |= {"y": (ys * 4)[: len(xs)], "together": [["x", "y"]]}
    array, template = make_array(table, {}, {}), "".join(pieces)
    names = [filled_path(template, array.values(place)) for place in range(array.count)]
    clash = first_clash(array, template)
    if clash is None:
        assert max(Counter(names).values()) == 1
    else:
        assert clash[0] != clash[1] and names[clash[0]] == names[clash[1]]


@pytest.mark.parametrize(
    ("output", "told"),
    [
        ("{job}-{level}.txt", "tasks 1 (level=1, grid=a) and 2 (level=1, grid=b)"),
        ("out-{job}.txt", "tasks 1 (level=1, grid=a) and 3 (level=2, grid=a)"),
        ("{job}-{level}-{grid}.txt", None),
        ("{job}-{task}.txt", None),
    ],
)
def test_tasks_that_would_write_one_file_are_named(output, told):
    header = (
        'walltime = "1h"\nmemory = "1 GiB/core"\noutput = "%s"\n[array.sweep]\nlevel = [1, 2, 3]\ngrid = ["a", "b"]'
    )
    text = script(header % output, 'echo "$level $grid"')
    found = check_script(text, small_site(), CheckContext("ada", Submission(text))).diagnostics
    clashes = [one for one in found if one.code == "output-clash"]
    assert bool(clashes) == bool(told)
    for one in clashes:
        assert told in one.message and one.line == 5
        fixed = check_script(one.fix.apply(text), small_site(), CheckContext("ada", Submission(text)))
        assert not fixed.refused


def test_a_million_tasks_are_judged_by_the_parts_of_the_name():
    array = make_array({"sweep": {"a": list(range(1000)), "b": list(range(1000))}}, {}, {})
    assert first_clash(array, "{job}-{a}-{b}") is None and first_clash(array, "{task}") is None
    assert first_clash(array, "{job}-{a}") == (0, 1) and first_clash(array, "{b}") == (0, 1000)
    assert first_clash(make_array({"tasks": "1..1000000"}, {}, {}), "{job}") == (0, 1)
