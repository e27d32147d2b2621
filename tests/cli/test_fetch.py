"""Fetching a job's files: whole, checked, never over something else, and on from where it was cut off."""

import os
import subprocess
import sys

import pytest

from tests.conftest import until


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def submitted(machine):
    return machine.submit(
        "mkdir -p out/deep; printf one > out/a.nc; head -c 2500000 /dev/zero > out/deep/b.nc; ln -s a.nc out/l; : > out/empty"
    )


def test_files_come_whole_are_left_where_they_are_and_never_go_over_something_else(machine):
    job = submitted(machine)
    machine.ended(job)
    odd = os.fsencode(machine.work) + b"/out/odd\n\xff.nc"
    with open(odd, "wb") as file:
        file.write(b"odd")
    done = machine.lq("fetch", str(job), "out", "--to", "d")
    assert done.returncode == 0 and done.stdout.startswith("4 files fetched, 2.4 MiB"), done
    folder = machine.work / "d" / "out"
    assert (folder / "deep" / "b.nc").read_bytes() == b"\0" * 2_500_000 and os.readlink(folder / "l") == "a.nc"
    with open(os.fsencode(folder) + b"/odd\n\xff.nc", "rb") as file:
        assert file.read() == b"odd"
    assert "4 files already there" in machine.lq("fetch", str(job), "out", "--to", "d").stdout
    (folder / "a.nc").write_text("mine")
    differs = machine.lq("fetch", str(job), "out/*.nc", "--to", "d")
    assert differs.returncode == 2 and "a.nc is there and differs; --replace" in differs.stderr
    assert (folder / "a.nc").read_text() == "mine"
    assert machine.lq("fetch", str(job), "out/*.nc", "--to", "d", "--replace").returncode == 0
    assert (folder / "a.nc").read_text() == "one"
    assert not list(folder.rglob("*.fetched-part"))


def test_a_fetch_goes_on_from_what_came_and_says_what_is_not_there(machine):
    job = submitted(machine)
    machine.ended(job)
    part = machine.work / "d" / "out" / "deep" / "b.nc.fetched-part"
    part.parent.mkdir(parents=True)
    part.write_bytes(b"\0" * (1 << 20) + b"x" * 10)  # a whole piece, and a torn one
    assert machine.lq("fetch", str(job), "out/deep/*", "--to", "d").returncode == 0
    assert part.with_suffix("").read_bytes() == b"\0" * 2_500_000 and not part.exists()
    part.write_bytes(b"y" * (1 << 20))  # of something else
    part.with_suffix("").unlink()
    torn = machine.lq("fetch", str(job), "out/deep/*", "--to", "d")
    assert torn.returncode == 2 and "fetch it again" in torn.stderr and not part.exists()
    for words, said in (
        ("nix*", "no file of the job meets it"),
        ("../x", "leads out of the folder"),
        ("/etc/passwd", "leads out"),
    ):
        done = machine.lq("fetch", str(job), words)
        assert done.returncode == 2 and said in done.stderr, done
    assert "which files?" in machine.lq("fetch", str(job)).stderr


def test_a_file_that_grows_is_followed_until_its_job_ends(machine):
    job = machine.submit(
        "for i in 1 2 3; do echo line $i; until [ -e go$i ]; do sleep 0.02; done; done; echo end", "output=grows.log"
    )
    output = machine.work / "d" / "grows.log"
    words = [sys.executable, "-m", "lazy_quarry", "fetch", str(job), "--follow", "--to", "d"]
    with subprocess.Popen(words, cwd=machine.work, env=machine.environment) as following:
        for number in (1, 2, 3):
            until(lambda number=number: output.exists() and f"line {number}" in output.read_text())
            (machine.work / f"go{number}").touch()
        assert following.wait(60) == 0
    assert output.read_text() == "line 1\nline 2\nline 3\nend\n"
    output.write_text("line 1\nline 2\n")  # as a cut left it
    assert machine.lq("fetch", str(job), "--follow", "--to", "d").returncode == 0
    assert output.read_text().endswith("end\n")
    output.write_text("mine")
    differs = machine.lq("fetch", str(job), "--follow", "--to", "d")
    assert differs.returncode == 2 and "is there and differs" in differs.stderr
    assert output.read_text() == "mine"
