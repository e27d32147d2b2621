"""The command line: what it prints, its exit codes, its one clear line on stderr."""

import json
import os
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from lazy_quarry.cli.output.job_text import jobs_table
from lazy_quarry.core.header.interpreter import interpreter
from lazy_quarry.probe.language import findings
from tests.conftest import script, until

GOOD = 'walltime = "1m"\nmemory = "64 MiB/core"'


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def one_line(done, begins="lazy-quarry: "):
    return len(done.stderr.strip().split("\n")) == 1 and done.stderr.startswith(begins)


@pytest.mark.parametrize(
    "words",
    [
        ("nonsense",),
        ("jobs", "--nonsense"),
        ("jobs", "--format", "yaml"),
        ("jobs", "--columns", "colour"),
        ("jobs", "--since", "tomorrow"),
        ("show", "99"),
        ("show", "four"),
        ("show", "1/2"),
        ("output", "99"),
        ("cancel", "99"),
        ("why", "99"),
        ("wait", "99"),
        ("submit",),
        ("submit", "gone.sh"),
        ("submit", "a.sh", "--", "true"),
        ("demo", "--speed", "0"),
        ("demo", "--past", "0"),
        ("adopt",),
    ],
)
def test_a_command_that_could_not_do_it_says_so_and_exits_with_2(own_machine, words):
    done = own_machine.lq(*words)
    assert done.returncode == 2, (done.stdout, done.stderr)
    said = "there is no job 99; " if words == ("cancel", "99") else "lazy-quarry: "  # it says what became of each job
    assert one_line(done, said), done.stderr
    assert "Traceback" not in done.stderr


def test_a_folder_where_a_file_is_to_be_written_is_refused_before_anything_is_asked(machine):
    for words in (
        "report --csv", "report --pdf", "report --usage-records", "study --svg", "study --forecasts", "compare 98 99 --csv",
        "scaling 98 --svg", "chain check gone.toml --pdf", "draw nodes --svg", "replay --make 9 t.swf --forecasts", "try gone.sh --draft",
        "account list --ics", "reservations --ics", "show 98 --bundle",
    ):  # fmt: skip
        done = machine.lq(*words.split(), str(machine.work))
        option = words.split()[-1]
        assert (done.returncode, done.stderr) == (
            2,
            f"lazy-quarry: {option} {machine.work}: this is a folder; name a file in it\n",
        )


def test_help_and_version(machine):
    assert "submit" in machine.lq("--help").stdout
    assert "--follow" in machine.lq("output", "--help").stdout
    assert machine.lq("--version").stdout.startswith("lazy-quarry 0.")


def test_output_that_cannot_be_written_is_told(machine):
    for words in ("--help", "jobs"):
        with open("/dev/full", "w") as full:
            command = [sys.executable, "-m", "lazy_quarry", words]
            done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, env=machine.environment)
        assert done.returncode == 2 and done.stderr == "lazy-quarry: the output: No space left on device\n"


def test_an_array_names_the_tasks_that_failed(own_machine):
    own_machine.submit(
        "test $LQ_TASK -ne 6", header='walltime = "1m"\nmemory = "64 MiB/core"\narray = { tasks = "5..9" }'
    )
    assert own_machine.lq("wait", "1").returncode == 1
    assert "1 of 5 tasks failed: 6" in own_machine.lq("show", "1").stdout


def test_a_site_that_is_not_there_says_so(own_machine):
    own_machine.environment["LQ_SITE"] = "elsewhere"
    done = own_machine.lq()
    assert done.returncode == 2 and 'no site "elsewhere"' in done.stderr


def test_check_lists_everything_with_its_line_and_starts_no_engine(own_machine):
    (own_machine.work / "good.sh").write_text(script(GOOD))
    (own_machine.work / "bad.sh").write_text(script('wallime = "1m"\nmemory = "64 MiB/core"', "if true; then"))
    done = own_machine.lq("check", "good.sh", "bad.sh", "gone.sh", "--format", "json")
    assert done.returncode == 2  # one of them isn't there
    found = json.loads(done.stdout)
    assert {(one["file"], one["line"], one["severity"], one["code"]) for one in found} >= {
        ("bad.sh", 3, "error", "key-unknown"),
        ("gone.sh", 1, "error", "unreadable"),
    }
    assert any(one["code"] == "syntax" and one["file"] == "bad.sh" for one in found)
    assert not any(one["code"] == "walltime-absent" for one in found)  # it is there, misspelt
    assert set(found[0]) == {"file", "line", "column", "severity", "code", "message", "fix"}
    assert own_machine.lq("check", "good.sh").returncode == 0
    assert "nothing to say" in own_machine.lq("check", "good.sh").stdout
    assert own_machine.lq("check", "good.sh", "--set", "ranks=9999").returncode == 1
    assert not own_machine.processes("lazy_quarry.link.server")


@pytest.mark.parametrize(
    ("raw", "words"),
    [(b"", "empty"), (b"\0\1\2", "binary"), (b"#!/bin/sh\n\xff\n", "not UTF-8"), (b"true\r\n", "Windows line ends")],
)
def test_a_file_that_is_no_script_is_refused_by_check_and_submit(machine, raw, words):
    (machine.work / "odd.sh").write_bytes(raw)
    checked = machine.lq("check", "odd.sh")
    assert checked.returncode == 1 and words in checked.stdout
    submitted = machine.lq("submit", "odd.sh")
    assert submitted.returncode in (1, 2) and words in submitted.stderr
    assert "no jobs" in machine.lq("jobs", "--ended").stdout


def test_submit_takes_a_file_standard_input_or_a_command(machine):
    path = machine.work / "args.sh"
    path.write_text(script(GOOD, 'echo "$# $1"'))
    first = machine.lq("submit", str(path), "one two", "three")
    second = machine.lq("submit", "-", text=script(f'{GOOD}\nname = "piped"', "echo piped"))
    third = machine.lq("submit", "--set", "walltime=1m", "--set", "name=c", "--", "printf", "%s|", "a b", "$HOME")
    numbers = [int(done.stdout.split()[0]) for done in (first, second, third)]
    assert numbers == [1, 2, 3]
    assert machine.lq("wait", "1", "2", "3").returncode == 0
    assert machine.lq("output", "1").stdout == "2 one two\n"
    assert machine.lq("output", "2").stdout == "piped\n"
    assert machine.lq("output", "3").stdout == "a b|$HOME|"
    assert machine.show(2)["name"] == "piped"


def test_submit_prints_json_with_number_and_forecast(own_machine):
    (own_machine.work / "a.sh").write_text(script(GOOD))
    told = json.loads(own_machine.lq("submit", "a.sh", "--format", "json").stdout)
    assert told["job"] == 1 and told["tasks"] is None and told["forecast"].endswith("Z")
    refused = own_machine.lq("submit", "a.sh", "--set", "ranks=4000", "--format", "json")
    assert refused.returncode == 1
    assert json.loads(refused.stdout)[0]["code"] == "impossible"


def test_a_job_in_json_has_every_field(own_machine):
    job = own_machine.ended(own_machine.submit("true"))
    wanted = [
        "job",
        "task",
        "name",
        "state",
        "user",
        "account",
        "queue",
        "tier",
        "submitted",
        "started",
        "ended",
        "forecast",
        "why",
        "nodes",
        "cores",
        "gpus",
        "memory_mib",
        "walltime_s",
        "elapsed_s",
        "cpu_s",
        "memory_peak_mib",
        "exit",
        "signal",
        "charge_core_hours",
        "output",
        "errors",
        "cores_by_node",
        "events",
    ]
    assert set(wanted) <= set(job)
    assert job["cores_by_node"] == {job["nodes"][0]: [0]}
    listed = json.loads(own_machine.lq("jobs", "--ended", "--format", "json").stdout)
    assert [one["job"] for one in listed] == [1]
    assert json.loads(own_machine.lq("jobs", "--format", "json").stdout) == []


def test_lists_are_tables_with_chosen_columns(own_machine):
    own_machine.ended(own_machine.submit("exit 4", "name=" + "long-name-" * 5))
    lines = own_machine.lq("jobs", "--ended", "--columns", "job,name,exit,walltime").stdout.split("\n")
    assert lines[0].split() == ["job", "name", "exit", "walltime"]
    assert lines[1].split() == ["1", "long-name-" * 5, "4", "1m"]
    assert "1" in own_machine.lq("jobs", "--since", "1h").stdout
    assert "no jobs" in own_machine.lq("jobs", "--since", "2099-01-01").stdout
    shown = own_machine.lq("show", "1").stdout
    assert "Failed after" in shown and "exit 4" in shown and "core-hours" in shown


def test_output_is_followed_to_its_end(machine):
    job = machine.submit("for n in 1 2 3; do echo line $n; sleep 0.3; done; echo oops >&2")
    done = machine.lq("output", str(job), "--follow")
    assert done.stdout == "line 1\nline 2\nline 3\noops\n"
    waiting = machine.lq("output", str(job), "--errors")
    assert waiting.returncode == 0


def test_commands_to_ended_jobs_are_answered_no(machine):
    job = machine.ended(machine.submit("true"))["job"]
    for verb in ("cancel", "hold", "release"):
        done = machine.lq(verb, str(job))
        assert done.returncode == 1 and "ended already" in done.stderr
    assert "waits for nothing" in machine.lq("why", str(job)).stdout


def test_the_record_says_who_did_it_and_why(machine):
    first = machine.submit("sleep 600", f"threads={os.cpu_count()}")
    job = machine.submit("sleep 600")
    assert machine.lq("hold", str(job)).returncode == 0
    assert machine.lq("cancel", str(first)).returncode == 0
    assert machine.lq("release", str(job), "--why", "inputs are there").returncode == 0
    until(lambda: machine.state_of(job) == "running")
    assert machine.lq("cancel", str(job), "--why", "wrong \n mesh").returncode == 0
    told = machine.ended(job)["events"]
    [user] = {one["by"]["user"] for one in told if one["what"].startswith("submitted")}
    causes = {one["by"]["why"]: one for one in told if one["by"] is not None}
    assert {one["by"]["user"] for one in causes.values()} == {user} and user
    assert causes["inputs are there"]["what"] == f"released by {user}: inputs are there"
    assert causes["inputs are there"]["by"]["where"] == "socket"
    assert causes["wrong \n mesh"]["what"].startswith(f"stopped by {user}: wrong")
    assert [one["by"] for one in told if one["what"].startswith("started")] == [None]
    too_long = machine.lq("hold", str(job), "--why", "x" * 1001)
    assert too_long.returncode == 1 and "at most 1,000 characters" in too_long.stderr


def test_the_socket_speaks_json_rpc_and_survives_nonsense(own_machine):
    own_machine.ended(own_machine.submit("true"))
    link = socket.socket(socket.AF_UNIX)
    link.connect(str(own_machine.state / "engine.sock"))
    assert Path(own_machine.state / "engine.sock").stat().st_mode & 0o077 == 0
    lines = link.makefile("rwb", buffering=0)
    assert json.loads(lines.readline())["method"] == "hello"

    def ask(raw):
        lines.write(raw + b"\n")
        while "method" in (answer := json.loads(lines.readline())):
            pass
        return answer

    assert ask(b"not json")["error"]["code"] == -32700
    assert ask(b"[]")["error"]["code"] == -32600
    assert ask(b'{"jsonrpc":"2.0","id":1,"method":"_commit"}')["error"]["code"] == -32601
    assert ask(b'{"jsonrpc":"2.0","id":2,"method":"job","params":{"number":"x"}}')["error"]["code"] == -32602
    assert ask(b'{"jsonrpc":"2.0","id":3,"method":"job","params":{}}')["error"]["code"] == -32602
    assert ask(b'{"jsonrpc":"2.0","id":4,"method":"job","params":{"number":9}}')["error"]["code"] == -32004
    good = ask(b'{"jsonrpc":"2.0","id":5,"method":"job","params":{"number":1}}')
    assert good["id"] == 5 and good["result"]["phase"] == "done"
    link.close()
    assert own_machine.state_of(1) == "done"


def test_interpreters_and_their_syntax():
    assert interpreter("#!/usr/bin/env -S python3 -u\n") == "python3"
    assert interpreter("#!/bin/bash -e\n") == "bash"
    assert interpreter("true\n") == ""
    assert findings("#!/bin/sh\ntrue\n") == ()
    assert findings("#!/bin/bash\nfor x in; do\n")[0].code == "syntax"
    assert findings("#!/usr/bin/env python3\ndef f(:\n")[0].line == 2
    assert findings("#!/bin/csh\nif (1) then\n") == ()
    assert findings("#!/usr/bin/env Rscript\nif (\n") == ()


def test_waiting_goes_on_when_the_engine_comes_back(machine):
    import os
    import signal
    import subprocess
    import sys

    job = machine.submit("sleep 2")
    waiting = subprocess.Popen(
        [sys.executable, "-m", "lazy_quarry", "wait", str(job)],
        stdout=subprocess.PIPE,
        text=True,
        cwd=machine.work,
        env=machine.environment,
    )
    until(lambda: machine.processes(f"wait {job}") or waiting.poll() is None, "the waiting")
    os.kill(machine.engine(), signal.SIGKILL)
    out, _ = waiting.communicate(timeout=60)
    assert waiting.returncode == 0 and "Done in" in out


def test_an_empty_list_says_so():
    assert jobs_table([], "") == ["no jobs"]


SWEEP = script(
    'walltime = "1h"\nmemory = "256 MiB/core"\n\n[array.sweep]\nlevel = [1, 2]', 'echo "level $level of task $LQ_TASK"'
)


def test_one_of_an_array_is_tried_with_advice(own_machine):
    (own_machine.work / "sweep.sh").write_text(SWEEP)
    done = own_machine.lq("try", "sweep.sh", "--value", "level=7")
    assert done.returncode == 0, done.stderr
    assert "trying one as 1" in done.stderr and 'ask for walltime = "1m"' in done.stderr and done.stdout == "1\n"
    assert own_machine.lq("output", "1").stdout == "level 7 of task 1\n"
    assert own_machine.lq("try", "sweep.sh", "--task", "9").returncode == 2
    assert own_machine.lq("try", "sweep.sh", "--value", "level").returncode == 2


def test_a_trial_that_fails_says_so_by_its_exit(machine):
    (machine.work / "bad.sh").write_text(script('walltime = "1h"\nmemory = "256 MiB/core"', "exit 3"))
    done = machine.lq("try", "bad.sh")
    assert done.returncode == 1 and "exit 3" in done.stderr


def test_a_forecast_says_where_when_and_how_dear(machine):
    (machine.work / "sweep.sh").write_text(SWEEP)
    done = machine.lq("forecast", "sweep.sh", "--set", "walltime=2h")
    assert "starts   now" in done.stdout and "* 2h" in done.stdout and "at most 4.02 core-hours" in done.stdout
    found = json.loads(machine.lq("forecast", "sweep.sh", "--format", "json").stdout)
    assert found["tasks"] == 2 and found["placement"][0]["cores"] == [0]
    assert any(rung["asked"] and rung["walltime_s"] == 3600 for rung in found["ladder"])


def test_survey_tells_what_there_is_and_what_could_start(machine):
    text = machine.lq("survey").stdout
    assert "queue here: open" in text and "tier trial" in text and "storage" in text
    found = json.loads(machine.lq("survey", "--format", "json").stdout)
    assert found["queues"][0]["name"] == "here"
    assert any(room["kind"] == "one node" and room["cores"] for room in found["room"])


def test_a_shell_needs_a_terminal(machine):
    done = machine.lq("shell", text="")
    assert done.returncode == 2 and "needs a terminal" in done.stderr


def test_all_checks_are_listed(machine):
    assert "| `first-node-only` |" in machine.lq("check", "--codes").stdout
    assert machine.lq("check").returncode == 2


def test_submitting_prints_the_number_alone_where_a_program_reads_it(own_machine):
    (own_machine.work / "v.sh").write_text(script('walltime = "1m"\nmemory = "9 MiB/core"', 'echo "$@"'))
    done = own_machine.lq("submit", "v.sh")
    assert done.stdout == "1\n" and "1 submitted" in done.stderr
    assert own_machine.lq("submit", "--format", "text", "v.sh").stdout.startswith("2 submitted")
    assert own_machine.lq("submit", "--quiet", "v.sh", "--quiet", "a").stdout == "3\n"
    own_machine.lq("wait", "1", "2", "3")
    assert own_machine.lq("output", "3").stdout == "--quiet a\n"  # behind the script it is the script's
    again = own_machine.lq("again", "1", "2")
    assert again.stdout == "4\n5\n" and "1 runs again as 4" in again.stderr
    told = json.loads(own_machine.lq("again", "1", "--format", "json").stdout)
    assert [(one["job"], one["done"]) for one in told] == [(6, True)]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("submit", "--walltime", "3m", "x.sh"), "did you mean --set walltime=3m?"),
        (("check", "--walltime=3m", "x.sh"), "did you mean --set walltime=3m?"),
        (("again", "--at-once", "4", "1"), "did you mean --set array.at-once=4?"),
        (("again", "--waltime", "4m", "1"), "did you mean --set walltime=4m?"),
        (("jobs", "--nonsense"), "there is no option --nonsense; --help lists them"),
        (("show",), "lq jobs lists them"),
        (("show", "999"), "lq jobs lists those that wait and run"),
        (("chain", "5"), "lq chain lists them"),
        (("account", "show", "nobody"), "; there is "),
        (("mail", "7"), "lq mail lists what there is"),
    ],
)
def test_every_error_message_says_what_to_do_next(machine, words, said):
    done = machine.lq(*words)
    assert done.returncode == 2 and said in done.stderr and len(done.stderr.splitlines()) == 1, done.stderr


@pytest.mark.parametrize(
    ("setting", "said"),
    [
        ("at-once=4", 'did you mean "array.at-once"?'),
        ("18=succeeds", 'after.18 = "succeeds"'),
        ("after=3", "--set after.3=succeeds"),
    ],
)
def test_a_key_that_lies_in_a_table_is_named_with_it(machine, setting, said):
    assert said in machine.lq("submit", "--set", setting, "--", "true").stderr
