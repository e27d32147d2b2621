"""A sweep read before it runs: its tasks are those that run, found and sorted as one would by hand."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.header.expanded import commands_of
from lazy_quarry.core.job.clashes import filled, template_of
from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.job.job import Job, Origin, task_id
from lazy_quarry.core.job.request import Memory, Request, Stage, task_request
from lazy_quarry.core.job.sweep import Array, Parameter, parse_tasks
from lazy_quarry.core.values import replace

values = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=4)
parameters = st.lists(values, min_size=1, max_size=4, unique=True).map(tuple)


@st.composite
def arrays(draw):
    """Plain tasks, tasks with steps, crossed parameters, parameters in step."""
    if draw(st.booleans()):
        return Array(
            parse_tasks(draw(st.sampled_from(["1..4", "0..90 by 10", "1, 4, 9..12", "7"]))),
            draw(st.sampled_from([None, 2])),
        )
    groups, count = [], 1
    for number in range(draw(st.integers(1, 3))):
        size = draw(st.integers(1, 4))
        tied = draw(st.integers(1, 2))
        names = [f"p{number}{letter}" for letter in "ab"[:tied]]
        one = st.lists(values, min_size=size, max_size=size).map(tuple)
        groups.append(tuple(Parameter(name, draw(one)) for name in names))
        count *= size
    return Array(((1, count, 1),), None, tuple(groups))


def request_of(array, **more):
    return Request(
        "flow", "silt", ("all",), "steady", 60, Memory(1), array=array, output="{name}-{job}-{task}.txt", **more
    )


@settings(max_examples=60)
@given(arrays(), st.data())
def test_each_task_is_the_one_that_runs_found_and_sorted_as_by_hand(array, data):
    request = request_of(array, expect=("out/{task}.nc",))
    found = Expansion(request, ['go "$p0a" $LQ_TASK'], ['"x-$p0a.txt"'], job=12)
    every = list(found.rows())
    for index, task in enumerate(every):
        made = Job(task_id(12, index), "ada", task_request(request, index), Origin(""), 0)
        assert (task.number, task.parameters) == (made.request.task, made.request.parameters)
        assert task.output == made.paths.output and task.errors == made.paths.errors
        assert f"out/{task.number}.nc" in task.writes
        if "p0a" in array.names:
            assert task.command == f'go "{dict(task.parameters)["p0a"]}" {task.number}'
    words = data.draw(
        st.lists(st.sampled_from([*(value for task in every for _, value in task.parameters), "p0a=", "3"]), max_size=2)
    )
    words = [word for word in words if word.strip() and not any(sign.isspace() for sign in word)]
    sort, back = data.draw(st.sampled_from(["", *array.names])), data.draw(st.booleans())
    found.show(" ".join(words), sort, back)
    seen = list(found.rows())
    assert {task.number for task in seen} == {
        task.number
        for task in every
        if all(
            any(word.casefold() in f"{name}={value}".casefold() for name, value in task.parameters)
            or (word.isdecimal() and int(word) == task.number)
            for word in words
        )
    }
    if not sort:
        numbers = [array.index(task.number) for task in seen]
        assert numbers == sorted(numbers, reverse=back)
    assert len(found) == len(seen)


def test_numbers_are_sorted_as_numbers_and_the_rest_as_text():
    array = Array(((1, 4, 1),), None, ((Parameter("n", ("10", "9", "-1", "2.5")),),))
    found = Expansion(request_of(array))
    found.show(sort="n")
    assert [dict(task.parameters)["n"] for task in found.rows()] == ["-1", "2.5", "9", "10"]
    found.show(sort="n", backwards=True)
    assert found.task(0).parameters == (("n", "10"),)


def test_two_tasks_that_write_one_file_are_named_with_it():
    array = Array(((1, 4, 1),), None, ((Parameter("a", ("1", "2")),), (Parameter("b", ("x", "y")),)))
    found = Expansion(
        request_of(array, stage=Stage(out=("r-{a}.nc",))), [], ["sum-$b.txt", "t-$LQ_TASK", "$RANDOM.txt"]
    )
    assert [(clash.tasks, clash.path) for clash in found.clashes()] == [((1, 3), "sum-x.txt"), ((1, 2), "r-1.nc")]
    assert found.clashing() == {1, 2, 3, 4}
    twice = Array(((1, 3, 1),), None, ((Parameter("a", ("1", "2", "1")),),))
    assert Expansion(request_of(twice), [], ["$a.txt"]).clashing() == {1, 3}


@pytest.mark.parametrize(
    ("word", "path"),
    [
        ('"a-$x.txt"', "a-{x}.txt"),
        ("${x}/out", "{x}/out"),
        ("'$x'", ""),
        ("'plain'", "plain"),
        ("$LQ_TASK.txt", "{task}.txt"),
        ("$LQ_SCRATCH/a", ""),
        ("$(date).txt", ""),
        ("a*", ""),
        ("/dev/null", ""),
        ("&2", ""),
        ("~/a", ""),
    ],
)
def test_a_word_of_the_shell_has_its_value(word, path):
    assert template_of(word, Array(((1, 2, 1),), None, ((Parameter("x", ("1", "2")),),))) == path


def test_variables_are_filled_in_as_a_shell_does():
    words = {"x": "a b", "LQ_TASK": "3"}
    assert filled("go \"$x\" '$x' ${x}y \\$x $xy $LQ_TASK", words) == "go \"a b\" '$x' a by \\$x $xy 3"
    assert filled('echo "it\'s $x"', words) == 'echo "it\'s a b"'


def test_the_commands_shown_are_those_that_use_what_tells_tasks_apart():
    array = Array(((1, 2, 1),), None, ((Parameter("x", ("1", "2")),),))
    request = request_of(array)
    script = "#!/bin/bash\nset -e\nmake\necho 'no $x'\nmodel -x $x > out-$x.txt\necho $LQ_TASK >> log\n"
    assert commands_of(script, request) == (("model -x $x > out-$x.txt", "echo $LQ_TASK >> log"), ("out-$x.txt",))
    assert commands_of("#!/bin/bash\nmake\nrun\n", request)[0] == ("run",)
    assert commands_of("#!/usr/bin/env python3\nprint()\n", request) == ((), ())
    asked = Expansion(replace(request, arguments=("--x", "{x}")))
    assert asked.task(1).command == "--x 2"
