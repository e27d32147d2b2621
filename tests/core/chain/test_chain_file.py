"""Reading a chain file: what it comes to, and every slip told with its line."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lazy_quarry.core.chain.chain_check import check_chain
from lazy_quarry.core.chain.chain_file import read_chain, scripts_named
from lazy_quarry.core.chain.graph import crossings, cycles, downstream, layers, never, ordered, slack
from lazy_quarry.core.header.check import CheckContext, check_script
from lazy_quarry.core.header.submission import Submission
from tests.conftest import small_site

SCRIPT = '#!/bin/bash\n# /// job\n# walltime = "5m"\n# memory = "100 MiB/core"\n# ///\necho "$year"\n'
SCRIPTS = {"prepare.sh": SCRIPT, "run.sh": SCRIPT}
GOOD = """name = "season"

[parameters]
year = 2026

[shared]
account = "eels"
walltime = "1m"

[jobs.gather]
commands = ["cat r-*.txt > all-{year}.txt"]
after = { run = "succeeds" }

[jobs.prepare]
script = "prepare.sh"
arguments = ["--year", "{year}"]

[jobs.run]
script = "run.sh"
after = { prepare = "succeeds" }
ranks = 2
[jobs.run.array]
tasks = 3

[jobs.clean]
commands = ["rm -f r-*.txt"]
after = { run = "fails", 4127 = "finishes" }
"""


def checked(text, scripts=SCRIPTS, **more):
    read = read_chain(text, scripts, **more)
    site = small_site()
    return check_chain(
        read,
        lambda job: Submission(job.script, job.path, "/w", job.overrides, job.arguments),
        lambda sent: check_script(sent.script, site, CheckContext("ada", sent)),
    )


def test_a_chain_is_read_with_what_is_shared_filled_in_and_ordered():
    found = checked(GOOD)
    assert not found.refused, found.findings
    chain = found.chain
    assert chain.name == "season" and [job.name for job in chain.jobs] == ["prepare", "run", "gather", "clean"]
    assert chain.job("prepare").arguments == ("--year", "2026")
    assert "all-2026.txt" in chain.job("gather").script
    assert chain.job("clean").after == (("run", "fails"), ("4127", "finishes"))
    requests = found.requests
    assert {one.account for one in requests.values()} == {"eels"} and requests["run"].walltime_s == 60
    assert requests["run"].name == "run" and requests["run"].array.count == 3 and requests["run"].ranks == 2
    assert dict(requests["prepare"].environment)["year"] == "2026"
    other = checked(GOOD, settings=["year=1999"])
    assert other.chain.job("prepare").arguments == ("--year", "1999")
    assert scripts_named(GOOD) == ("prepare.sh", "run.sh")


@pytest.mark.parametrize(
    ("old", "new", "code", "line", "words"),
    [
        ('walltime = "1m"', 'waltime = "1m"', "key-unknown", 8, '"walltime" was probably meant'),
        ("[shared]", "[shard]", "key-unknown", 6, '"shared" was probably meant'),
        ('script = "prepare.sh"', "", "chain-script", 14, "what it runs"),
        ('script = "prepare.sh"', 'script = "prepare.sh"\ncommands = ["x"]', "chain-script", 14, "not both"),
        ('script = "run.sh"', 'script = "runn.sh"', "file-absent", 19, "runn.sh cannot be read"),
        ('{ prepare = "succeeds" }', '{ prepair = "succeeds" }', "chain-unknown", 20, '"prepare" was probably meant'),
        ('{ prepare = "succeeds" }', '{ prepare = "wins" }', "value", 20, "wins of prepare is not a condition"),
        ('{ prepare = "succeeds" }', '{ run = "succeeds" }', "chain-cycle", 20, "run waits for itself"),
        ('{ prepare = "succeeds" }', '{ gather = "succeeds" }', "chain-cycle", 12, "gather waits for run waits for gather"),
        ('4127 = "finishes"', 'gather = "finishes"', "chain-never", 27, "run would have to succeed and to fail"),
        ('{ prepare = "succeeds" }', '{ prepare = "each-succeeds" }', "chain-tasks", 18, "prepare is no array"),
        ("ranks = 2", "ranks = 0", "value", 21, "run: ranks: "),
        ('account = "eels"', 'account = "mud"', "account", 7, "mud"),
        ("year = 2026", "PATH = 1", "value", 4, "parameters: PATH"),
        ("year = 2026", "year = 2026\nunused = 1", "parameter-unused", 5, "no job uses unused"),
        ('after = { run = "fails", 4127 = "finishes" }', "", "chain-alone", 25, "clean waits for none"),
        ("tasks = 3", 'tasks = "9..x"', "value", 23, "run: array: tasks"),
        ("year = 2026", "year = ", "toml", 4, "not TOML"),
    ],
)  # fmt: skip
def test_every_slip_is_told_with_its_line(old, new, code, line, words):
    assert GOOD.count(old) == 1
    found = [one for _, one in checked(GOOD.replace(old, new)).findings if one.code == code]
    assert [(one.line, words in one.message) for one in found][:1] == [(line, True)], found


def test_a_mistake_in_a_script_of_a_chain_is_told_of_the_script():
    scripts = {**SCRIPTS, "run.sh": SCRIPT.replace("5m", "5 parsecs")}
    found = [(path, one.line, one.code) for path, one in checked(GOOD.replace('walltime = "1m"', ""), scripts).findings]
    assert ("run.sh", 3, "value") in found


def test_settings_are_of_parameters_that_there_are():
    for setting, words in (("month=1", "there are: year"), ("year", "not NAME=VALUE"), ("year=[1]", "not NAME=VALUE")):
        told = checked(GOOD, settings=[setting]).findings[0][1]
        assert told.severity == "error" and words in told.message


@settings(max_examples=200)
@given(st.one_of(st.text(max_size=300), st.lists(st.sampled_from(GOOD.splitlines()), max_size=30).map("\n".join)))
def test_whatever_a_chain_file_holds_is_told_and_raises_nothing(text):
    found = checked(text)
    assert found.chain is not None or found.refused
    scripts_named(text)


def test_a_chain_of_hostile_depth_or_size_is_told():
    for text in (
        "[" * 5000,
        "x = " + "[" * 5000,
        "[jobs." + "a." * 3000 + "b]",
        f"x = {'9' * 5000}",
        "jobs = 3",
        "jobs.a = 3",
    ):
        assert checked(text).refused
    many = "".join(f"[jobs.j{number}]\ncommands = ['x']\n" for number in range(5001))
    assert "at most 5,000 jobs" in checked(many).findings[0][1].message


# -- graphs ---------------------------------------------------------------------------------------


@st.composite
def graphs(draw):
    """Jobs that wait for some of those before them."""
    count = draw(st.integers(1, 12))
    conditions = st.sampled_from(["succeeds", "fails", "finishes", "begins"])
    waits = {}
    for number in range(count):
        others = draw(st.lists(st.integers(0, number - 1), max_size=3, unique=True)) if number else []
        waits[f"j{number}"] = tuple((f"j{other}", draw(conditions)) for other in others)
    names = draw(st.permutations(list(waits)))
    return {name: waits[name] for name in names}


def can_start(waits, job):
    """True when some way for all others to end lets a job start: tried one by one."""
    order = ordered(waits)

    def tries(at, ends):
        if at == len(order):
            return False
        name = order[at]
        runs = all(
            ends[other] != "skipped" and (condition in ("finishes", "begins") or ends[other] == condition)
            for other, condition in waits[name]
        )
        if name == job:
            return runs
        return any(tries(at + 1, {**ends, name: end}) for end in (("succeeds", "fails") if runs else ("skipped",)))

    return tries(0, {})


@settings(max_examples=60, deadline=None)
@given(graphs())
def test_order_layers_and_slack_follow_from_what_jobs_wait_for(waits):
    order = ordered(waits)
    assert set(order) == set(waits) and not list(cycles(waits))
    place = {job: at for at, job in enumerate(order)}
    assert all(place[other] < place[job] for job, after in waits.items() for other, _ in after)
    found = layers(waits)
    depth = {job: level for level, layer in enumerate(found) for job in layer}
    assert sorted(depth) == sorted(waits)
    assert all(depth[other] < depth[job] for job, after in waits.items() for other, _ in after)
    assert crossings(waits, found) >= 0
    if len(waits) <= 7:
        impossible = {job for job in waits if not can_start(waits, job)}
        assert impossible == downstream(waits, [job for job, _ in never(waits)]) & impossible
        assert {job for job, _ in never(waits)} <= impossible
    times = {}
    for job in order:
        begin = max([times[other][0] if how == "begins" else times[other][1] for other, how in waits[job]], default=0)
        times[job] = (begin, begin + 1 + len(job) + place[job] % 3)
    done = max(end for _, end in times.values())
    left = slack(waits, times, done)
    assert all(one >= 0 for one in left.values()) and min(left.values()) == 0
    for job, more in left.items():  # later by all of its slack it delays nothing, by one more it does
        for extra, later in ((more, False), (more + 1, True)):
            ends = {}
            for name in order:
                bounds = [ends[other][0] if how == "begins" else ends[other][1] for other, how in waits[name]]
                begin = max([times[name][0], *bounds]) + (extra if name == job else 0)
                ends[name] = (begin, begin + times[name][1] - times[name][0])
            assert (max(end for _, end in ends.values()) > done) == later


def test_a_cycle_is_named_in_its_order():
    waits = {"a": (("c", "succeeds"),), "b": (("a", "succeeds"),), "c": (("b", "succeeds"),), "d": (("a", "fails"),)}
    assert list(cycles(waits)) == [("a", "c", "b")]
    with pytest.raises(ValueError, match="cycle"):
        ordered(waits)


def test_few_lines_cross():
    waits = {f"a{n}": () for n in range(8)} | {f"b{n}": ((f"a{7 - n}", "succeeds"),) for n in range(8)}
    assert crossings(waits, layers(waits)) == 0
