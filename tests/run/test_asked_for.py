"""Requests of a header beside cores and time, for real on this machine."""

import grp
import json
import os
import re
import stat
from pathlib import Path

import pytest

from tests.conftest import script, until


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def test_files_are_staged_in_and_results_back(machine):
    (machine.work / "in").mkdir()
    (machine.work / "in" / "a b.txt").write_text("water\n")
    body = 'cd "$LQ_SCRATCH"\nmkdir out\ntr a-z A-Z < "in/a b.txt" > out/big.txt\ntouch -d 2020-01-01 out/big.txt'
    found = machine.ended(machine.submit(body, 'stage = { in = ["in/*.txt"], out = ["out"] }'))
    assert found["state"] == "done", found["reason"]
    assert (machine.work / "out" / "big.txt").read_text() == "WATER\n"
    assert (machine.work / "out" / "big.txt").stat().st_mtime < 1_600_000_000
    until(lambda: not list((machine.state / "spool").glob(f"{found['job']}-1-*/own/scratch/out")))


@pytest.mark.parametrize(
    ("body", "walltime", "state"),
    [("echo part > r; exit 3", "1m", "failed"), ("echo part > r; sleep 100", "1s", "overtime")],
)
def test_results_come_back_however_it_ends(machine, body, walltime, state):
    settings = (f"walltime={walltime}", "grace=4s", 'stage = { out = ["r"] }')
    found = machine.ended(machine.submit(f'cd "$LQ_SCRATCH"; {body}', *settings))
    assert found["state"] == state
    assert (machine.work / "r").read_text() == "part\n"


def test_grace_is_kept_for_results_when_the_script_will_not_end(machine):
    body = "cd \"$LQ_SCRATCH\"; echo part > r; trap '' TERM; while :; do sleep 0.1; done"
    found = machine.ended(machine.submit(body, "walltime=1s", "grace=4s", 'stage = { out = ["r"] }'))
    assert found["state"] == "overtime"
    assert (machine.work / "r").read_text() == "part\n"


def test_a_result_that_is_not_there_fails_a_job_that_exits_well(machine):
    found = machine.ended(machine.submit("true", 'stage = { out = ["r"] }'))
    assert found["state"] == "failed" and "should have left r" in found["reason"]


def test_results_that_cannot_be_brought_back_are_kept(machine):
    (machine.work / "r").mkdir()  # where the result should go is a folder
    found = machine.ended(machine.submit('echo dear > "$LQ_SCRATCH/r"', 'stage = { out = ["r"] }'))
    assert found["state"] == "failed" and "they are in" in found["reason"]
    assert Path(found["reason"].rpartition("they are in ")[2], "r").read_text() == "dear\n"


def test_the_size_of_the_scratch_folder_at_the_end_is_recorded(machine):
    found = machine.ended(machine.submit('head -c 3000000 /dev/urandom > "$LQ_SCRATCH/x"'))
    assert found["scratch_used_mib"] == 3 and "scratch" in machine.lq("show", str(found["job"])).stdout


def test_a_kept_scratch_folder_is_there_for_the_next_of_that_name(machine):
    first = machine.ended(machine.submit('echo 1 >> "$LQ_SCRATCH/n"', "name=again", "stage = { keep = true }"))
    second = machine.ended(
        machine.submit('echo 2 >> "$LQ_SCRATCH/n"; cat "$LQ_SCRATCH/n"', "name=again", "stage = { keep = true }")
    )
    assert first["state"] == "done"
    assert Path(second["output"]).read_text() == "1\n2\n"


def test_nobody_else_may_read_what_it_writes_unless_a_group_is_named(machine):
    own = machine.ended(machine.submit("touch made", "name=own"))
    assert stat.S_IMODE(os.stat(own["output"]).st_mode) & 0o077 == 0
    assert stat.S_IMODE((machine.work / "made").stat().st_mode) & 0o077 == 0
    group = grp.getgrgid(sorted({os.getgid(), *os.getgroups()})[-1]).gr_name
    found = machine.ended(machine.submit("echo x > shown", f"readable-by={group}", 'expect=["shown"]', "name=shared"))
    for path in (found["output"], machine.work / "shown"):
        assert stat.S_IMODE(os.stat(path).st_mode) & 0o077 == 0o040
        assert grp.getgrgid(os.stat(path).st_gid).gr_name == group


def test_a_group_one_is_not_in_is_refused(machine):
    path = machine.work / "job.sh"
    path.write_text('#!/bin/sh\n# /// job\n# readable-by = "no-such-group"\n# ///\ntrue\n')
    assert "[group]" in machine.lq("submit", str(path)).stderr


FAKE_MODULE = """() { case "$1" in
 -t) printf '%s\\n' '/opt/modules:' 'mesh/1.0' 'mesh/1.1(default)' 'solver/2.0';;
 purge) unset MESH;;
 load) [ "$2" = solver/2.0 ] && return 1; MESH=$2; export MESH;;
esac; }"""


def test_modules_are_read_and_loaded_where_there_is_a_module_command(own_machine):
    own_machine.environment["BASH_FUNC_module%%"] = FAKE_MODULE
    own_machine.environment["MESH"] = "left over"
    found = own_machine.ended(own_machine.submit('echo "with $MESH"', 'modules=["mesh/1.1"]'))
    assert Path(found["output"]).read_text() == "with mesh/1.1\n"
    path = own_machine.work / "job.sh"
    refused = own_machine.lq("submit", str(path), "--set", 'modules=["mehs/1.1"]')
    assert 'did you mean "mesh/1.1"' in refused.stderr
    failed = own_machine.ended(own_machine.submit("echo never", 'modules=["solver/2.0"]'))
    assert failed["state"] == "failed"
    assert "cannot be loaded" in Path(failed["output"]).read_text()


def test_modules_where_there_are_none_are_an_error_that_says_so(machine):
    path = machine.work / "job.sh"
    path.write_text('#!/bin/sh\n# /// job\n# modules = ["mesh/1.0"]\n# ///\ntrue\n')
    refused = machine.lq("submit", str(path))
    assert refused.returncode == 1 and "offers no modules" in refused.stderr


def test_overtime_goes_back_to_the_queue_when_asked(machine):
    body = 'echo "$LQ_ATTEMPT"; [ "$LQ_ATTEMPT" = 2 ] && exit 0; sleep 100'
    job = machine.submit(body, "walltime=1s", "grace=0s", "at-overtime=again")
    until(lambda: machine.show(job)["state"] == "done", "its second attempt")
    assert Path(machine.show(job)["output"]).read_text() == "1\n2\n"


def test_arguments_input_directory_and_environment_reach_the_script(machine):
    (machine.work / "below dir").mkdir()
    (machine.work / "below dir" / "in.txt").write_text("from input\n")
    settings = (
        'arguments=["one two", "three"]', 'input="in.txt"', 'directory="below dir"', 'environment={ TIDE = "high" }',
        'prepare=["export MADE=ready"]',
    )  # fmt: skip
    found = machine.ended(machine.submit('cat; echo "$1|$2|$TIDE|$MADE|$(basename "$PWD")"', *settings))
    assert Path(found["output"]).read_text() == "from input\none two|three|high|ready|below dir\n"


def test_it_does_not_start_before_its_time(machine):
    found = machine.ended(machine.submit("true", "not-before=2020-01-01T00:00:00Z"))
    assert found["state"] == "done"
    later = machine.submit("true", "not-before=2090-01-01T00:00:00Z")
    assert machine.state_of(later) == "waiting"
    assert "not to start before" in machine.lq("why", str(later)).stdout


SWEEP = '[array.sweep]\nlevel = [1, 2]\ngrid = ["north", "south"]'
ARRAY = 'walltime = "1m"\nmemory = "64 MiB/core"\n'


def array_of(machine, body, table, *settings):
    path = machine.work / "array.sh"
    path.write_text(script(f"{ARRAY}\n{table}", body))
    words = [word for each in settings for word in ("--set", each)]
    done = machine.lq("submit", str(path), "--format", "json", *words)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def test_an_array_runs_each_task_with_its_parameters_and_its_own_output(own_machine):
    told = array_of(own_machine, 'echo "$LQ_JOB/$LQ_TASK $level $grid"; [ "$level$grid" != 2north ]', SWEEP)
    assert told["tasks"] == 4
    found = own_machine.ended(told["job"])
    assert (found["state"], found["counts"]) == ("failed", {"done": 3, "failed": 1})
    outputs = {task["task"]: Path(task["output"]).read_text() for task in found["tasks"]}
    assert outputs == {
        1: "1/1 1 north\n", 2: "1/2 1 south\n", 3: "1/3 2 north\n", 4: "1/4 2 south\n",
    }  # fmt: skip
    third = json.loads(own_machine.lq("show", "1/3", "--format", "json").stdout)
    assert (third["job"], third["task"], third["state"], third["exit"]) == (1, 3, "failed", 1)
    assert third["parameters"] == {"level": "2", "grid": "north"} and "level" in third["script"]
    assert own_machine.lq("output", "1/2").stdout == "1/2 1 south\n"
    assert own_machine.lq("wait", "1/1").returncode == 0
    assert own_machine.lq("wait", "1").returncode == 1
    listed = json.loads(own_machine.lq("jobs", "--ended", "--format", "json").stdout)
    assert [job["job"] for job in listed] == [1]


def test_at_once_is_kept_and_tasks_are_cancelled_one_by_one_or_together(own_machine):
    table = '[array]\ntasks = "10..60 by 10"\nat-once = 1'
    told = array_of(own_machine, "sleep 100", table)
    until(lambda: own_machine.show(1)["counts"].get("running") == 1, "its first task")
    assert own_machine.show(1)["counts"] == {"running": 1, "waiting": 5}
    assert own_machine.lq("cancel", "1/20..30 by 10", "1/10").returncode == 0
    until(lambda: own_machine.show(1)["counts"] == {"cancelled": 3, "running": 1, "waiting": 2}, "the next task")
    assert own_machine.lq("show", "1/11").returncode == 2
    assert own_machine.lq("cancel", "1").returncode == 0
    found = own_machine.ended(told["job"])
    assert (found["state"], found["counts"]) == ("cancelled", {"cancelled": 6})


def test_an_array_survives_its_engine(machine):
    told = array_of(machine, 'sleep 0.2; echo "$LQ_TASK"', '[array]\ntasks = "1..6"\nat-once = 2')
    os.kill(machine.engine(), 9)
    found = machine.ended(told["job"])
    assert found["counts"] == {"done": 6}
    assert [Path(task["output"]).read_text() for task in found["tasks"]] == [f"{number}\n" for number in range(1, 7)]


def test_arguments_and_output_are_filled_in_with_parameters(machine):
    settings = ('arguments=["--level", "{level}"]', 'output="{name}-{grid}-{level}.txt"', "name=swept")
    told = array_of(machine, 'echo "$1=$2 $level $grid"', SWEEP, *settings)
    machine.ended(told["job"])
    assert (machine.work / "swept-south-2.txt").read_text() == "--level=2 2 south\n"


def test_a_job_runs_after_another_by_number_or_name(own_machine):
    first = own_machine.submit("while [ ! -e go ]; do sleep 0.05; done; exit 1", "name=first")
    clean = own_machine.submit("echo cleaned", "name=clean", 'after={ first = "fails" }')
    never = own_machine.submit("echo never", "name=never", f'after={{ {first} = "succeeds" }}')
    assert own_machine.state_of(clean) == "blocked"
    assert "waits until 1 fails" in own_machine.lq("why", str(clean)).stdout
    (own_machine.work / "go").touch()
    assert own_machine.ended(clean)["state"] == "done"
    found = own_machine.ended(never)
    assert (found["state"], found["started"]) == ("skipped", None)
    assert "1 ended failed" in found["reason"]
    path = own_machine.work / "job.sh"
    refused = own_machine.lq("submit", str(path), "--set", f'after={{ {first} = "succeeds" }}')
    assert refused.returncode == 1 and "could never start" in refused.stderr
    assert "there is no job 99" in own_machine.lq("submit", str(path), "--set", 'after={ 99 = "fails" }').stderr


def test_scratch_is_watched_where_some_was_asked_for(machine):
    body = 'head -c 5000000 /dev/zero > "$LQ_SCRATCH/x"; until [ -e go ]; do sleep 0.05; done'
    over = machine.submit(body, "scratch=2 MiB", "grace=5s")
    assert machine.ended(over)["state"] == "failed"
    found = machine.show(over)
    assert re.fullmatch(r"it had [345] MiB in scratch, and asked for 2 MiB", found["reason"])
    assert found["scratch_used_mib"] > 2
    near = machine.submit(body, "scratch=5 MiB")
    until(lambda: machine.show(near)["warning"] == "near its scratch limit: 5 MiB of 5 MiB")
    free = machine.submit(body)
    (machine.work / "go").touch()
    assert machine.ended(near)["state"] == machine.ended(free)["state"] == "done"
