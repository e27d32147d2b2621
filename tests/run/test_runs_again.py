"""The output of a run stays its own, tasks that ran again stand in their array, and arguments are a part of the record."""

import json

import pytest

from tests.conftest import until

SWEEP = """#!/bin/sh
# /// job
# walltime = "1m"
# memory = "50 MiB/core"
# output = "drag-{re}.txt"
# [array.sweep]
# re = [10, 20, 30]
# ///
echo "drag $((re * 2)) by $LQ_JOB"
[ "$re" = 10 ] || [ -e mended ] || exit 3
"""


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def shown(machine, job):
    return json.loads(machine.lq("show", job, "--format", "json").stdout)


def values(machine, job):
    rows = json.loads(machine.lq("compare", job, "--find", r"drag (\d+)", "--format", "json").stdout)
    return [(f"{row['job']}/{row['task']}", row["value"]) for row in rows]


def test_tasks_that_ran_again_stand_in_their_array_and_no_run_shows_what_another_wrote(machine):
    (machine.work / "s.sh").write_text(SWEEP)
    machine.lq("submit", "s.sh")
    machine.lq("wait", "1")
    before = shown(machine, "1")
    assert values(machine, "1") == [("1/1", 20), ("1/2", 40), ("1/3", 60)]
    (machine.work / "mended").touch()
    assert "2 tasks of 1 run again as 2" in machine.lq("again", "1", "--failed").stderr
    machine.lq("wait", "2")
    assert values(machine, "1") == [("1/1", 20), ("2/2", 40), ("2/3", 60)]
    told = machine.lq("output", "1/2")
    assert told.returncode == 1 and "drag" not in told.stdout and "was written over by 2/2" in told.stderr
    assert "by 2" in machine.lq("output", "2/2").stdout
    after = shown(machine, "1")
    kept = ("state", "counts", "charge_core_hours", "ended", "reason")
    assert [after[key] for key in kept] == [before[key] for key in kept] and after["counts_now"] == {"done": 3}
    assert [task.get("replaced_by") for task in after["tasks"]] == [None, "2/2", "2/3"]
    assert shown(machine, "2/3")["replaces"] == "1/3" and shown(machine, "1/3")["replaced_by"] == "2/3"
    assert "with 2 as 2/2, 3 as 2/3" in machine.lq("show", "1").stdout
    # again on either runs only what is neither done nor under way
    assert "no task of 1 has failed" in machine.lq("again", "1", "--failed").stderr
    assert "no task of 2 has failed" in machine.lq("again", "2", "--failed").stderr
    assert "ran again as 2/2, which is done" in machine.lq("again", "1/2").stderr
    assert (
        "1 task of 2 runs again as 3" in machine.lq("again", "2/2", "--set", "not-before=2099-01-01T00:00:00Z").stderr
    )
    assert "runs again already, as 3/2" in machine.lq("again", "1/2").stderr
    assert shown(machine, "1")["counts_now"] == {"done": 2, "waiting": 1}
    machine.lq("cancel", "3")
    with (machine.work / "drag-10.txt").open("a") as file:
        file.write("drag 99\n")
    assert "was changed since 1/1 ended" in machine.lq("output", "1/1").stderr
    assert values(machine, "1")[0] == ("1/1", None)
    assert json.loads(machine.lq("ledger", "--verify", "--format", "json").stdout)["agree"]


def test_arguments_are_told_wherever_runs_are_told_apart(own_machine):
    (own_machine.work / "v.sh").write_text(
        '#!/bin/sh\n# /// job\n# walltime = "1m"\n# memory = "9 MiB/core"\n# ///\necho "$@"\n'
    )
    for word in ("1", "two words"):
        own_machine.lq("submit", "v.sh", "--", word)
    own_machine.lq("wait", "1", "2")
    assert (shown(own_machine, "1")["arguments"], shown(own_machine, "2")["arguments"]) == (["1"], ["two words"])
    assert "arguments  'two words'" in own_machine.lq("show", "2").stdout
    assert "the arguments 1 " in own_machine.lq("show", "1", "--methods").stdout
    assert "arguments" in own_machine.lq("compare", "1", "2", "--differences").stdout
    _, *table = own_machine.lq("report", "--period", "today").stdout.splitlines()
    assert "under 0.0001" in table[-1] and {len(line.split("  ")) >= 10 for line in table} == {True}

    def found():
        return own_machine.lq("jobs", "--ended", "--where", "argument:*two*", "--columns", "job,arguments").stdout

    until(lambda: "2  'two words'" in found() and "1  1" not in found())


def test_attempts_add_up_and_what_is_held_against_a_walltime_is_the_last_one(machine):
    job = machine.submit("sleep 1; [ $LQ_ATTEMPT = 3 ]", "retries=2", header='walltime = "30s"\nmemory = "64 MiB/core"')
    told = machine.ended(job)
    assert (told["attempt"], told["state"]) == (3, "done")
    assert told["elapsed_s"] >= 3 * told["attempt_s"] >= 3 and told["waited_s"] < 3
    assert (
        "in 3 attempts" in machine.lq("show", str(job)).stdout
        and f"walltime   {told['attempt_s']}s of 30s" in machine.lq("show", str(job)).stdout
    )
    assert machine.lq("ledger", "--verify").returncode == 0
    [row] = json.loads(machine.lq("report", "--period", "today", "--format", "json").stdout)["rows"]
    assert row["cores_median"] == 1 and row["wait_median_s"] == round(row["wait_median_s"], 3) < 3


def test_a_peak_is_never_below_that_of_a_part(machine):
    body = 'lq phase big -- python3 -c "x = bytearray(200 << 20)"'
    job = machine.submit(body, header='walltime = "1m"\nmemory = "600 MiB/core"')
    told = machine.ended(job)
    assert told["memory_peak_mib"] >= max(part["memory_peak_mib"] for part in told["phases"]) > 190
