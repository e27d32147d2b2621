"""Runs side by side, over real runs on this machine: values, differences, causes, files, what is kept."""

import csv
import io
import json
import zipfile

import pytest

from tests.conftest import script

HEAD = 'walltime = "1m"\nmemory = "64 MiB/core"'
SWEEP = f'name = "fit"\n{HEAD}\n[array.sweep]\ngrid = ["coarse", "fine"]\nbeta = [1, 2, 4, 8]'
BODY = """echo "start of $beta"
printf 'residual %s at step 1\\nresidual 0.0%s at step 2\\n' "$beta" "$beta"
if [ "$grid" = fine ]; then echo "error: no convergence after $beta steps" >&2; exit 3; fi
sleep 0.1
"""


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


@pytest.fixture
def fitted(machine):
    """A sweep of eight tasks, half of which fail alike; it is job 1."""
    (machine.work / "fit.sh").write_text(script(SWEEP, BODY))
    assert machine.lq("submit", "fit.sh").returncode == 0
    assert machine.lq("wait", "1").returncode == 1
    return machine


def test_a_value_is_found_in_the_output_of_each_task_and_drawn_against_its_parameters(fitted):
    done = fitted.lq(
        "compare", "1", "--find", "residual", "--format", "json", "--svg", "curve.svg", "--csv", "rows.csv"
    )
    rows = json.loads(done.stdout)
    assert {"job", "task", "parameters", "state", "seconds", "cpu_s", "memory_peak_mib", "value"} <= set(rows[0])
    assert [row["value"] for row in rows] == [0.01, 0.02, 0.04, 0.08] * 2  # the last one that was printed
    assert [bool(row["error"]) for row in rows] == [False] * 4 + [True] * 4
    table = list(csv.DictReader(io.StringIO((fitted.work / "rows.csv").read_text())))
    assert table[0]["grid"] == "coarse" and table[7]["beta"] == "8" and float(table[7]["value"]) == 0.08
    assert "residual against beta" in (fitted.work / "curve.svg").read_text()
    text = fitted.lq("compare", "1/1..2", "--find", r"start of (\d+)").stdout
    assert "1/2  grid=coarse, beta=2  ◆ done" in text and "start of (\\d+)" in text
    for words, told in (
        (("--find", "(oops"), "no pattern"),
        (("--svg", "x.svg"), "give a pattern"),
        (("--errors", "--format", "xml"), "there are"),
    ):
        done = fitted.lq("compare", "1", *words)
        assert done.returncode == 2 and told in done.stderr


def test_tasks_that_failed_alike_are_told_together_with_what_they_share(fitted):
    told = json.loads(fitted.lq("show", "1", "--format", "json").stdout)
    (cause,) = told["causes"]
    assert (cause["count"], cause["of"], cause["shared"], cause["every"]) == (4, 8, {"grid": ["fine"]}, True)
    assert "4 of 8: exit 3, “error: no convergence after 1 steps”, all with grid=fine" in fitted.lq("show", "1").stdout


def test_the_differences_between_two_runs_are_listed(own_machine):
    (own_machine.work / "in.dat").write_text("1")
    for text, more in (
        ("cat in.dat; echo first", ()),
        ("cat in.dat; echo second; exit 4", ("--set", "memory=32 MiB/core")),
    ):
        (own_machine.work / "run.sh").write_text(script(f'name = "run"\noutput = "{len(text)}.out"\n{HEAD}', text))
        assert own_machine.lq("submit", "run.sh", *more).returncode == 0
        own_machine.lq("wait", str(1 + bool(more)))
        (own_machine.work / "in.dat").write_text("22")
    found = {
        one["what"]: one
        for one in json.loads(own_machine.lq("compare", "1", "2", "--differences", "--format", "json").stdout)
    }
    assert (
        found["script"]["values"][0] == "as the first"
        and "+cat in.dat; echo second; exit 4" in found["script"]["lines"]
    )
    assert found["memory asked"]["values"] == ["64 MiB", "32 MiB"] and found["set"]["values"][1] == "memory=32 MiB/core"
    assert [value[:3] for value in found["input in.dat"]["values"]] == ["1 B", "2 B"]
    assert found["outcome"]["values"] == ["◆ done", "✕ exit 4"] and "queue" not in found
    assert "differs" in own_machine.lq("compare", "1", "2").stdout


def test_the_files_that_a_job_made_are_told_and_removed_when_asked(own_machine):
    (own_machine.work / "old.txt").write_text("earlier")
    (own_machine.work / "deep").mkdir()
    body = "sleep 0.05; echo a > deep/new.txt; : > empty.dat; echo '{' > half.json; sleep 0.1"
    (own_machine.work / "run.sh").write_text(script(f'name = "maker"\n{HEAD}', body))
    own_machine.lq("submit", "run.sh")
    own_machine.lq("wait", "1")
    (own_machine.work / "later.txt").write_text("x")
    found = {
        one["path"]: one
        for one in json.loads(own_machine.lq("show", "1", "--files", "--format", "json").stdout)["made"]
    }
    assert {"deep/new.txt", "empty.dat", "half.json", "maker-1.out"} <= set(found) and "old.txt" not in found
    assert found["empty.dat"]["problem"] == "empty" and "no JSON" in found["half.json"]["problem"]
    assert "empty.dat" in own_machine.lq("show", "1", "--files").stdout
    assert own_machine.lq("show", "1", "--files", "--remove", "*.dat").returncode == 2  # nobody was asked
    done = own_machine.lq("show", "1", "--files", "--remove", "*.dat", "--yes")
    assert "1 file removed" in done.stdout and not (own_machine.work / "empty.dat").exists()
    assert (own_machine.work / "old.txt").exists() and (own_machine.work / "deep/new.txt").exists()
    assert "no file" in own_machine.lq("show", "1", "--files", "--remove", "old.txt", "--yes").stderr


def test_the_evidence_of_a_job_is_written_for_a_paper_and_packed_for_help(own_machine):
    (own_machine.work / "run.sh").write_text(
        script(f'name = "maker"\n{HEAD}', "echo hello; echo 'error: broken' >&2; exit 3")
    )
    own_machine.lq("submit", "run.sh")
    own_machine.lq("wait", "1")
    told = own_machine.lq("show", "1", "--methods").stdout
    assert "maker" in told and "kernel" in told and "| walltime asked" in told.replace("  ", " ") and "sha256" in told
    done = own_machine.lq("show", "1", "--bundle", "help.zip")
    assert done.returncode == 0 and "help.zip" in done.stdout, done.stderr
    with zipfile.ZipFile(own_machine.work / "help.zip") as packed:
        crate = json.loads(packed.read("ro-crate-metadata.json"))
        assert packed.read("script.sh").decode().endswith("exit 3\n") and b"error: broken" in packed.read("output.txt")
        assert "exit 3" in packed.read("README.txt").decode() and packed.testzip() is None
        names = set(packed.namelist())
    parts = {one["@id"] for one in crate["@graph"]}
    root = next(one for one in crate["@graph"] if one["@id"] == "./")
    assert {part["@id"] for part in root["hasPart"]} == names - {"ro-crate-metadata.json"} <= parts
    assert own_machine.lq("show", "1", "--bundle", "nowhere/help.zip").returncode == 2
