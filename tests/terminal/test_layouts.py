"""From an empty Draft, by keys alone, to each of the six layouts of 24 cores; and a shell on real cores."""

import json
import re

import pytest

from tests.conftest import until
from tests.terminal.test_whole_path import pytestmark, terminal  # noqa: F401

LAYOUTS = {
    # the keys typed into the dials nodes, ranks, threads, whole nodes; then ranks and their threads on each node
    "24 single ranks anywhere": (("any", "24", "", ""), lambda rows: sum(len(row) for row in rows) == 24),
    "24 ranks on one node": (("1", "24", "", ""), lambda rows: [len(row) for row in rows] == [24]),
    "3 on each of 8 nodes": (("8", "3/node", "", ""), lambda rows: [len(row) for row in rows] == [3] * 8),
    "one rank of 24 threads": (("", "1", "24", ""), lambda rows: rows == ["0" * 24]),
    "6 ranks of 4 threads": (("1", "6", "4", ""), lambda rows: rows == ["000011112222333344445555"]),
    "8 whole nodes": (("8", "3/node", "", "yes"), lambda rows: [row.rstrip("-") for row in rows] == ["012", "345", "678", "9ab", "cde", "fgh", "ijk", "lmn"]),
}  # fmt: skip
WRITTEN = {
    "24 single ranks anywhere": ('nodes    = "any"', "ranks    = 24"),
    "24 ranks on one node": ("nodes    = 1", "ranks    = 24"),
    "3 on each of 8 nodes": ("nodes    = 8", "ranks-per-node = 3"),
    "one rank of 24 threads": ("ranks    = 1", "threads  = 24"),
    "6 ranks of 4 threads": ("nodes    = 1", "ranks    = 6", "threads  = 4"),
    "8 whole nodes": ("nodes    = 8", "ranks-per-node = 3", "whole-nodes = true"),
}


def picture(screen):
    """The rows of the placement: the signs of its own ranks, node by node."""
    rows = []
    for line in screen.splitlines():
        match = re.search(r"│ {3}([cmg]\d\d) ([▪·0-9a-zA-Z-]{32,64}) ", line)
        if match:
            rows.append(re.sub(r"[▪·]", "", match[2]))
    return rows


@pytest.mark.parametrize("layout", LAYOUTS)
def test_each_layout_of_24_cores_is_dialled_and_placed_as_its_picture_says(terminal, layout):  # noqa: F811
    typed, placed = LAYOUTS[layout]
    screen = terminal("demo --paused --past 3")
    screen.sees("TIDAL", "ROOM NOW")
    screen.keys("2")
    screen.sees("BEGIN FROM A SHAPE", "enter takes this")
    screen.keys("Enter")
    screen.sees("REQUEST", "PLACEMENT", "rank 0")
    screen.keys("F6")
    screen.sees("←→ turn")
    screen.keys("Down", "Down", "Down", "Down", "Down")
    for words, down in zip(typed, (1, 1, 2, 0), strict=True):
        if words:
            screen.type(words)
            screen.sees(f"{words}▏")
            screen.keys("Enter")
            screen.sees("←→ turn")
        for _ in range(down):
            screen.keys("Down")
    shown = screen.sees(*WRITTEN[layout])
    shown = until(lambda: (now := screen.screen()) and placed(picture(now)) and now, f"{layout}\n{shown}")
    assert "must change" not in shown


def test_a_shell_is_a_job_on_its_own_cores_and_what_worked_is_kept(terminal, machine):  # noqa: F811
    screen = terminal("shell --cores 1 --walltime 5m")
    screen.sees("job 1 on", "exit ends it")
    screen.type("echo $LQ_JOB-$((6 * 7))")
    screen.keys("Enter")
    screen.sees("1-42")
    screen.type("no-such-program; nproc")
    screen.keys("Enter")
    screen.type("false")
    screen.keys("Enter")
    screen.type("exit 0")
    screen.keys("Enter")
    screen.sees("core-hours charged", "the end 0")
    found = machine.ended(1)
    assert (found["state"], found["cores"], found["name"]) == ("done", 1, "shell")
    assert found["charge_core_hours"] > 0
    worked = json.loads((machine.state / "shell-commands.json").read_text())
    assert worked[0] == "echo $LQ_JOB-$((6 * 7))" and "false" not in worked


def test_a_shell_is_warned_and_ended_at_its_walltime(terminal, machine):  # noqa: F811
    screen = terminal("shell --walltime 10s")
    screen.sees("job 1 on", "exit ends it")
    screen.sees("left before this shell ends")
    screen.sees("this shell ends now", "Stopped at its walltime", "the end 0")
    assert machine.ended(1)["state"] == "overtime"


def test_a_shell_ends_with_its_terminal(terminal, machine):  # noqa: F811
    screen = terminal("shell --walltime 5m")
    screen.sees("job 1 on", "exit ends it")
    screen.close()
    assert machine.ended(1)["state"] in ("done", "failed")


def test_draft_hands_the_terminal_over_to_a_shell_and_takes_it_back(terminal, machine):  # noqa: F811
    screen = terminal("")
    screen.sees("ROOM NOW")
    screen.keys("2")
    screen.sees("BEGIN FROM A SHAPE")
    screen.keys("F4")
    screen.sees("job 1 on", "exit ends it")
    screen.type("hostname > from-shell.txt; exit 0")
    screen.keys("Enter")
    screen.sees("enter goes back")
    screen.keys("Enter")
    screen.sees("BEGIN FROM A SHAPE")
    assert (machine.work / "from-shell.txt").read_text().strip()
