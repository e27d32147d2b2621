"""Inside of real jobs: parts, ranks and spread tasks, recorded whatever ends them; and what gets no further is held."""

import json
import os
import shutil
import signal
import subprocess
import sys
from collections import Counter

import pytest

from tests.conftest import until

TWO = ['memory="64 MiB/core"', "threads=2", 'walltime="30s"']


@pytest.fixture
def machine(used_machine):
    """Shared: these tests leave its engine as it is."""
    return used_machine


def helper(folder, *words, **environment):
    """A helper outside of a job."""
    path = os.environ["PATH"]
    return subprocess.run(
        [sys.executable, "-m", "lazy_quarry", *words],
        capture_output=True,
        text=True,
        cwd=folder,
        env={"PATH": path, **environment},
        timeout=60,
    )


def journal(path):
    return [json.loads(line) for line in path.read_text().splitlines()]


def test_parts_of_a_job_are_measured_nested_and_told_apart(machine):
    body = """
lq phase prepare -- sh -c 'head -c 3000000 /dev/zero > z'
lq phase both -- sh -c 'lq phase one -- sleep 0.3 & lq phase other -- sh -c "exit 3"; wait'
PY -c '
import lq_inside, threading
def part():
    with lq_inside.phase("in a thread"):
        sum(range(300000))
with lq_inside.phase("python"):
    block = b"x" * 90_000_000
    with lq_inside.phase("deep"):
        thread = threading.Thread(target=part); thread.start(); thread.join()
del block
try:
    with lq_inside.phase("wrong"):
        raise ValueError
except ValueError:
    pass
'
lq phase cut -- sh -c 'touch there; kill -9 $$'
lq phase last -- sleep 60
""".replace("PY", sys.executable)
    job = machine.submit(body, 'memory="300 MiB/core"')
    until(lambda: [one["name"] for one in machine.show(job).get("phases", [])][-1:] == ["last"], "the last part")
    live = machine.show(job)["phases"][-1]
    assert not live["over"] and live["exit"] is None
    assert "last: under way" in machine.lq("show", str(job)).stdout
    machine.lq("cancel", str(job))
    ended = machine.ended(job)
    parts = {one["name"]: one for one in ended["phases"]}
    order = [name for name in parts if name not in ("one", "other")]  # which are beside one another
    assert order == ["prepare", "both", "python", "deep", "in a thread", "wrong", "cut", "last"]
    assert parts["prepare"]["exit"] == 0 and parts["prepare"]["written_bytes"] >= 3_000_000
    assert parts["one"]["above"] == parts["other"]["above"] == "both" and parts["one"]["seconds"] >= 0.3
    assert parts["other"]["exit"] == 3 and parts["both"]["exit"] == 0 and parts["wrong"]["exit"] == 1
    assert parts["deep"]["above"] == "python" and parts["python"]["memory_peak_mib"] >= 85
    assert (
        parts["in a thread"]["above"] == "deep" and parts["wrong"]["memory_peak_mib"] < 85
    )  # the peak is the part's own
    assert parts["cut"]["signal"] == "SIGKILL" and parts["last"]["signal"] == "SIGTERM"
    told = machine.lq("show", str(job)).stdout
    assert "phase other: exit 3" in told and ", in both" in told and "phase last: SIGTERM" in told


def test_2000_tasks_end_once_each_over_three_attempts_stopped_at_their_walltime_and_killed(machine):
    task = """[ {n} -le 700 ] || [ "$LQ_ATTEMPT" -ge 2 ] && [ {n} -le 1400 ] || [ "$LQ_ATTEMPT" -ge 3 ] || sleep 60"""
    body = f"lq spread --with n='range 1..2000' -- sh -c '{task}'"
    again = ['at-overtime="again"', 'grace="2s"', 'retries={ times = 3, on = ["failed"] }']
    job = machine.submit(body, *TWO, 'walltime="8s"', *again)
    path = machine.work / f"job-{job}.spread.jsonl"

    def killed():
        if machine.show(job)["attempt"] != 2 or machine.show(job).get("spread", {"done": 0})["done"] < 1390:
            return machine.show(job)["attempt"] > 2 or bool(machine.show(job)["ended"])
        for name in os.listdir("/proc"):
            if name.isdecimal():
                try:
                    words = open(f"/proc/{name}/cmdline", "rb").read().split(b"\0")
                    environment = open(f"/proc/{name}/environ", "rb").read()
                except OSError:
                    continue
                if b"spread" in words and str(machine.state).encode() in environment:
                    os.kill(int(name), signal.SIGKILL)
        return False

    until(killed, "the second attempt to be killed")
    found = machine.ended(job)
    assert (found["state"], found["attempt"]) == ("done", 3)
    assert found["spread"] == {"tasks": 2000, "done": 2000, "failed": 0, "stopped": 0, "under_way": 0, "waiting": 0}
    lines = journal(path)
    done = Counter(one["task"] for one in lines if one["outcome"] == "done")
    assert set(done) == set(range(1, 2001)) and set(done.values()) == {1}
    assert {one["attempt"] for one in lines if one["outcome"] == "done"} == {1, 2, 3}
    assert {one["outcome"] for one in lines} <= {"done", "stopped", "failed"} and "by earlier attempts" in machine.lq(
        "output", str(job)
    ).stdout
    assert set(lines[0]) >= {
        "task",
        "parameters",
        "attempt",
        "outcome",
        "exit",
        "signal",
        "seconds",
        "cpu_s",
        "memory_peak_mib",
        "node",
    }


def test_a_job_that_gets_no_further_three_times_in_a_row_is_held(machine):
    job = machine.submit("lq phase stuck -- sleep 60", 'walltime="1s"', 'grace="0s"', 'at-overtime="again"')
    until(lambda: machine.state_of(job) == "held", "the job to be held")
    told = machine.show(job)
    assert told["attempt"] == 3 and "3 attempts in a row got no further" in told["why"]
    machine.lq("cancel", str(job))
    # one that tells where it begins gets further each time
    body = 'step=$(cat step || echo 0); lq phase "from $step" -- true; echo $((step + 1)) > step; [ $step -ge 4 ] || sleep 60'
    job = machine.submit(body, 'walltime="1s"', 'grace="0s"', 'at-overtime="again"')
    assert machine.ended(job)["attempt"] == 5


def test_ranks_have_their_cores_and_end_together(machine):
    body = """lq ranks -- sh -c 'echo "$LQ_RANK of $LQ_RANKS"; nproc'
lq ranks --output 'r-{rank}.txt' -- sh -c 'echo $LQ_RANK'
lq ranks --keep-going -- sh -c '[ $LQ_RANK = 0 ] && exit 5; sleep 0.3; echo went on' || echo "code $?"
lq ranks -- sh -c '[ $LQ_RANK = 1 ] && exit 7; sleep 60' || echo "code $?"
lq ranks -- no-such-program || echo "code $?"
"""
    found = machine.ended(machine.submit(body, "ranks=2", 'memory="64 MiB/core"'))
    assert found["state"] == "done" and found["elapsed_s"] < 30
    lines = machine.lq("output", str(found["job"])).stdout.splitlines()
    assert {"[0] 0 of 2", "[1] 1 of 2", "[0] 1", "[1] 1", "[1] went on", "code 5", "code 7", "code 2"} <= set(lines)
    assert [(machine.work / f"r-{rank}.txt").read_text() for rank in (0, 1)] == ["0\n", "1\n"]
    assert [one["name"] for one in found["ranks"][:2]] == ["rank 0", "rank 1"] and 7 in [
        one["exit"] for one in found["ranks"]
    ]
    assert any("the other 1 were ended with it" in line for line in lines) and any(
        "can't be started" in line for line in lines
    )


MPI = r"""#include <mpi.h>
#include <stdio.h>
int main(int argc, char **argv) {
    int rank, size;
    MPI_Init(&argc, &argv);
    MPI_Comm_rank(MPI_COMM_WORLD, &rank);
    MPI_Comm_size(MPI_COMM_WORLD, &size);
    int sum = 0, one = rank + 1;
    MPI_Allreduce(&one, &sum, 1, MPI_INT, MPI_SUM, MPI_COMM_WORLD);
    printf("rank %d of %d, sum %d\n", rank, size, sum);
    MPI_Finalize();
    return 0;
}
"""


@pytest.mark.skipif(not shutil.which("mpicc") or not shutil.which("mpirun"), reason="no MPI here")
def test_an_mpi_starter_finds_hosts_and_ranks(machine):
    (machine.work / "hello.c").write_text(MPI)
    subprocess.run(["mpicc", "-o", "hello", "hello.c"], cwd=machine.work, check=True, timeout=120)
    root = "export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1\n" if os.getuid() == 0 else ""
    body = f'{root}lq phase solve -- mpirun --hostfile "$LQ_NODES" ./hello'
    found = machine.ended(machine.submit(body, "ranks=2", 'memory="300 MiB/core"', 'walltime="1m"'))
    told = machine.lq("output", str(found["job"])).stdout
    assert found["state"] == "done", told
    assert {"rank 0 of 2, sum 3", "rank 1 of 2, sum 3"} <= set(told.splitlines())
    assert found["phases"][0]["name"] == "solve" and found["phases"][0]["exit"] == 0


def test_outside_of_a_job_helpers_do_the_same_and_record_nothing(tmp_path):
    assert helper(tmp_path, "phase", "x", "--", "sh", "-c", "exit 4").returncode == 4
    assert helper(tmp_path, "phase", "x", "--", "sh", "-c", "kill -15 $$").returncode == 143
    assert helper(tmp_path, "phase", "x", "--", "gone").returncode == 127
    assert helper(tmp_path, "ranks", "--", "sh", "-c", "echo $LQ_RANK").stdout == "[0] 0\n"
    spread = ("spread", "--with", "n=1,2,3", "--journal", "j.jsonl")
    done = helper(tmp_path, *spread, "--", "sh", "-c", "test {n} != 2")
    assert (
        done.returncode == 1 and "task 2 failed, exit 1: n=2" in done.stderr and "2 of 3 done, 1 failed" in done.stderr
    )
    again = helper(tmp_path, *spread, "--", "sh", "-c", "test {n} != 2")
    assert again.returncode == 1 and sorted(one["task"] for one in journal(tmp_path / "j.jsonl")) == [1, 2, 2, 3]
    other = helper(tmp_path, *spread, "--", "sh", "-c", "true {n}")  # another command: nothing of that is done yet
    assert other.returncode == 0 and len(journal(tmp_path / "j.jsonl")) == 7
    stopped = helper(
        tmp_path,
        "spread",
        "--with",
        "n=range 1..50",
        "--at-once",
        "1",
        "--stop-at-failure",
        "--journal",
        "s",
        "--",
        "false",
    )
    assert stopped.returncode == 1 and len(journal(tmp_path / "s")) == 1 and "49 left" in stopped.stderr
    gone = helper(tmp_path, "spread", "--with", "n=1", "--journal", "k", "--", "no-such")
    assert gone.returncode == 2 and "no-such can't be started" in gone.stderr
    piped = subprocess.run(
        [sys.executable, "-m", "lazy_quarry", "spread", "--lines", "-", "--journal", "p", "--", "sh", "-c", "{line}"],
        input="echo a > a.txt\n\necho b > b.txt\n", text=True, cwd=tmp_path, timeout=60,
    )  # fmt: skip
    assert piped.returncode == 0 and (tmp_path / "b.txt").read_text() == "b\n"


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["phase", "x", "true"], "write lq phase NAME"),
        (["phase", "a\nb", "--", "true"], "printable"),
        (["phase", "--", "true"], "write lq phase"),
        (["ranks", "x", "--", "true"], "write lq ranks"),
        (["ranks", "--output", "x", "--wrong", "--", "true"], "no option --wrong"),
        (["spread", "--"], "write lq spread"),
        (["spread", "--with", "--", "true"], "wants a value"),
        (["spread", "--with=n=1", "--cores=0", "--", "true"], "number from 1"),
        (["spread", "--with=n=1", "--cores=5000", "--", "true"], "5000 cores"),
        (["spread", "--with=n=1", "--journal=/proc/no/j", "--", "true"], "cannot be written"),
        (["spread", "--table=a", "--table=b", "--", "true"], "given twice"),
    ],
)
def test_a_helper_reports_what_it_cannot_do_in_a_line(tmp_path, words, told):
    found = helper(tmp_path, *words)
    assert found.returncode == 2 and told in found.stderr and found.stderr.count("\n") == 1


def test_helpers_are_light_and_the_command_line_lists_their_options(tmp_path):
    code = (
        "import sys; from lazy_quarry.inside.main import main; code = main(['phase', 'x', '--', 'true']);"
        "bad = [one for one in sys.modules if one.split('.')[:2] in (['lazy_quarry', 'core'], ['lazy_quarry', 'cli'])"
        " or one in ('click', 'msgspec', 'typing', 'threading')]; print(code, bad)"
    )
    run = subprocess.run(
        [sys.executable, "-I", "-S", "-c", f"import sys; sys.path.insert(0, 'src'); {code}"],
        capture_output=True,
        text=True,
    )
    assert run.stdout == "0 []\n", run
    from lazy_quarry.cli.commands.inside import phase_command, ranks_command, spread_command
    from lazy_quarry.inside.main import OPTIONS

    for name, command in zip(OPTIONS, (phase_command, ranks_command, spread_command), strict=True):
        listed = {option for one in command.params for option in one.opts if option.startswith("--")}
        assert listed == set(OPTIONS[name])
        assert helper(tmp_path, name, "--help").returncode == 0
