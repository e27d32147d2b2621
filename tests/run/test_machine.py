"""Real scripts on this machine, through the command line, the engine, the agent and the supervisors."""

import json
import os
import shutil
from pathlib import Path

import pytest

from lazy_quarry.run.node import groups
from tests.conftest import script, until


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def test_a_script_runs_and_its_record_is_true(machine):
    job = machine.submit(
        'echo "from $LQ_NAME as $LQ_JOB"; python3 -c "sum(range(6000000))"; head -c 300000 /dev/zero > big',
        "name=first",
    )
    found = machine.ended(job)
    assert (found["state"], found["exit"], found["signal"]) == ("done", 0, None)
    assert Path(found["output"]).read_text() == f"from first as {job}\n"
    assert found["cpu_s"] > 0.02
    assert found["written_bytes"] > 300_000
    assert 0 < found["memory_peak_mib"] < 64
    assert found["submitted"] <= found["started"] <= found["ended"]
    assert [event["what"].split(" ")[0].rstrip(",") for event in found["events"]] == ["submitted", "started", "done"]


@pytest.mark.parametrize(
    ("body", "state", "exit_status", "signal"),
    [
        ("exit 3", "failed", 3, None),
        ("kill -SEGV $$", "failed", None, "SIGSEGV"),
        ("no-such-program", "failed", 127, None),
    ],
)
def test_failures_are_told_by_exit_or_signal(machine, body, state, exit_status, signal):
    found = machine.ended(machine.submit(body))
    assert (found["state"], found["exit"], found["signal"]) == (state, exit_status, signal)
    assert machine.lq("wait", str(found["job"])).returncode == 1


def test_a_job_that_ignores_its_end_is_stopped_to_the_last_process(machine):
    body = "trap '' TERM\n(trap '' TERM; exec sleep 1000) &\nsetsid sh -c \"trap '' TERM; sleep 1000\" &\nsleep 1000\nsleep 1000"
    job = machine.submit(body, 'walltime = "1s"', 'grace = "1s"')
    found = machine.ended(job)
    assert found["state"] == "overtime"
    assert not marked(machine, job)


def marked(machine, job, attempt=1):
    mark = f"LQ_ATTEMPT_FOLDER={machine.state}/spool/{job}-{attempt}-".encode()
    found = []
    for name in os.listdir("/proc"):
        if name.isdigit():
            try:
                if mark in Path(f"/proc/{name}/environ").read_bytes():
                    found.append(int(name))
            except OSError:
                continue
    return found


def test_memory_is_kept(machine):
    job = machine.submit('python3 -c "x = bytearray(400_000_000); import time; time.sleep(60)"')
    found = machine.ended(job)
    assert found["state"] == "overmemory"
    assert found["memory_peak_mib"] > 64


@pytest.mark.skipif("memory" not in groups.group_bases(), reason="no group of memory can be made here")
def test_memory_is_kept_by_the_kernel_where_it_can_be(machine):
    job = machine.submit('python3 -c "bytearray(6 << 30)"; sleep 60')  # far faster than any watching
    found = machine.ended(job)
    assert found["state"] == "overmemory"
    assert 64 <= found["memory_peak_mib"] <= 128


@pytest.mark.skipif("cpuset" not in groups.group_bases(), reason="no group of cores can be made here")
def test_cores_cannot_be_taken_back(machine):
    take = "import os; os.sched_setaffinity(0, range(os.cpu_count())); print(len(os.sched_getaffinity(0)))"
    job = machine.submit(f"python3 -c '{take}'")
    assert Path(machine.ended(job)["output"]).read_text() == "1\n"


def test_forks_that_share_pages_are_not_counted_twice(machine):
    code = "import os, time; x = bytearray(40_000_000)\nfor n in range(4):\n  os.fork() or (time.sleep(1.5), os._exit(0))\nfor n in range(4): os.wait()"
    job = machine.submit(f"python3 -c '{code}'", "memory=110 MiB/job")
    assert machine.ended(job)["state"] == "done"


def test_cores_are_kept_by_affinity(machine):
    job = machine.submit("python3 -c 'import os; print(len(os.sched_getaffinity(0)))'")
    assert Path(machine.ended(job)["output"]).read_text() == "1\n"


def test_processes_that_a_script_leaves_behind_end_with_it(machine):
    found = machine.ended(machine.submit("sleep 1000 &\nexit 0", 'grace = "1s"'))
    assert found["state"] == "done"
    assert "left behind" in found["reason"]
    assert not marked(machine, found["job"])


def test_a_job_may_print_without_end_and_delete_its_folder(machine):
    (machine.work / "own").mkdir()
    job = machine.submit("cd ..; rm -rf own; yes | head -c 5000000", "directory=own", f"output={machine.work}/out.txt")
    found = machine.ended(job)
    assert found["state"] == "done"
    assert (machine.work / "out.txt").stat().st_size == 5_000_000
    shown = machine.lq("output", str(job))
    assert len(shown.stdout) == 5_000_000


def test_output_and_errors_go_where_the_header_says(machine):
    job = machine.submit(
        "echo good; echo bad >&2", "output=logs/deep/{name}-{user}.txt", "errors=logs/err-{job}.txt", "name=two"
    )
    found = machine.ended(job)
    assert Path(found["output"]).read_text() == "good\n"
    assert Path(found["errors"]).read_text() == "bad\n"
    assert machine.lq("output", str(job), "--errors").stdout == "bad\n"
    assert found["errors"].endswith(f"logs/err-{job}.txt")


def test_a_folder_with_spaces_and_a_newline_is_a_folder_like_any_other(machine):
    odd = machine.work / "a b\nc"
    odd.mkdir()
    (odd / "job one.sh").write_text(script('walltime = "1m"\nmemory = "64 MiB/core"', "pwd"))
    done = machine.lq("submit", str(odd / "job one.sh"), "--set", f"directory={json.dumps(str(odd))}")
    assert done.returncode == 0, done.stderr
    found = machine.ended(int(done.stdout.split()[0]))
    assert found["state"] == "done"
    assert Path(found["output"]).read_text() == f"{odd}\n"


def test_arguments_input_environment_prepare_and_directory(machine):
    (machine.work / "sub").mkdir()
    (machine.work / "sub" / "in.txt").write_text("from a file")
    header = (
        'walltime = "1m"\nmemory = "64 MiB/core"\ndirectory = "sub"\ninput = "in.txt"\n'
        'environment = { COLOUR = "blue" }\nprepare = ["PREPARED=yes"]\narguments = ["x", "y z"]'
    )
    job = machine.submit('echo "$PWD $(cat) $COLOUR $PREPARED $# $2 ${HIDDEN:-hidden}"', header=header)
    text = Path(machine.ended(job)["output"]).read_text()
    assert text == f"{machine.work}/sub from a file blue yes 2 y z hidden\n"


def test_the_environment_is_inherited_only_when_asked(machine):
    machine.environment["SEEN"] = "me"
    job = machine.submit('echo "${SEEN:-not}"', "environment={ inherit = true }")
    assert Path(machine.ended(job)["output"]).read_text() == "me\n"


def test_the_script_that_was_submitted_is_what_runs(machine):
    first = machine.submit("sleep 600")
    others = [machine.submit("sleep 600") for _ in range(os.cpu_count() or 1)]
    path = machine.work / "later.sh"
    path.write_text(script('walltime = "1m"\nmemory = "64 MiB/core"', "echo as it was"))
    job = int(machine.lq("submit", str(path)).stdout.split()[0])
    path.write_text("#!/bin/sh\necho changed\n")
    machine.lq("cancel", str(first), *map(str, others))
    assert Path(machine.ended(job)["output"]).read_text() == "as it was\n"


def test_python_scripts_run_through_their_own_interpreter_line(machine):
    path = machine.work / "count.py"
    path.write_text(
        script(
            'walltime = "1m"\nmemory = "64 MiB/core"',
            "import os\nprint(os.environ['LQ_JOB'])",
            "#!/usr/bin/env python3",
        )
    )
    job = int(machine.lq("submit", str(path)).stdout.split()[0])
    assert Path(machine.ended(job)["output"]).read_text() == f"{job}\n"


def test_an_interpreter_that_is_not_there_is_told(machine):
    path = machine.work / "odd.sh"
    path.write_text(script('walltime = "1m"\nmemory = "64 MiB/core"', "true", "#!/no/such/shell"))
    refused = machine.lq("submit", str(path))
    assert refused.returncode == 1 and "there is no interpreter /no/such/shell" in refused.stderr
    half = machine.work / "half"
    half.write_text("#!/no/such/shell\n")
    half.chmod(0o755)
    path.write_text(script('walltime = "1m"\nmemory = "64 MiB/core"', "true", f"#!{half}"))
    found = machine.ended(int(machine.lq("submit", str(path)).stdout.split()[0]))
    assert (found["state"], found["exit"]) == ("failed", None)
    assert "interpreter" in found["reason"]


def test_promised_files_decide(machine):
    good = machine.submit("echo x > made.txt", 'expect=["made.txt"]')
    empty = machine.submit(": > empty.txt", 'expect=["empty.txt"]')
    assert machine.ended(good)["state"] == "done"
    found = machine.ended(empty)
    assert found["state"] == "failed" and "which is empty" in found["reason"]


def test_promised_files_of_tasks_are_named_for_each(machine):
    job = machine.submit(
        '[ "$LQ_TASK" = 2 ] || echo x > made-$LQ_TASK.txt', "array.tasks=3", 'expect=["made-{task}.txt"]'
    )
    found = machine.ended(job)
    assert found["state"] == "failed" and found["counts"] == {"done": 2, "failed": 1}
    assert "made-2.txt" in json.loads(machine.lq("show", f"{job}/2", "--format", "json").stdout)["reason"]


def test_the_tasks_that_failed_run_again_alone_with_their_numbers_and_parameters(machine):
    sweep = ["array.sweep.level=[1, 2, 3]", 'array.sweep.grid=["a", "b"]']
    body = '[ "$level$grid" != 2b ] && [ "$LQ_TASK" != 5 ] || [ -e mended ] || exit 3\necho "$level$grid"'
    first = machine.submit(body, *sweep)
    assert machine.ended(first)["counts"] == {"done": 4, "failed": 2}
    (machine.work / "mended").write_text("")
    told = machine.lq("again", str(first), "--failed").stderr
    assert "2 tasks of" in told
    again = int(told.split()[-1])
    assert machine.ended(again)["counts"] == {"done": 2}
    tasks = json.loads(machine.lq("show", str(again), "--format", "json").stdout)["tasks"]
    assert [one["task"] for one in tasks] == [4, 5]
    assert machine.lq("output", f"{again}/4").stdout == "2b\n" and machine.lq("output", f"{again}/5").stdout == "3a\n"
    third = int(machine.lq("again", f"{first}/1..2").stdout.split()[-1])
    assert machine.ended(third)["counts"] == {"done": 2}
    slow = machine.submit("sleep 60", "array.tasks=5", "array.at-once=1")
    assert machine.lq("hold", f"{slow}/3..4").stdout == f"{slow}/3 held\n{slow}/4 held\n"
    until(lambda: machine.state_of(slow) == "running", "a task to run")
    assert machine.show(slow)["counts"] == {"held": 2, "running": 1, "waiting": 2}
    assert machine.lq("cancel", str(slow), "--waiting").returncode == 0
    assert machine.show(slow)["counts"] == {"cancelled": 4, "running": 1}
    assert machine.lq("cancel", str(slow), "--running").returncode == 0
    refused = machine.lq("again", str(again), "--failed")
    assert refused.returncode == 1 and "no task of" in refused.stderr
    whole = int(machine.lq("again", str(again)).stdout.split()[-1])
    assert machine.ended(whole)["counts"] == {"done": 2}  # as it was


def test_a_warning_comes_before_the_end(machine):
    body = "trap 'echo saving; exit 0' USR1\nwhile :; do sleep 0.05; done"
    found = machine.ended(machine.submit(body, 'walltime = "4s"', 'warn = "3s"'))
    assert found["state"] == "done"
    assert Path(found["output"]).read_text() == "saving\n"


def test_a_running_job_can_ask_about_itself(machine):
    found = machine.ended(machine.submit('lq show "$LQ_JOB" --format json', "memory=400 MiB/core"))
    assert found["state"] == "done"
    assert json.loads(Path(found["output"]).read_text())["state"] == "running"


def test_a_summary_ends_the_output(own_machine):
    found = own_machine.ended(own_machine.submit("echo hello", "summary=true", "name=sum"))
    text = Path(found["output"]).read_text()
    assert text.startswith("hello\n") and "-- sum, job 1: exit 0" in text


def test_failures_run_again_as_often_as_asked(machine):
    found = machine.ended(machine.submit('echo "$LQ_ATTEMPT"; exit 1', "retries=2"))
    assert (found["state"], found["attempt"]) == ("failed", 3)
    assert Path(found["output"]).read_text() == "1\n2\n3\n"


def test_jobs_wait_their_turn_and_are_held_and_released(machine):
    cores = len(os.sched_getaffinity(0))
    first = machine.submit("sleep 600", f"ranks={cores}")
    held, waiting = machine.submit("true"), machine.submit("true")
    assert machine.lq("hold", str(held)).returncode == 0
    view = machine.show(waiting)
    assert view["state"] == "waiting" and view["forecast"] > view["submitted"]
    assert f"when {first} reaches its limit" in view["why"]
    assert machine.lq("cancel", str(first)).returncode == 0
    assert machine.ended(waiting)["state"] == "done"
    assert machine.show(first)["state"] == "cancelled"
    assert machine.state_of(held) == "held"
    machine.lq("release", str(held))
    assert machine.ended(held)["state"] == "done"


def test_the_engine_is_renewed_while_jobs_go_on(machine):
    job = machine.submit('echo here > "$LQ_SCRATCH/x"; sleep 1.5; cat "$LQ_SCRATCH/x"')
    first = machine.engine()
    done = machine.lq("renew")
    assert done.returncode == 0, done.stderr
    assert machine.engine() != first
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("done", 1)
    assert Path(found["output"]).read_text() == "here\n"


def test_live_use_is_seen_while_it_runs(machine):
    job = machine.submit("python3 -c 'while True: pass'", "walltime=1m")
    view = until(lambda: (view := machine.show(job))["cpu_s"] > 0.2 and view, "some CPU time")
    assert view["state"] == "running" and view["charge_core_hours"] > 0
    machine.lq("cancel", str(job))
    assert machine.ended(job)["state"] == "cancelled"


def test_an_output_that_cannot_be_written_is_refused_before_it_runs(machine):
    (machine.work / "file").write_text("")
    for output in ("/proc/nowhere/out.txt", f"{machine.work}/file/out.txt", str(machine.work)):
        done = machine.lq("submit", "--set", "walltime=1m", "--set", f"output={output}", "--", "true")
        assert done.returncode == 1
        assert "output" in done.stderr
    assert "no jobs" in machine.lq("jobs").stdout
    assert "not there" in machine.lq("submit", "--set", "directory=gone", "--", "true").stderr


def test_fifty_commands_at_once_are_served_and_none_is_lost(own_machine):
    import subprocess
    import sys

    path = own_machine.work / "job.sh"
    path.write_text(script('walltime = "1m"\nmemory = "16 MiB/core"', "true"))
    commands = [
        subprocess.Popen(
            [sys.executable, "-m", "lazy_quarry", "submit", str(path)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            cwd=own_machine.work,
            env=own_machine.environment,
        )
        for _ in range(50)
    ]
    told = [command.communicate(timeout=240) for command in commands]
    assert all(command.returncode == 0 for command in commands), told
    numbers = sorted(int(out.split()[0]) for out, _ in told)
    assert numbers == list(range(1, 51))
    assert own_machine.lq("wait", *map(str, numbers)).returncode == 0
    assert len(own_machine.processes("lazy_quarry.link.server")) == 1


def test_the_engine_leaves_when_there_is_nothing_to_do(machine):
    machine.environment["LQ_LINGER"] = "0.2"
    machine.ended(machine.submit("true"))
    until(lambda: not machine.processes("lazy_quarry.link.server"), "the engine's leaving")
    until(lambda: not machine.agents(), "the agent's leaving")
    assert machine.state_of(1) == "done"


def test_an_engine_whose_state_folder_was_removed_leaves_though_a_job_waits(own_machine):
    own_machine.submit("true", header='walltime = "1m"\nmemory = "64 MiB/core"\nnot-before = 2099-01-01T00:00:00Z')
    assert own_machine.processes("lazy_quarry.link.server")
    until(lambda: shutil.rmtree(own_machine.state, ignore_errors=True) or not own_machine.state.exists())
    until(lambda: not own_machine.processes("lazy_quarry.link.server"), "the engine's leaving")
    until(lambda: not own_machine.agents(), "the agent's leaving")


def test_time_passes_by_a_clock_that_nobody_sets(machine):
    job = machine.submit("sleep 0.3")
    found = machine.ended(job)
    assert 0.3 <= found["charge_core_hours"] * 3600 < 30
