"""Bytes sent to the terminal, by a pty, at 160×47; and the processor's time that the application takes for it.

The reference of bytes is what a person on a slow line would put up with; that of the processor's time is a bare application of the
same framework with a clock in it.
"""

import fcntl
import os
import pty
import select
import signal
import struct
import sys
import tempfile
import termios
import time
from contextlib import contextmanager

from bench.timing import cpu_s
from lazy_quarry.core.values import replace

ROWS, COLUMNS = 47, 160
START_S, KEY_S, IDLE_S = 9.0, 2.5, 6.0
IDLE_B, PAUSED_B, FAST_B, STEP_B, PLACE_B, START_B = 300, 1, 6_000, 4_000, 60_000, 120_000
"""At most so many bytes: a second at ×1, paused (none; one, to divide by) and at ×60, a step of the cursor, a place, the start."""


class Screen:
    """A program under a pty, and how many bytes it sends."""

    def __init__(self, words: list[str], state: str) -> None:
        self.child, self.fd = pty.fork()
        if not self.child:
            os.environ.update(TERM="xterm-256color", COLORTERM="truecolor", LQ_STATE=state)
            os.execv(sys.executable, [sys.executable, *words])
        fcntl.ioctl(self.fd, termios.TIOCSWINSZ, struct.pack("HHHH", ROWS, COLUMNS, 0, 0))

    def bytes_in(self, seconds: float) -> int:
        """Count the bytes that come within some seconds."""
        end, count = time.monotonic() + seconds, 0
        while (left := end - time.monotonic()) > 0:
            if select.select([self.fd], [], [], left)[0]:
                try:
                    count += len(os.read(self.fd, 1 << 16))
                except OSError:
                    break
        return count

    def press(self, key: str, seconds: float = KEY_S) -> int:
        """Press a key; returns the bytes that it brings."""
        os.write(self.fd, key.encode())
        return self.bytes_in(seconds)

    def close(self) -> None:
        """End it."""
        os.kill(self.child, signal.SIGKILL)
        os.waitpid(self.child, 0)
        os.close(self.fd)


@contextmanager
def screen(*words: str):
    with tempfile.TemporaryDirectory() as state:
        shown = Screen(list(words), state)
        try:
            yield shown
        finally:
            shown.close()


def idle(shown: Screen) -> tuple[float, float]:
    """Bytes, and seconds of the processor, in a second."""
    before = cpu_s(shown.child)
    count = shown.bytes_in(IDLE_S)
    return count / IDLE_S, (cpu_s(shown.child) - before) / IDLE_S


def steps(shown: Screen) -> float:
    """Bytes of a step of the cursor: the middle of several."""
    found = sorted(shown.press("\x1b[B") for _ in range(5))
    return float(found[2])


def figures(best):
    with screen("-c", BARE) as shown:
        shown.bytes_in(3.0)
        bare = max(0.001, idle(shown)[1])
    with screen("-m", "lazy_quarry", "demo", "--speed", "1") as shown:
        yield "terminal-start", float(shown.bytes_in(START_S)), "B", START_B, 1
        yield "terminal-survey-idle", idle(shown)[0], "B/s", IDLE_B, 1
        yield "terminal-place", float(shown.press("4")), "B", PLACE_B, 1
        shown.bytes_in(4.0)  # forecasts come one by one
        count, cpu = idle(shown)
        yield "terminal-idle", count, "B/s", IDLE_B, 1
        yield "terminal-idle-cpu", cpu, "s/s", bare, 12
        yield "terminal-step", steps(shown), "B", STEP_B, 1
        for name, key in (("review", "5"), ("ledger", "6"), ("chain", "3"), ("survey", "1"), ("draft", "2")):
            yield f"terminal-place-{name}", float(shown.press(key)), "B", PLACE_B, 1
        shown.press("\x1b4")
        shown.press(" ")
        yield "terminal-paused", idle(shown)[0], "B/s", PAUSED_B, 1
        shown.press(" ")
        shown.press("+")
        shown.press("+")
        yield "terminal-fast", idle(shown)[0], "B/s", FAST_B, 1
    with screen("-m", "bench.terminal", "large") as shown:
        shown.bytes_in(START_S * 2)
        yield "terminal-large-place", float(shown.press("4", 8.0)), "B", PLACE_B, 1
        count, cpu = idle(shown)
        yield "terminal-large-idle", count, "B/s", IDLE_B, 1
        yield "terminal-large-idle-cpu", cpu, "s/s", bare, 60
        yield "terminal-large-step", steps(shown), "B", STEP_B, 1


BARE = """
from datetime import datetime
from textual.app import App
from textual.widgets import Static
class Bare(App):
    def compose(self):
        yield Static(id="clock")
    def on_mount(self):
        self.set_interval(1.0, lambda: self.query_one("#clock").update(f"{datetime.now():%H:%M:%S}"))
Bare().run()
"""


def large() -> None:
    """The demo with a hundred thousand jobs on its board; its clock goes on."""
    from bench.watching import board_of
    from lazy_quarry.app.open_site import demo_app

    app = demo_app(1, False, 7, past_days=1)
    look, known = app._look, []

    def looked():
        board, settled, partial = look()
        if not known:
            known.extend(board_of(board, 100_000).jobs)
        return replace(board, jobs=tuple(known)), settled, partial

    app._look = looked
    app.run()


if __name__ == "__main__" and sys.argv[1:] == ["large"]:
    large()
