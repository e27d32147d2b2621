"""Searching all that ever ran, from the command line, on this machine."""

import csv
import io
import json
import sqlite3

import pytest

from tests.conftest import script

HEAD = 'walltime = "1m"\nmemory = "32 MiB/core"'
SWEEP = f'name = "sweep"\n{HEAD}\n[array.sweep]\ngrid = ["coarse", "fine"]\nbeta = [1, 2]'


@pytest.fixture
def ran(machine):
    """A job that was done, one that failed, and an array half of whose tasks failed; the answer to a search of them."""
    for name, header, body in (
        ("good", f'name = "surge-north"\n{HEAD}', "echo all is well"),
        ("bad", f'name = "surge-south"\n{HEAD}', "echo no convergence after 12 steps; exit 3"),
        ("sweep", SWEEP, 'echo "residual $grid"; test "$grid" = coarse'),
    ):
        (machine.work / f"{name}.sh").write_text(script(header, body))
        assert machine.lq("submit", f"{name}.sh").returncode == 0
    assert machine.lq("wait", "1", "2", "3").returncode == 1

    def found(where, *more):
        done = machine.lq("jobs", "--ended", "--where", where, "--format", "json", *more)
        assert done.returncode == 0, done.stderr
        return [(job["job"], job["task"]) for job in json.loads(done.stdout)]

    return found


def test_any_past_run_is_found_by_its_facts_and_its_output(machine, ran):
    assert ran("name:surge*", "--sort", "name") == [(1, None), (2, None)]
    assert ran("name:surge* state:failed since:2h") == [(2, None)]
    assert ran('text:"no convergence"') == [(2, None)] and ran("converg*") == [(2, None)]
    assert ran("-state:done exit:3") == [(2, None)] and ran("exit:0 took:..1m -sweep") == [(1, None)]
    assert ran("sweep") == [(3, None)] and ran("residual fine") == [(3, None)]  # a failed task printed it
    assert ran("parameter:grid=fine", "--sort", "task") == [(3, 3), (3, 4)] and ran("task:any state:done exit:0") != []
    assert ran("user:nobody") == [] and ran("until:yesterday") == []
    done = machine.lq(
        "jobs", "--ended", "--where", "task:any", "--format", "csv", "--columns", "job,task,state,parameters"
    )
    rows = list(csv.DictReader(io.StringIO(done.stdout)))
    assert len(rows) == 4 and {"grid=fine beta=1", "grid=coarse beta=2"} <= {row["parameters"] for row in rows}
    table = machine.lq(
        "jobs", "--ended", "--where", "surge", "--columns", "job,exit,peak,verdict", "--format", "table"
    ).stdout
    assert "Failed after under 1s with exit 3." in table
    for words, told in ((("--where", "memry:1"), "memory"), (("--where", "x", "--sort", "colour"), "sorted")):
        done = machine.lq("jobs", "--ended", *words)
        assert done.returncode == 2 and told in done.stderr


def test_searches_are_saved_under_a_name(machine, ran):
    assert machine.lq("jobs", "--ended", "--where", "state:failed", "--save", "failed ones").returncode == 0
    done = machine.lq("jobs", "--ended", "--saved", "failed ones", "--where", "exit:3", "--format", "json")
    assert [job["job"] for job in json.loads(done.stdout)] == [2]
    done = machine.lq("jobs", "--ended", "--saved", "failing ones")
    assert done.returncode == 2 and 'did you mean "failed ones"' in done.stderr


def test_the_index_may_be_removed_or_damaged_at_any_time(machine, ran):
    assert ran("surge") != []
    index = machine.state / "search.db"
    assert index.stat().st_mode & 0o077 == 0
    with sqlite3.connect(index) as sql:
        sql.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    index.write_bytes(index.read_bytes()[:8192] + b"\xff" * 50_000)
    for _ in range(3):
        done = machine.lq("jobs", "--ended", "--where", "name:surge*", "--format", "json")
        if done.returncode == 0 and len(json.loads(done.stdout)) == 2:
            break
    assert len(json.loads(done.stdout)) == 2
