"""Reading and writing files for commands."""

import os
import sys
from collections.abc import Iterable
from pathlib import Path

from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.errors import BadValue, QuarryError


def read_script(path: str) -> str:
    """A script's text. Raises :class:`BadValue` saying what is wrong with the file."""
    try:
        raw = sys.stdin.buffer.read() if path == "-" else Path(path).read_bytes()
    except FileNotFoundError:
        raise BadValue("there is no such file") from None
    except IsADirectoryError:
        raise BadValue("it is a folder, not a script") from None
    except OSError as fault:
        raise BadValue(f"it cannot be read: {fault.strerror}") from None
    return decode_script(raw)


def write_pieces(path: str, pieces: Iterable[str]) -> None:
    """Write all of it to a file, or nothing: it takes the place of an older one only when it is whole."""
    beside = Path(f"{path}.part")
    try:
        with beside.open("w", encoding="utf-8", newline="") as out:
            out.writelines(pieces)
        os.replace(beside, path)
    except OSError as fault:
        beside.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
