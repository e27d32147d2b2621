"""The command's help against ``python -c pass``; the demo's first paint against an empty application's."""

import os
import pty
import select
import subprocess
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


def run(*words: str) -> None:
    subprocess.run([sys.executable, *words], stdout=subprocess.DEVNULL, check=True)


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
    bare = best(9, lambda: run("-c", "pass"))
    yield "help", best(9, lambda: run("-m", "lazy_quarry", "--help")), "s", bare, 8
    with tempfile.TemporaryDirectory() as state:
        empty = best(5, lambda: first_paint(["-c", EMPTY], b"painted", {}))
        demo = ["-m", "lazy_quarry", "demo"]
        painted = best(5, lambda: first_paint(demo, b"Ledger", {"LQ_STATE": state}))
        yield "first-paint", painted, "s", empty, 2
        told = best(3, lambda: first_paint(demo, b"others", {"LQ_STATE": state}))
        yield "first-figures", told, "s", empty, 6
