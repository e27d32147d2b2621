"""Where a journal belongs: it says itself in which folder it was written, so that a copy is seen to be one."""

import os
import shutil
from collections.abc import Mapping
from pathlib import Path

from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.sqlite.raw_pages import saved_log
from lazy_quarry.store.sqlite.sql_storage import FILE, SqlStorage


def place_of(folder: Path) -> dict[str, str]:
    """The marks of a folder that a journal keeps: its path and number."""
    return {"path": str(folder.resolve()), "inode": str(os.stat(folder).st_ino)}


def is_copy(known: Mapping[str, str], folder: Path) -> bool:
    """True when a journal belongs to another folder, by what it says: one that was moved keeps its inode, a copy has another."""
    place = place_of(folder)
    return known.get("inode") not in (None, place["inode"]) and known.get("path") != place["path"]


def adopt(folder: Path) -> None:
    """Make a copied folder a site of its own: it forgets where it came from, and its spool goes."""
    if not (folder / FILE).exists():
        raise StateFolderError(f"{folder} holds no journal, so there is nothing to adopt")
    _leave_original(folder)
    storage = SqlStorage(folder)
    try:
        storage.set_meta({**place_of(folder), "adopted": "yes"})
    finally:
        storage.close()


def _leave_original(folder: Path) -> None:
    """Remove what a copied folder has of the original beside the journal."""
    shutil.rmtree(folder / "spool", ignore_errors=True)
    (folder / "journal.head").unlink(missing_ok=True)
    saved_log(folder).unlink(missing_ok=True)


def moved_in(folder: Path, copied: bool) -> None:
    """A journal was moved into this folder, where it belongs from now on. ``copied``: what lay there belonged to another."""
    if copied:
        _leave_original(folder)
    storage = SqlStorage(folder)
    try:
        storage.set_meta(place_of(folder))
    finally:
        storage.close()
