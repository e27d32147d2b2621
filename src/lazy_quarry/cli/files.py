"""Reading and writing files for commands."""

import os
import sys
from pathlib import Path

from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.files import given


def write_text(path: Path | str, text: str) -> None:
    """Write a file as it is given. Raises :class:`QuarryError` where it can't be written."""
    try:
        Path(path).write_text(text, newline="")
    except OSError as fault:
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None


def read_script(path: str) -> str:
    """A script's text. Raises :class:`BadValue` saying what is wrong with the file."""
    try:
        raw = sys.stdin.buffer.read() if path == "-" else given.read_by_command(path)
    except FileNotFoundError:
        raise BadValue("there is no such file") from None
    except IsADirectoryError:
        raise BadValue("it is a folder, not a script") from None
    except OSError as fault:
        raise BadValue(f"it cannot be read: {fault.strerror}") from None
    return decode_script(raw)


def submission_of(path: str, settings: tuple[str, ...] = ()) -> Submission:
    """A script as it would be submitted from here. Raises :class:`BadValue` saying what is wrong with the file."""
    return Submission(read_script(path), path, os.getcwd(), settings, (), tuple(os.environ.items()))
