"""The sizes of what a state folder holds."""

import os
import sqlite3
from contextlib import closing, suppress
from pathlib import Path

from msgspec import Struct

_TABLES = (
    ("events", "events", "body"),
    ("scripts and environments", "texts", "body"),
    ("jobs that have ended", "ended", "body"),
    ("jobs that have not ended", "live", "body"),
)


class Size(Struct, frozen=True):
    """Bytes of one kind of things, and how many there are; 0 where that says nothing."""

    what: str
    bytes: int
    count: int = 0


def sizes(folder: Path) -> list[Size]:
    """The largest parts of a state folder: its files, and what the journal's tables hold."""
    found = [Size("journal.db with all its tables and indexes", _bytes(folder / "journal.db"))]
    with suppress(sqlite3.Error), closing(sqlite3.connect(f"file:{folder / 'journal.db'}?mode=ro", uri=True)) as sql:
        for what, table, column in _TABLES:
            total, count = sql.execute(f"SELECT total(length({column})), count(*) FROM {table}").fetchone()
            found.append(Size(f"  of it {what}", int(total), count))
    found.append(Size("write-ahead log", _bytes(folder / "journal.db-wal")))
    for name, what in (("spool", "folders of attempts"), ("spared", "results that could not be brought back")):
        parts = list((folder / name).glob("*")) if (folder / name).is_dir() else []
        found.append(Size(what, _bytes(folder / name), len(parts)))
    found.append(Size("scratch folders that are kept", _bytes(folder / "scratch")))
    copies = [*folder.glob("journal-version-*.db"), *folder.glob("damaged-*")]
    found.append(Size("copies of earlier and damaged journals", sum(map(_bytes, copies)), len(copies)))
    return found


def _bytes(path: Path) -> int:
    """The room that a file or a folder with all in it takes."""
    total = 0
    with suppress(OSError):
        total = path.stat().st_size if path.is_file() else 0
        for base, _, files in os.walk(path):
            for name in files:
                with suppress(OSError):
                    total += os.lstat(os.path.join(base, name)).st_size
    return total
