"""The archive's modules compiled by the Python that runs here: the next that starts them needs not compile them again."""

from __future__ import annotations

import importlib.util
import io
import marshal
import os
import zipfile
from contextlib import suppress
from pathlib import Path

from lazy_quarry.files import ours


def compiled_beside(archive: Path) -> Path:
    """Where the compiled form of an archive is, for this Python."""
    return archive.with_name(f"{archive.stem}-{_tag()}.pyz")


def _tag() -> str:
    import sys

    return sys.implementation.cache_tag or "none"


def compile_apart(archive: Path) -> None:
    """Compile an archive in a process of its own, unless that was done; nobody waits for it, and where it fails nothing is lost."""
    beside = compiled_beside(archive)
    if beside.exists() or os.fork() > 0:
        return
    try:
        null = os.open(os.devnull, os.O_RDWR)
        for fd in (0, 1, 2):
            os.dup2(null, fd)
        os.setsid()
        os.nice(10)
        with suppress(OSError, ValueError, SyntaxError):
            ours.write_whole(beside, compiled(archive), durable=True)
    finally:
        os._exit(0)


def compiled(archive: Path) -> bytes:
    """An archive with the code of each module in place of its text (as :mod:`zipimport` reads it), and nothing packed."""
    held = io.BytesIO()
    with zipfile.ZipFile(archive) as read, zipfile.ZipFile(held, "w", zipfile.ZIP_STORED) as out:
        for name in read.namelist():
            code = compile(read.read(name), f"{archive}/{name}", "exec", dont_inherit=True)
            # The magic number, then flags, time and size of the text (PEP 552); no text is there to compare these with.
            out.writestr(f"{name}c", importlib.util.MAGIC_NUMBER + bytes(12) + marshal.dumps(code))
    return held.getvalue()
