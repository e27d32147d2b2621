"""The draft that is being written, kept on disk at every pause, so that nothing typed is lost."""

import json
import os
from contextlib import suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict

from lazy_quarry.app.shared.kept_files import KeptFiles
from lazy_quarry.files import given


class Draft(Struct, frozen=True):
    """A text and the file it belongs to; ``path`` is empty while it has none."""

    text: str
    path: str = ""
    edited: bool = False
    overrides: str = ""


class DraftShelf:
    """Where the draft of one site lies, among the files that the application keeps."""

    def __init__(self, folder: Path, name: str, kept: KeptFiles | None = None) -> None:
        self.name, self.kept = name, kept or KeptFiles(folder)

    def beside(self, name: str) -> "DraftShelf":
        """Another shelf in the same folder."""
        return DraftShelf(self.kept.folder, name, self.kept)

    def keep(self, draft: Draft) -> str:
        """Have it saved; returns what went wrong with the last that was, or nothing."""
        self.kept.put(f"draft-{self.name}.json", json.dumps(asdict(draft)))
        return self.kept.problem

    def take(self) -> Draft | None:
        """The draft as it was left."""
        with suppress(ValueError, TypeError):
            return Draft(**json.loads(self.kept.text(f"draft-{self.name}.json") or ""))
        return None


THERE = "it is there already"
"""The problem of a file that is not to be replaced."""


def save(path: Path, text: str, mode: int = 0o755, replace: bool = True) -> str:
    """Write a script whole, or leave the old one as it is; returns what went wrong, or nothing. ``mode`` is a new file's.

    It waits for the disk, so it is for a thread.
    """
    try:
        if not replace and path.exists():
            return THERE
        path.parent.mkdir(parents=True, exist_ok=True)
        mode = path.stat().st_mode & 0o777 if path.exists() else mode
        with given.replacing(path, durable=True) as file:
            file.write(text.encode())
            os.fchmod(file.fileno(), mode)
    except OSError as fault:
        return f"{path} cannot be saved: {fault.strerror}. The text is still here"
    return ""
