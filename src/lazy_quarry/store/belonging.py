"""Where a journal belongs: it says itself in which folder it was written, so that a copy is seen to be one."""

import os
import shutil
from pathlib import Path

from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.raw_pages import saved_log
from lazy_quarry.store.sql_storage import FILE, SqlStorage


def place_of(folder: Path) -> dict[str, str]:
    """What a journal keeps of the folder that it belongs to."""
    return {"path": str(folder.resolve()), "inode": str(os.stat(folder).st_ino)}


def adopt(folder: Path) -> None:
    """Make a copied folder a site of its own: it forgets where it came from, and its spool goes."""
    if not (folder / FILE).exists():
        raise StateFolderError(f"{folder} holds no journal, so there is nothing to adopt")
    shutil.rmtree(folder / "spool", ignore_errors=True)
    (folder / "journal.head").unlink(missing_ok=True)
    saved_log(folder).unlink(missing_ok=True)
    storage = SqlStorage(folder)
    try:
        storage.set_meta({**place_of(folder), "adopted": "yes"})
    finally:
        storage.close()


def moved_in(folder: Path) -> None:
    """A journal was moved into this folder, where it belongs from now on."""
    storage = SqlStorage(folder)
    try:
        storage.set_meta(place_of(folder))
    finally:
        storage.close()
