"""Whole paths in a real terminal: tmux types, and what stands on the screen is read."""

import os
import random
import re
import shlex
import shutil
import subprocess
import sys
import time
import uuid
from pathlib import Path

import pytest

from tests.conftest import PATIENCE_S, SEEDS, script, until

pytestmark = pytest.mark.skipif(shutil.which("tmux") is None, reason="tmux is not installed")


class Terminal:
    """A tmux session of its own, 160×47 unless said otherwise."""

    def __init__(
        self, command: str, environment: dict[str, str], folder: Path, size: tuple[int, int] = (160, 47)
    ) -> None:
        self.name = f"lq-{uuid.uuid4().hex[:8]}"
        exports = " ".join(f"{name}={shlex.quote(value)}" for name, value in environment.items())
        self.tmux(
            "new-session", "-d", "-s", self.name, "-x", str(size[0]), "-y", str(size[1]), "-c", str(folder),
            f"env -u COLUMNS -u LINES {exports} {command}; echo 'the end' $?; sleep 600",
        )  # fmt: skip

    def tmux(self, *words: str) -> str:
        done = subprocess.run(["tmux", "-L", self.name, *words], capture_output=True, text=True, timeout=20)
        return done.stdout

    def keys(self, *keys: str) -> None:
        """Type keys, by tmux's names."""
        for key in keys:
            self.tmux("send-keys", "-t", self.name, key)

    def type(self, text: str) -> None:
        """Type text as it is."""
        self.tmux("send-keys", "-t", self.name, "-l", text)

    def screen(self) -> str:
        """The text on the screen."""
        return self.tmux("capture-pane", "-p", "-t", self.name)

    def resize(self, width: int, height: int) -> None:
        """Another size, as when a window is pulled."""
        self.tmux("resize-window", "-t", self.name, "-x", str(width), "-y", str(height))

    def sees(self, *words: str) -> str:
        """Wait until all these words stand on the screen."""
        end = time.monotonic() + PATIENCE_S
        screen = ""
        while time.monotonic() < end:
            screen = self.screen()
            if all(word in screen for word in words):
                return screen
            time.sleep(0.05)
        missing = [word for word in words if word not in screen]
        raise AssertionError(f"never seen: {missing}\n{screen}")

    def close(self) -> None:
        """End the session."""
        self.tmux("kill-server")


@pytest.fixture
def terminal(machine):
    opened = []

    def open_(words: str, size: tuple[int, int] = (160, 47), variables: dict[str, str] | None = None) -> Terminal:
        wanted = ("LQ_STATE", "LQ_LOCKS", "LQ_LINGER", "PATH", "HOME")
        environment = {name: machine.environment[name] for name in wanted if name in machine.environment}
        environment |= {"TERM": "tmux-256color", "LANG": "C.UTF-8", "HOME": str(machine.work), **(variables or {})}
        made = Terminal(f"{sys.executable} -m lazy_quarry {words}", environment, machine.work, size)
        opened.append(made)
        return made

    yield open_
    for each in opened:
        each.close()


def test_the_whole_path_on_the_demo_site(terminal):
    screen = terminal("demo --speed 60")
    screen.sees("lazy quarry  oxbow", "TIDAL", "of 1,152 cores", "MAY USE")
    screen.keys("2")
    screen.sees("BEGIN FROM A SHAPE", "surge-north.sh")
    screen.keys("Down", "Enter")
    screen.sees('# name     = "threads"', "PLACEMENT", "00000000", "nothing to say")
    screen.keys("C-g")
    seen = screen.sees("Submitted as")
    number = seen.split("Submitted as ")[1].split(";")[0]
    screen.keys("M-4")
    screen.sees(f"{number}  threads", "▰")
    screen.keys("+", "+", "+")
    screen.sees("×3600")
    screen.sees("threads", "◆ done in")
    screen.keys("Enter")
    screen.sees(f"THREADS {number}", "Done in", "REQUESTED AND USED", "finished")
    screen.keys("6")
    screen.sees("ACCOUNTS", "tide-surge", "ends ")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_a_chain_is_drawn_on_played_and_saved_on_the_demo_site(terminal):
    screen = terminal("demo --paused --past 3")
    screen.sees("lazy quarry  oxbow", "TIDAL")
    screen.keys("3")
    screen.sees("ctrl+o opens a chain file")
    screen.keys("C-o")
    screen.sees("season.toml")
    screen.keys("Enter")
    screen.sees("season, rehearsed", "all done about")
    screen.keys("Down", "Down", "a")
    screen.sees("a new job, after gather")
    screen.type("look true")
    screen.keys("Enter")
    screen.sees("edited, not saved", "look was added", "6 jobs")
    screen.keys("End", "l", "Home")
    screen.sees("A line from look")
    screen.keys("l")
    screen.sees("Not changed: these wait for one another")
    screen.keys("p")
    screen.sees("season, played: it is", "done", "running")
    screen.keys("p", "C-s", "Enter")
    screen.sees("Saved to")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_phases_and_spread_tasks_are_watched_and_reviewed_on_this_machine(machine, terminal):
    job = machine.submit(
        "lq phase first -- true\nlq phase many -- lq spread --with n='range 1..90' -- sh -c 'until [ -e go ]; do sleep 0.1; done'",
        "threads=2",
    )
    screen = terminal("")
    screen.sees("HERE", "ROOM NOW")
    screen.keys("4")
    screen.sees("PHASES", "first", "many", "SPREAD", "0 of 90 done, 2 under way")
    (machine.work / "go").touch()
    screen.sees("◆ done in")
    screen.keys("Enter")
    screen.sees(f"JOB {job}", "PHASES", "SPREAD", "90 of 90 done", "phase many: exit 0")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_a_chain_is_opened_rehearsed_submitted_and_watched_on_the_demo_site(terminal):
    screen = terminal("demo --paused --past 3")
    screen.sees("TIDAL")
    screen.keys("3")
    screen.sees("ctrl+o opens a chain file")
    screen.keys("C-o", "Enter")
    screen.sees("season, rehearsed as the queue is now", "levels", "40 tasks", "critical", "all done about")
    screen.keys("C-g")
    screen.sees("Submitted as chain 1: 5 jobs", "chain 1 season", "running")
    screen.keys("+", "+", "+", "+", "+", "+")
    screen.sees("report", "done", "5 jobs   done")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_hold_release_and_cancel_on_the_demo_site(terminal):
    screen = terminal("demo --paused --past 3")
    screen.sees("TIDAL")
    screen.keys("4")
    screen.sees("sediment-big", "starts")
    screen.keys("/")
    screen.type("sediment")
    screen.keys("Enter")
    screen.sees("waits for 8 nodes of tidal with 32 free cores and 96 GiB each")
    screen.keys("h")
    screen.sees("held by tove")
    screen.keys("r")
    screen.sees("waits for 8 nodes")
    screen.keys("x")
    screen.sees("loses its turn")
    screen.keys("y")
    screen.sees("⊘")
    screen.keys("Escape")
    screen.sees("eel-season")
    screen.keys("Home", "x")
    screen.sees("would be lost", "Leave as it is")
    screen.keys("Enter")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_a_waiting_job_is_understood_and_changed_in_watch(terminal, machine):
    every = f"threads={len(os.sched_getaffinity(0))}"
    machine.submit("sleep 600", every)
    second = machine.submit("sleep 600", every, "name=brook-flow")
    screen = terminal("")
    screen.sees("ROOM NOW")
    screen.keys("4")
    screen.sees("brook-flow", "starts")
    screen.keys("/")
    screen.type("brook")
    screen.keys("Enter", "w")
    screen.sees(f"WHY {second} BROOK-FLOW", "when 1 reaches its limit", "in the queue; its standing")
    screen.keys("w", "e")
    screen.sees(f"CHANGE {second} BROOK-FLOW", "as it is now")
    screen.type("walltime=7m")
    screen.keys("Enter")
    screen.sees(f"{second} changed, with walltime=7m")
    assert machine.show(second)["walltime_s"] == 420
    screen.keys("C-q")
    screen.sees("the end 0")


def test_mistakes_are_seen_while_typing_and_mended(terminal):
    screen = terminal("demo --paused --past 3")
    screen.sees("TIDAL")
    screen.keys("2")
    screen.sees("BEGIN FROM A SHAPE")
    screen.keys("Enter")
    screen.sees('# walltime = "30m"', "nothing to say")
    screen.keys("Down", "Down", "Down", "End", "Enter")
    screen.type('# wallime = "1h"')
    screen.sees('there is no key "wallime"', "must change")
    screen.keys("C-g")
    screen.sees("Not submitted: line 5")
    screen.keys("C-z", "C-z", "C-z")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_the_whole_path_on_this_machine(terminal, machine):
    path = machine.work / "hello.sh"
    path.write_text(
        '#!/bin/sh\n# /// job\n# walltime = "1m"\n# memory = "64 MiB/core"\n# ///\necho "good morning"\nsleep 1\nexit 3\n'
    )
    screen = terminal("")
    screen.sees("HERE", "MAY USE")
    screen.keys("2")
    screen.sees("BEGIN FROM A SHAPE", "hello.sh")
    for _ in range(11):  # nine shapes, a command line, a file of commands
        screen.keys("Down")
    screen.keys("Enter")
    screen.sees('echo "good morning"', "1 hint", "REQUEST")
    screen.keys("C-g")
    screen.sees("Submitted as 1")
    screen.keys("M-4")
    screen.sees("1  hello", "▰")
    screen.sees("✕ failed, exit 3")
    screen.keys("Enter")
    screen.sees("HELLO 1", "exit 3", "good morning")
    screen.keys("6")
    screen.sees("ACCOUNTS", "no limit")
    screen.keys("C-q")
    screen.sees("the end 0")
    assert machine.show(1)["state"] == "failed"


def test_jobs_go_on_without_the_application_and_stand_there_when_it_opens_again(terminal, machine):
    screen = terminal("")
    screen.sees("HERE")
    job = machine.submit("sleep 2; echo late")
    screen.keys("4")
    screen.sees(f"{job}  job", "▰")
    os.kill(pane_pid(screen), 9)
    assert machine.ended(job)["state"] == "done"
    again = terminal("")
    again.sees("HERE")
    again.keys("5")
    again.sees("JOB 1", "Done in", "late")
    again.keys("C-q")
    again.sees("the end 0")


def pane_pid(screen: Terminal) -> int:
    """The application's process in a terminal."""
    shell = int(screen.tmux("list-panes", "-t", screen.name, "-F", "#{pane_pid}").split()[0])
    children = until(lambda: Path(f"/proc/{shell}/task/{shell}/children").read_text().split(), "the application")
    return int(children[0])


def test_a_terminal_that_shrinks_and_grows_again(terminal):
    screen = terminal("demo --paused --past 3", (120, 40))
    screen.sees("TIDAL")
    for width, height in ((60, 15), (100, 30), (30, 8), (160, 47)):
        screen.resize(width, height)
    screen.keys("4")
    screen.sees("sediment-big", "everyone")
    screen.resize(90, 28)
    screen.sees("90×28 of 100×30")
    screen.resize(100, 30)
    screen.sees("surge-north")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_without_colour_none_is_sent_and_the_cursor_is_seen_all_the_same(terminal):
    screen = terminal("demo --paused --past 3", variables={"NO_COLOR": "1"})
    screen.sees("TIDAL", "MAY USE")
    screen.keys("4", "Down")
    screen.sees("sediment-big")
    drawn = screen.tmux("capture-pane", "-p", "-e", "-t", screen.name)
    codes = {code for found in re.findall(r"\x1b\[([\d;]*)m", drawn) for code in found.split(";")}
    assert codes <= {"", "0", "1", "4", "7", "22", "24", "27", "39", "49"} and "7" in codes, codes


def test_without_a_terminal_it_says_so(machine):
    done = machine.lq()
    assert done.returncode == 2
    assert "needs a terminal" in done.stderr


def test_with_errors_redirected_the_application_draws_on_the_terminal(terminal, machine):
    screen = terminal("demo --paused --past 3 2>log.txt", (100, 30))
    screen.sees("TIDAL", "MAY USE", "Mon 09:42")  # and the clock stays in sight
    assert (machine.work / "log.txt").read_text() == ""
    screen.keys("C-q")
    screen.sees("the end 0")


def test_jobs_are_shown_again_as_they_change_until_ctrl_c(terminal, machine):
    screen = terminal("jobs --watch")
    screen.sees("no jobs")
    number = machine.submit("sleep 600", "walltime=30m", "name=sleeper")
    screen.sees(str(number), "sleeper", "running")
    machine.lq("cancel", str(number))
    screen.sees("no jobs")
    screen.keys("C-c")
    screen.sees("the end 0")
    assert "needs" not in machine.lq("jobs").stderr and machine.lq("jobs", "--watch").returncode == 2


def test_a_long_output_is_gone_through_from_its_end_to_its_first_error(machine, terminal):
    body = "seq 1 300000; echo 'fatal: the grid is torn'; seq 300001 600000; echo 'error: again' ; exit 0"
    job = machine.submit(body, 'walltime="1m"')
    machine.ended(job)
    screen = terminal("")
    screen.sees("HERE", "ROOM NOW")
    screen.keys("5")
    screen.sees(f"JOB {job}", "! look at it", "perhaps not well", "600000", "error: again")
    screen.keys("f")
    screen.sees("fatal: the grid is torn", "300001", "299999")
    screen.keys("n")
    screen.sees("error: again", "600000")
    screen.keys("Home")
    screen.sees("OUTPUT", " 12")
    screen.keys("/")
    screen.type("^4567.9$")
    screen.keys("Enter")
    screen.sees("456709")
    screen.keys("End")
    screen.sees("error: again")
    screen.keys("C-q")
    screen.sees("the end 0")


def test_review_tells_what_became_of_real_runs(terminal, machine):
    head = 'walltime = "1m"\nmemory = "64 MiB/core"'
    sweep = f'name = "fit"\n{head}\n[array.sweep]\ngrid = ["coarse", "fine"]\nbeta = [1, 2, 4, 8]'
    fits = 'echo "residual 0.$beta"; test "$grid" = coarse || { echo "error: no convergence" >&2; exit 3; }'
    for name, text in (
        ("bad", script(f'name = "bad"\n{head}', "echo begun; echo 'fatal: mesh is broken' >&2; exit 127")),
        (
            "quiet",
            script(
                f'name = "quiet"\n{head}\nexpect = ["out.csv"]',
                "printf 'a,b\\n1\\n' > out.csv; echo 'tar: Cannot open' >&2",
            ),
        ),
        ("fit", script(sweep, fits)),
    ):
        (machine.work / f"{name}.sh").write_text(text)
        assert machine.lq("submit", f"{name}.sh").returncode == 0
    machine.lq("wait", "1", "2", "3")
    screen = terminal("")
    screen.keys("M-5")
    screen.sees("TASKS", "4 done, 4 failed", "4 of 8: exit 3", "grid=fine, and none with it did better")
    screen.keys("R")
    screen.sees("R types a pattern")
    screen.type("residual")
    screen.sees("enter looks in all")
    screen.keys("Enter")
    screen.sees("8 of 8 tasks have it, 4 wrote errors", "grid, beta", "! error: no co")
    screen.keys("Tab", "Down", "o")
    screen.sees("QUIET 2", "! look at it", "perhaps not well", "row 2 has 1 cell,")
    screen.keys("i")
    screen.sees("WHAT IT MADE", "out.csv")
    screen.keys("Tab", "Down", "o")
    screen.sees("BAD 1", "exit 127: a command was not found", "fatal: mesh is broken")
    screen.keys("Tab", "/")
    screen.type('text:"mesh is broken"')
    screen.keys("Enter")
    screen.sees("FOUND   1", "BAD 1")


@pytest.mark.parametrize("seed", range(SEEDS))
def test_the_terminal_has_what_a_drawing_of_all_would_give_it(terminal, seed):
    """Only cells that change are sent; whatever keys came, all that is drawn again with ctrl+l is there already."""
    chance = random.Random(seed)
    screen = terminal("demo --paused --past 3")
    screen.sees("560,000 left")  # its past has been added up
    for place, word in zip(
        "12345", ("ROOM NOW", "BEGIN", "CHAIN", "·▸", "RUNS"), strict=True
    ):  # ▸: a range, once it is known
        screen.keys(f"M-{place}")
        screen.sees(word)
    keys = ["Down", "Up", "Left", "Right", "Tab", "End", "Home", "PageDown", "PageUp", "Enter", "Escape", *"bz/w?jksog"]
    for place in "14365241":
        typed, seen = [chance.choice(keys) for _ in range(8)], []
        for _ in range(3):  # a range may come in between, once; a cell that isn't sent is missing every time
            screen.keys("Escape", "Escape", f"M-{place}", *typed)
            for _ in range(3):  # one by one: several at once may be taken for the beginning of another key
                screen.keys("Escape")
                time.sleep(0.3)
            before = until(lambda: _still(screen), "a screen at rest")
            screen.keys("C-l")
            seen.append((_without_notes(until(lambda: _still(screen), "the screen again")), _without_notes(before)))
            if seen[-1][0] == seen[-1][1]:
                break
        assert seen[-1][0] == seen[-1][1]


def _still(screen: Terminal) -> str:
    """The text on the screen once it has not changed for a while, but for a cursor that blinks; else empty."""
    seen = set[str]()
    for _ in range(4):
        seen.add(screen.screen())
        time.sleep(0.4)
    return seen.pop() if len(seen) == 1 else ""


def _without_notes(seen: str) -> list[str]:
    """All but the last lines, whose words go after a while."""
    return seen.split("\n")[:-4]
