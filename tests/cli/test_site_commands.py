"""Commands about waiting jobs, nodes, reservations and traces, on this machine."""

import json
import os
import subprocess
import sys

from lazy_quarry.link.site_client import CALLS
from tests.conftest import until

LONG = "sleep 600"


def cores():
    return len(os.sched_getaffinity(0))


def fill(machine, *settings):
    """A job that takes all cores."""
    job = machine.submit(LONG, f"threads={cores()}", *settings)
    until(lambda: machine.state_of(job) == "running", f"{job} to run")
    return job


def test_a_waiting_job_is_explained_changed_and_put_before_another(machine):
    first = fill(machine)
    second, third = machine.submit(LONG, f"threads={cores()}"), machine.submit(LONG)
    told = json.loads(machine.lq("why", str(second), "--format", "json").stdout)
    assert told["waits_for"] == "nodes" and told["after"] == [first] and told["place"] in (1, 2)
    assert set(told["standing"]) == {"hours", "waited", "account", "user", "tier", "size"}
    assert f"{second} is 1h ahead" in machine.lq("why", str(third), "--than", str(second)).stdout
    done = machine.lq("change", str(second), "--set", "walltime=30m", "--set", "name=brisk")
    assert done.returncode == 0, done.stderr
    shown = machine.show(second)
    assert (shown["walltime_s"], shown["name"], shown["state"]) == (1800, "brisk", "waiting")
    assert any("changed by" in event["what"] for event in shown["events"])
    bad = machine.lq("change", str(second), "--set", "threads=9999")
    assert bad.returncode == 1 and "stays as it is" in bad.stderr
    assert machine.lq("change", str(first), "--set", "walltime=2m").returncode == 1
    assert machine.lq("order", str(third), str(second)).returncode == 0
    machine.lq("cancel", str(first))
    until(lambda: machine.state_of(third) == "running", "the one put first")
    assert machine.state_of(second) == "waiting"


def test_a_job_runs_again_as_a_new_one(machine):
    job = machine.submit("echo once more")
    machine.ended(job)
    done = machine.lq("again", str(job))
    assert done.returncode == 0, done.stderr
    assert f"{job} runs again as {job + 1}" in done.stderr and done.stdout == f"{job + 1}\n"
    machine.ended(job + 1)
    assert machine.lq("output", str(job + 1)).stdout.endswith("once more\n")


def test_a_closed_node_takes_no_job_and_a_lost_one_loses_what_runs(machine):
    node = json.loads(machine.lq("survey", "--format", "json").stdout)["nodes"][0]["name"]
    assert machine.lq("node", "close", node, "--reason", "new disks").returncode == 0
    job = machine.submit(LONG, "retries=0")
    assert "no node that could take it is open" in machine.lq("why", str(job)).stdout
    assert machine.lq("node", "open", node).returncode == 0
    until(lambda: machine.state_of(job) == "running", "the job to run")
    asked = machine.lq("node", "lost", node)
    assert asked.returncode == 2 and f"1 job on {node}: {job}" in asked.stderr and machine.state_of(job) == "running"
    assert machine.lq("node", "lost", node, "--yes").returncode == 0
    assert machine.ended(job)["state"] == "lost"
    assert machine.lq("node", "open", "nowhere").returncode == 1
    assert machine.lq("node", "mend", node).returncode == 2


def test_a_reservation_keeps_jobs_off_and_goes_through_a_calendar(machine):
    done = machine.lq("reserve", "course", "--begin", "40m", "--end", "3h", "--reason", "a course")
    assert done.returncode == 0, done.stderr
    job = machine.submit("true", "walltime=1h")
    told = machine.lq("why", str(job)).stdout
    assert "a course lasts until" in told
    assert "It would start now if it asked for at most 30m." in told
    assert "a course" in machine.lq("reservations").stdout
    calendar = machine.work / "site.ics"
    assert machine.lq("reservations", "--ics", str(calendar)).returncode == 0
    assert machine.lq("unreserve", "course").returncode == 0
    machine.ended(job)
    assert machine.lq("reservations").stdout == "none\n"
    assert machine.lq("reserve", "--import", str(calendar)).returncode == 0
    assert json.loads(machine.lq("reservations", "--format", "json").stdout)[0]["reason"] == "a course"
    assert machine.lq("reserve", "x", "--end", "soon").returncode == 2
    calendar.write_text("half of")
    assert machine.lq("reserve", "--import", str(calendar)).returncode == 2


def test_accounts_are_listed_and_granted_core_hours(machine):
    sites = machine.work / "sites"
    sites.mkdir()
    machine.environment["LQ_SITES"] = str(sites)
    (sites / "machine.toml").write_text(
        '[[accounts]]\nname = "reeds"\nbudget = 4\nusers = ["ada"]\n'
        '[[accounts]]\nname = "mud"\nbudget = 1.5\nparent = "reeds"\neach = "quarter"\n'
    )
    assert machine.lq("account", "move", "reeds", "mud", "2.5", "--why", "a late cruise").returncode == 0
    assert machine.lq("account", "grant", "reeds", "1,000", "--why", "spring").returncode == 0
    listed = machine.lq("account").stdout.splitlines()
    headings = ["account", "charged", "running", "budget", "used", "left", "jobs", "failed", "ends", "term"]
    assert listed[0].split() == headings and "each quarter, now until" in listed[2] and listed[2].startswith("  mud")
    assert listed[1].split()[:6] == ["reeds", "0", "0", "1,002", "0", "1,002"]
    assert "bo may charge reeds" in machine.lq("account", "members", "reeds", "--add", "bo", "--remove", "ada").stdout
    assert machine.lq("account", "members", "reeds").stdout.split() == ["bo"]
    assert json.loads(machine.lq("account", "members", "mud", "--format", "json").stdout)["everyone"]
    assert machine.lq("account", "members", "reeds", "--remove", "bo").returncode == 1
    assert machine.lq("account", "list", "--add", "bo").returncode == 2
    shown = machine.lq("account", "show", "mud").stdout
    assert "budget   4.00 core-hours, of them 2.50 granted" in shown and "a late cruise" in shown
    books = json.loads(machine.lq("account", "show", "reeds", "--format", "json").stdout)[0]
    assert [(one["core_hours"], one["why"]) for one in books["grants"]] == [(-2.5, "a late cruise"), (1000, "spring")]
    refused = machine.lq("account", "grant", "mud", "-9", "--why", "too much")
    assert refused.returncode == 1 and "mud has 4.00 core-hours left" in refused.stderr
    for wrong in (["show", "sea"], ["show"], ["grant", "mud", "2"], ["grant", "mud", "many", "--why", "x"], ["take"]):
        assert machine.lq("account", *wrong).returncode == 2, wrong


def test_figures_are_drawn_from_the_shell(machine):
    job = machine.submit("true", "name=one")
    machine.ended(job)
    drawn = machine.work / "a.svg"
    (node,) = [one["name"] for one in json.loads(machine.lq("survey", "--format", "json").stdout)["nodes"]]
    script = machine.work / "s.sh"
    script.write_text("#!/bin/sh\n# /// job\n# ranks = 2\n# ///\ntrue\n")
    for words, told in (
        (["nodes"], "Nodes of"),
        (["hours", node], f"The hours of {node}"),
        (["lanes", "--from", "1h ago", "--until", "2h"], "one"),
        (["lanes", "--job", str(job)], "one"),
        (["node-lanes", node], node),
        (["placement", str(script)], "2 ranks of 1 thread"),
        (["ladder", str(script)], "walltime"),
    ):
        assert machine.lq("draw", *words, "--svg", str(drawn)).returncode == 0, words
        assert told in drawn.read_text(), words
    assert (
        machine.lq(
            "draw", "nodes", "--pdf", str(machine.work / "a.pdf"), "--ground", "dusk", "--size", "slide"
        ).returncode
        == 0
    )
    assert (machine.work / "a.pdf").read_bytes().startswith(b"%PDF")
    for wrong in (
        ["hours"],
        ["hours", "nowhere"],
        ["sky"],
        ["nodes", "--ground", "mud"],
        ["placement", "none.sh"],
        ["lanes", "--from", "x"],
    ):
        assert machine.lq("draw", *wrong).returncode == 2, wrong


def test_limits_and_tiers_of_the_site_file_hold(machine):
    sites = machine.work / "sites"
    sites.mkdir()
    machine.environment["LQ_SITES"] = str(sites)
    (sites / "machine.toml").write_text(
        '[limits.everyone]\nrunning-jobs = 1\nwaiting-jobs = 1\n[[tiers]]\nname = "spare"\ngives-way = true\n'
    )
    first = machine.submit(LONG, "tier=spare")
    until(lambda: machine.state_of(first) == "running", "the spare job")
    second = machine.submit("true")
    machine.ended(second)
    events = [event["what"] for event in machine.show(first)["events"]]
    assert any("make way" in what for what in events)
    until(lambda: machine.show(first)["attempt"] == 2, "the spare job again")
    third = machine.submit(LONG, "tier=spare")
    assert "the limit of user" in machine.lq("why", str(third)).stdout
    (machine.work / "one.sh").write_text('#!/bin/sh\n# /// job\n# walltime = "1m"\n# ///\ntrue\n')
    refused = machine.lq("submit", str(machine.work / "one.sh"))
    assert refused.returncode == 1 and "1 waiting jobs, and 1 wait already" in refused.stderr
    (sites / "machine.toml").write_text("policy = 3")
    broken = machine.lq("check", str(machine.work / "one.sh"))
    assert broken.returncode == 0 and "machine.toml, line 1: policy: 3 is unknown" in broken.stderr
    assert "the last good site file holds" in broken.stderr
    told = machine.lq("site", "check")
    assert told.returncode == 1 and "line 1: policy" in told.stdout
    until(lambda: "the last good site file holds" in machine.lq("jobs").stderr, "the engine tells of it")


def test_a_made_up_trace_is_replayed_compared_and_drawn(machine):
    made = machine.lq("replay", "--make", "300", "--seed", "4", "--nodes", "4", "--cores", "8", "t.swf")
    assert made.returncode == 0 and "300 jobs" in made.stdout
    shape = ("--nodes", "4", "--cores", "8")
    done = machine.lq(
        "replay", "t.swf", *shape, "--compare", "first-come,easy,planned", "--svg", "t.svg", "--format", "json"
    )
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert [one["policy"] for one in found] == ["first-come", "easy", "planned"]
    assert found[0]["wait_mean_s"] >= found[1]["wait_mean_s"]
    assert (machine.work / "t.svg").read_text().startswith("<?xml")
    assert machine.lq("replay", "t.swf", *shape, "--policy", "easy", "--schedule", "t.csv").returncode == 0
    lines = (machine.work / "t.csv").read_text().splitlines()
    assert lines[0] == "job,submit,start,end,cores,nodes" and len(lines) == 301
    said = machine.lq("replay", "t.swf", *shape, "--forecasts", "f.csv", "--sample", "50", "--format", "json")
    lines = (machine.work / "f.csv").read_text().splitlines()
    assert lines[0] == "job,submit,early,middle,late,plan,start" and len(lines) == 301
    assert json.loads(said.stdout)[0]["name"] == "all"
    assert "policy planned" in machine.lq("replay", "t.swf", "--forecasts", "f.csv", "--policy", "easy").stderr
    assert "--forecasts" in machine.lq("replay", "t.swf", "--sample", "5").stderr
    assert machine.lq("replay", "t.swf", "--policy", "quick").returncode == 2
    assert machine.lq("replay", "nothing.swf").returncode == 2
    (machine.work / "t.swf").write_text("1 2 3\n")
    assert "line 1" in machine.lq("replay", "t.swf").stderr


def test_every_call_is_printed_with_its_types_and_rights():
    told = subprocess.run(
        [sys.executable, "-m", "lazy_quarry", "site", "roles", "--format", "json"],
        capture_output=True,
        text=True,
        check=True,
    )
    calls = {one["call"]: one for one in json.loads(told.stdout)}
    assert set(calls) == set(CALLS) and calls["grant"]["rights"] == {"user": "no", "lead": "no", "operator": "yes"}
    assert calls["cancel"]["changes"] and not calls["jobs"]["changes"]
    assert calls["room"]["arguments"] == {"queue": "str"} and calls["room"]["result"] == "list[RoomView]"
