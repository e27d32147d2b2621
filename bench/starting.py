"""The demo's first paint and first true figures, against an empty application's paint."""

import os
import pty
import select
import sys
import tempfile

EMPTY = """
from textual.app import App
from textual.widgets import Static
class Empty(App):
    def compose(self):
        yield Static("painted")
Empty().run()
"""


def first_paint(words: list[str], sign: bytes, environment: dict[str, str]) -> None:
    """Run a program in a terminal of its own until it has painted a sign."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.environ.update(environment, TERM="xterm-256color", COLUMNS="160", LINES="47")
        os.execv(sys.executable, [sys.executable, *words])
    seen = b""
    while sign not in seen:
        if select.select([terminal], [], [], 20)[0]:
            seen += os.read(terminal, 65536)
    os.kill(pid, 9)
    os.waitpid(pid, 0)
    os.close(terminal)


def figures(best):
    with tempfile.TemporaryDirectory() as state:
        empty = best(5, lambda: first_paint(["-c", EMPTY], b"painted", {}))
        demo = ["-m", "lazy_quarry", "demo"]
        painted = best(5, lambda: first_paint(demo, b"Ledger", {"LQ_STATE": state}))
        yield "first-paint", painted, "s", empty, 1.8
        told = best(3, lambda: first_paint(demo, b"others", {"LQ_STATE": state}))
        yield "first-figures", told, "s", empty, 5
