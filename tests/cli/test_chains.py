"""Chains for real on this machine: one file from its check to its end, mended and continued; and on the rehearsal site."""

import json

import pytest

from lazy_quarry.core.header.diagnostic import Severity
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Phase
from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.views.chain_views import ChainSource
from tests.conftest import script, until

SEASON = """name = "season"
[parameters]
year = 2026
[shared]
walltime = "1m"
memory = "100 MiB/core"
[jobs.prepare]
commands = ["for k in 1 2 3 4; do for g in a b c; do echo $k > in-$g-$k.txt; done; done"]
[jobs.run]
script = "run.sh"
after = { prepare = "succeeds" }
[jobs.gather]
commands = ["cat out-*.txt > all-{year}.txt"]
after = { run = "succeeds" }
[jobs.clean]
commands = ["echo cleaned > cleaned.txt"]
after = { run = "fails" }
"""
RUN = """#!/bin/bash
# /// job
# [array.sweep]
# k = [1, 2, 3, 4]
# g = ["a", "b", "c"]
# ///
set -eu
[ "$k$g" != 2b ] || exit 3
cat "in-$g-$k.txt" > "out-$g-$k.txt"
"""


def by_name(chain):
    return {one["name"]: one for one in chain["jobs"]}


def test_a_chain_runs_its_clean_up_is_mended_and_continued(machine):
    (machine.work / "season.toml").write_text(SEASON)
    (machine.work / "run.sh").write_text(RUN)
    path = str(machine.work / "season.toml")
    assert machine.lq("chain", path, "--check").stdout.strip().endswith("nothing to say")
    rehearsal = json.loads(machine.lq("chain", path, "--rehearse", "--format", "json").stdout)
    jobs = by_name(rehearsal)
    assert jobs["prepare"]["ends"] <= jobs["run"]["starts"] < jobs["gather"]["starts"] <= rehearsal["ends"]
    assert jobs["gather"]["critical"] and jobs["clean"]["starts"] is None and rehearsal["core_hours_at_most"] > 0
    supposed = machine.lq("chain", path, "--rehearse", "--fails", "run", "--slower", "prepare=2").stdout
    assert "clean    doesn't" not in supposed and "gather   doesn't run" in supposed
    sent = json.loads(machine.lq("chain", path, "--submit", "--set", "year=1999", "--format", "json").stdout)
    assert sent["chain"] == 1 and set(sent["jobs"]) == {"prepare", "run", "gather", "clean"}

    def now():
        return json.loads(machine.lq("chain", "1", "--format", "json").stdout)

    until(lambda: now()["left"] == 0, "the chain to end")
    assert {name: one["state"] for name, one in by_name(now()).items()} == {
        "prepare": "done", "run": "failed", "gather": "skipped", "clean": "done",
    }  # fmt: skip
    assert now()["state"] == "failed, and handled" and "season" in machine.lq("chain").stdout
    (machine.work / "run.sh").write_text(RUN.replace("exit 3", "true"))
    assert machine.lq("chain", "1", "--continue", "--set", "year=1999").returncode == 0
    until(lambda: now()["left"] == 0, "the chain to end again")
    assert {name: one["state"] for name, one in by_name(now()).items()} == {
        "prepare": "done", "run": "done", "gather": "done", "clean": "skipped",
    }  # fmt: skip
    assert by_name(now())["prepare"]["job"] == sent["jobs"]["prepare"]
    assert len((machine.work / "all-1999.txt").read_text().split()) == 12
    drawn = machine.work / "chain.svg"
    assert machine.lq("draw", "chain", path, "--svg", str(drawn)).returncode == 0 and "gather" in drawn.read_text()
    assert machine.lq("chain", "1", "--svg", str(drawn)).returncode == 0 and "Chain 1 season" in drawn.read_text()
    assert machine.lq("draw", "chain-lanes", "1", "--pdf", str(machine.work / "chain.pdf")).returncode == 0
    again = machine.lq("chain", "1", "--continue")
    assert again.returncode == 1 and "nothing to run again" in again.stderr


def test_a_chain_of_twelve_runs_for_real_each_after_what_it_waits_for(machine):
    lines = ["[shared]", 'walltime = "1m"', 'memory = "20 MiB/core"']
    for name, more in TWELVE.items():
        command = f"echo begins {name} >> log; sleep 0.2; echo ends {name} >> log"
        lines += [f"[jobs.{name}]", f"commands = ['{command}']", more.partition("ranks")[0]]
    (machine.work / "twelve.toml").write_text("\n".join(lines))
    sent = json.loads(machine.lq("chain", str(machine.work / "twelve.toml"), "--submit", "--format", "json").stdout)
    assert len(sent["jobs"]) == 12

    def now():
        return json.loads(machine.lq("chain", "1", "--format", "json").stdout)

    until(lambda: now()["left"] == 0, "the chain to end")
    assert {one["state"] for one in now()["jobs"]} == {"done"}
    log = (machine.work / "log").read_text().splitlines()
    parts = [f"part{number}" for number in range(8)]
    assert all(log.index("ends start") < log.index(f"begins {part}") for part in parts)
    # Check starts once join has: which of the two shells writes first is up to the machine.
    for last in ("join", "check"):
        assert all(log.index(f"ends {part}") < log.index(f"begins {last}") for part in parts)
    started = {
        one: json.loads(machine.lq("show", str(sent["jobs"][one]), "--format", "json").stdout)["started"]
        for one in TWELVE
    }
    assert started["join"] <= started["check"] and log[-1] == "ends report" and len(log) == 24


def test_a_wrong_chain_file_or_number_is_reported(machine):
    path = machine.work / "bad.toml"
    path.write_text('[jobs.a]\ncommands = ["x"]\nafter = { b = "succeeds" }\nwaltime = "1m"\n')
    told = machine.lq("chain", str(path), "--check")
    assert told.returncode == 1 and "bad.toml:3" in told.stdout and '"walltime" was probably meant' in told.stdout
    assert machine.lq("chain", str(path), "--submit").returncode == 1
    assert machine.lq("chain").stdout == "none\n"
    for words in (["7"], ["none.toml"], ["7", "--hold"], [str(path), "--rehearse", "--slower", "a"]):
        assert machine.lq("chain", *words).returncode == 2, words
    schema = json.loads(machine.lq("chain", "--schema").stdout)
    assert {"name", "notify", "parameters", "shared", "jobs"} == set(schema["properties"])


# -- on the rehearsal site --------------------------------------------------------------------------


def source(**jobs):
    text = '[shared]\nwalltime = "1h"\nmemory = "1 GiB/core"\n[shared.rehearsal]\nruntime = "600s"\n' + "".join(
        f"[jobs.{name}]\ncommands = ['x']\n{more}\n" for name, more in jobs.items()
    )
    return ChainSource(text=text, scripts={}, folder="/w", name="test")


def run_on(client, ms):
    client.rehearsed.advance(client.rehearsed.now_ms + ms)


@pytest.fixture
def demo():
    rehearsed = Rehearsed(7)
    client = rehearsed.client()
    client.rehearsed = rehearsed
    return client


TWELVE = {
    "start": "ranks = 2",
    **{f"part{number}": 'after = { start = "succeeds" }\nranks = 4' for number in range(8)},
    "join": "after = { " + ", ".join(f'part{number} = "finishes"' for number in range(8)) + " }",
    "check": 'after = { join = "begins", part0 = "succeeds" }',
    "report": 'after = { join = "succeeds", check = "succeeds" }',
}


def test_a_chain_of_twelve_ends_no_later_than_it_was_rehearsed(demo):
    report = demo.report_chain(source(**TWELVE), [], {})
    assert report.chain is not None and not [one for _, one in report.findings if one.severity is Severity.ERROR]
    times = {one.name: (one.starts_ms, one.ends_ms) for one in report.chain.parts}
    assert all(times[f"part{number}"][0] >= times["start"][1] for number in range(8))
    assert times["report"][1] == report.chain.ends_ms == max(end for _, end in times.values())
    assert [one.name for one in report.chain.parts if one.critical][-1] == "report"
    receipt = demo.submit_chain(source(**TWELVE))
    view = demo.chain(receipt.chain)
    assert len(receipt.jobs) == 12 and view.state in ("waiting", "running") and view.left == 12
    assert view.ends_ms is not None and view.ends_ms <= report.chain.ends_ms + 600_000
    run_on(demo, report.chain.ends_ms - demo.rehearsed.now_ms + 3_600_000)
    assert report.chain.likely_core_ms is None
    ended = demo.chain(receipt.chain)
    assert ended.state == "done" and ended.left == 0
    likely = demo.report_chain(source(**TWELVE), [], {}).chain.likely_core_ms
    assert likely == sum(one.view.charge_core_ms for one in ended.parts) < report.chain.most_core_ms
    assert all(one.view.ended_ms <= times[one.name][1] + 600_000 for one in ended.parts)


def test_a_chain_is_held_released_and_cancelled_as_one(demo):
    receipt = demo.submit_chain(source(a="ranks = 500", b='after = { a = "succeeds" }', c='after = { b = "fails" }'))
    numbers = dict(receipt.jobs)
    assert all(one.done for one in demo.hold_chain(receipt.chain))
    assert {one.phase for one in demo.chain(receipt.chain).parts} == {Phase.HELD}
    assert all(one.done for one in demo.release_chain(receipt.chain))
    assert all(one.done for one in demo.cancel_chain(receipt.chain))
    assert demo.chain(receipt.chain).state == "cancelled" and len(numbers) == 3
    with pytest.raises(NoSuchJob):
        demo.chain(99)


def test_a_refused_submission_submits_nothing(demo):
    jobs = len(demo.site.session.engine.state.jobs)
    told = demo.submit_chain(source(a="", b='after = { c = "succeeds" }'))
    assert told.chain is None and told.findings and len(demo.site.session.engine.state.jobs) == jobs
    many = source(**{f"j{number}": "" for number in range(60)})  # one may have fifty waiting
    told = demo.submit_chain(many)
    assert told.chain is None and "over-limit" in {one.code for _, one in told.findings}
    live = demo.site.session.engine.state.jobs.values()
    assert not [job for job in live if job.request.name.startswith("j") and job.phase is not Phase.RUNNING]
    with pytest.raises(Refused, match='no job "z"'):
        demo.report_chain(source(a=""), ["z"], {})


def test_a_job_that_waits_for_another_has_a_forecast_behind_it(demo):
    other = next(view for view in demo.jobs(everyone=False) if view.phase == "waiting" and view.forecast_end_ms)
    header = f'name = "then"\nwalltime = "1h"\nmemory = "1 GiB/core"\nafter = {{ {other.job} = "succeeds" }}'
    then = demo.submit(Submission(script(header, "true"))).job
    last = demo.submit(
        Submission(script(header.replace("then", "last").replace(str(other.job), str(then)), "true"))
    ).job
    views = [demo.job(number) for number in (then, last)]
    assert all(view.phase is Phase.BLOCKED and "if all goes well it should start about" in view.why for view in views)
    assert other.forecast_end_ms <= views[0].forecast_ms and views[0].forecast_end_ms <= views[1].forecast_ms
    fails = demo.submit(Submission(script(header.replace("succeeds", "fails"), "true"))).job
    assert demo.job(fails).forecast_ms is None
