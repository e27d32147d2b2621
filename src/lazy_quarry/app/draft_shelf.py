"""The draft that is being written, kept on disk at every pause, so that nothing typed is lost."""

import json
import os
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from lazy_quarry.files import given, ours


@dataclass(frozen=True, slots=True)
class Draft:
    """A text and the file it belongs to; ``path`` is empty while it has none."""

    text: str
    path: str = ""
    edited: bool = False
    overrides: str = ""


class DraftShelf:
    """Where the draft of one site lies."""

    def __init__(self, folder: Path, name: str) -> None:
        self.file = folder / f"draft-{name}.json"

    def keep(self, draft: Draft) -> str:
        """Save it; returns what went wrong, or nothing."""
        try:
            self.file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            ours.write_whole(self.file, json.dumps(asdict(draft)), durable=False)
        except OSError as fault:
            return f"the draft cannot be kept in {self.file.parent}: {fault.strerror}"
        return ""

    def take(self) -> Draft | None:
        """The draft as it was left."""
        with suppress(OSError, ValueError, TypeError):
            return Draft(**json.loads(ours.read(self.file)))
        return None


def save(path: Path, text: str, mode: int = 0o755) -> str:
    """Write a script whole, or leave the old one as it is; returns what went wrong, or nothing. ``mode`` is a new file's."""
    short = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        mode = path.stat().st_mode & 0o777 if path.exists() else mode
        with open(given.fresh(short), "w", newline="", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(short, mode)
        os.replace(short, path)
    except OSError as fault:
        with suppress(OSError):
            short.unlink()
        return f"{path} cannot be saved: {fault.strerror}. The text is still here"
    return ""
