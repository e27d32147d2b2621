"""The line above the script in which Draft asks for a path, a command or a task."""

import os
from pathlib import Path

from textual.widgets import Input

ASKED = {
    "open": "path to open",
    "save": "path to save as",
    "line": "the command line",
    "commands": "path of the file of commands",
    "task": "which task: its number, values as in  level=0.5 grid=north,  or several sizes as in  cells=2,4,8",
}


class DraftLine:
    """Asks for one of :data:`ASKED` at a time. Relative paths are taken from ``folder``."""

    def __init__(self, line: Input, folder: Path) -> None:
        self.line, self.folder = line, folder
        self.asked = ""
        """The thing asked for last."""

    def ask(self, what: str, path: str) -> None:
        """Show the line; ``path`` is the script's own, or empty."""
        self.asked = what
        beside = f"{self.folder}/"
        value = {"open": path or beside, "save": path or beside, "commands": beside}.get(what, "")
        self.line.placeholder, self.line.value = ASKED[what], value
        self.line.display = True
        self.line.cursor_position = len(value)
        self.line.focus()

    def hide(self) -> None:
        """Put the line away."""
        self.line.display = False

    def path(self) -> Path:
        """The typed text as a path."""
        path = Path(os.path.expanduser(self.line.value.strip()))
        return path if path.is_absolute() else self.folder / path
