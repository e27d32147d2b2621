"""Changing a chain file: each change is in it and nothing else is; whatever is done, it can be read again."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.chain.chain_edit import as_script, linked, unlinked, with_job, with_script, without_job
from lazy_quarry.core.chain.chain_file import read_chain
from lazy_quarry.core.chain.graph import twins
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.header.keys import CONDITIONS
from lazy_quarry.errors import BadValue
from tests.core.chain.test_chain_file import GOOD, SCRIPTS

NAMES = ("gather", "prepare", "run", "clean", "new-1", "new.2")
COMMENTED = "# what it is for\n" + GOOD.replace("[jobs.run]", "# the sweep\n[jobs.run]  # wide").replace(
    "ranks = 2", "ranks = 2   # two"
)
acts = st.one_of(
    st.tuples(st.just("add"), st.sampled_from(NAMES), st.sampled_from(["true", 'echo "a b" \\ # c', "x\ty"])),
    st.tuples(st.just("out"), st.sampled_from(NAMES), st.just("")),
    st.tuples(
        st.just("link"), st.sampled_from(NAMES), st.tuples(st.sampled_from((*NAMES, "77")), st.sampled_from(CONDITIONS))
    ),
    st.tuples(st.just("cut"), st.sampled_from(NAMES), st.sampled_from((*NAMES, "4127"))),
    st.tuples(st.just("again"), st.sampled_from(NAMES), st.just("")),
)


def acted(text, act):
    """The text after one act, and the same done to what the jobs wait for."""
    what, name, more = act
    match what:
        case "add":
            return with_job(text, name, {"commands": [more]}, {"prepare": "fails"} if "prepare" in text else {})
        case "out":
            return without_job(text, name)
        case "link":
            return linked(text, name, *more)
        case "cut":
            return unlinked(text, name, more)
    return with_script(text, name, as_script(text, name))


@settings(max_examples=150, deadline=None)
@given(st.lists(acts, max_size=8))
def test_whatever_is_changed_the_rest_stays_and_it_can_be_read(steps):
    text = COMMENTED
    for act in steps:
        before = read_chain(text, SCRIPTS)
        try:
            changed = acted(text, act)
        except BadValue as fault:
            assert str(fault)
            continue
        what, name, more = act
        after = read_chain(changed, SCRIPTS)
        assert not [one for one in after.findings if one.code == "toml"], changed
        if after.waits and before.waits:
            expected = {job: dict(ties) for job, ties in before.waits.items()}
            match what:
                case "add":
                    expected[name] = {"prepare": "fails"} if "prepare" in text else {}
                case "out":
                    del expected[name]
                    expected = {
                        job: {one: how for one, how in ties.items() if one != name} for job, ties in expected.items()
                    }
                case "link" if more[0] in expected:
                    expected[name][more[0]] = more[1]
                case "cut":
                    expected[name].pop(more, None)
            if what != "link" or more[0] != name:
                assert {job: dict(ties) for job, ties in after.waits.items()} == expected, changed
        kept = [line for line in text.splitlines() if "#" in line and what not in ("out", "again")]
        assert [line for line in changed.splitlines() if line in kept][: len(kept)] == kept
        text = changed


def test_a_job_told_by_commands_goes_to_a_draft_and_back():
    text = (
        GOOD
        + '[jobs.last]\ncommands = ["cut -f1 a.txt", "", "echo \'done\'"]\nthreads = 4\nafter = { run = "succeeds" }\n'
    )
    text += '[jobs.last.array.sweep]\nlevel = ["1", "2"]\n'
    script = as_script(text, "last")
    assert "# threads = 4" in script and "cut -f1 a.txt\n\necho 'done'\n" in script and "# [array.sweep]" in script
    assert read_chain(with_script(text, "last", script), SCRIPTS).chain == read_chain(text, SCRIPTS).chain
    changed = with_script(text, "last", set_key(script.replace("echo", "printf"), "threads", 8))
    assert "printf 'done'" in changed and "threads = 8" in changed and 'after = { run = "succeeds" }' in changed
    assert "threads" not in with_script(text, "last", set_key(script, "threads", None)).split("[jobs.last]")[1]
    with pytest.raises(BadValue, match="told by the chain"):
        with_script(text, "last", set_key(script, "after.7", "fails"))
    with pytest.raises(BadValue, match="line 3"):
        with_script(text, "last", script.replace("# threads = 4", "# threads = = 4"))


@pytest.mark.parametrize(
    ("act", "words"),
    [
        (lambda: with_job("", "no name", {}, {}), "name"),
        (lambda: with_job(GOOD, "run", {}, {}), "already"),
        (lambda: linked(GOOD, "run", "nobody", "fails"), "no job"),
        (lambda: linked(GOOD, "run", "prepare", "hopes"), "not a condition"),
        (lambda: unlinked(GOOD, "prepare", "run"), "doesn't wait"),
        (lambda: without_job("[jobs", "run"), "not TOML"),
        (lambda: without_job("jobs = 3", "run"), "not a table"),
    ],
)
def test_a_key_that_cannot_be_changed_is_named(act, words):
    with pytest.raises(BadValue, match=words):
        act()


def test_twins_wait_for_the_same_and_are_waited_for_by_the_same():
    waits = {"a": (), **{f"p{n}": (("a", "succeeds"),) for n in range(4)}, "odd": (("a", "fails"),)}
    waits["z"] = tuple((f"p{n}", "succeeds") for n in range(4))
    assert twins(waits) == [("p0", "p1", "p2", "p3")]
    waits["y"] = (("p3", "fails"),)
    assert twins(waits) == [("p0", "p1", "p2")]
