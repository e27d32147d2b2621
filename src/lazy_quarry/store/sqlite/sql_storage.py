"""The storage of a journal in SQLite, through SQLAlchemy."""

import os
import sqlite3
import threading
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Connection, Engine, Select, Table, create_engine, func, inspect, select, tuple_
from sqlalchemy.dialects.sqlite import insert as upsert
from sqlalchemy.exc import DatabaseError, SQLAlchemyError
from sqlalchemy.pool import QueuePool

from lazy_quarry.core.job.job import TASK_SPAN, task_id
from lazy_quarry.errors import DamagedJournal, StateFolderError
from lazy_quarry.files import ours
from lazy_quarry.store.reserve import Reserve
from lazy_quarry.store.rows import THINNED
from lazy_quarry.store.sqlite.book_queries import spans_query, sums_query, waits_query
from lazy_quarry.store.sqlite.cells import WrongCell, right_cells
from lazy_quarry.store.sqlite.connections import connect_to
from lazy_quarry.store.sqlite.raw_pages import save_log, saved_log
from lazy_quarry.store.sqlite.tables import ended, events, live, meta, metadata, parts, sums, texts
from lazy_quarry.store.sqlite.upgrade import only_present, upgrade
from lazy_quarry.store.storage import CELL_VALUES, Batch, Cell, EndedFilter, EndedRow, EventRow, LiveRow, Wanted

FILE = "journal.db"


def _insert_all(table: Table) -> str:
    names = [column.name for column in table.columns]
    return f"INSERT INTO {table.name} ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})"


_INSERT_EVENT = _insert_all(events)
_INSERT_ENDED = _insert_all(ended)
_ADD_SUMS = f"{_insert_all(sums)} ON CONFLICT DO UPDATE SET " + ", ".join(
    f"{name} = {name} + excluded.{name}" for name in CELL_VALUES
)
_PUT_LIVE = _insert_all(live).replace("INSERT", "INSERT OR REPLACE", 1)
_PUT_PART = _insert_all(parts).replace("INSERT", "INSERT OR REPLACE", 1)
_THIN = (
    "UPDATE events SET kind = ?, body = '', script = 0, environment = 0 WHERE number IN (SELECT number FROM events "
    "JOIN ended ON ended.job = events.job WHERE kind <> ? AND number <= ? AND ended_ms < ? LIMIT ?)"
)
_KEEP_TEXT = _insert_all(texts).replace("INSERT", "INSERT OR IGNORE", 1)


class SqlStorage:
    """One SQLite file, or a database in memory when ``folder`` is None."""

    def __init__(self, folder: Path | None, known: int = 0, reading: bool = False) -> None:
        """Open or make the file. Raises :class:`StateFolderError` when it cannot be used.

        ``known``: so many events are known to have been written to it. One that is empty is then damaged, and nothing is written
        to it. ``reading``: nothing is made, changed or brought up to date, and every method that writes is a StateFolderError.
        """
        self.folder, self.reading = folder, reading
        self._views = threading.local()
        self._seen: dict[str, tuple[int, int, int]] = {}
        if folder is not None:
            _there(folder, known)
        with self._told():
            if folder is not None and not reading:
                save_log(folder, f"{FILE}-wal")
                _private(folder)
            self.sql = connect(folder, reading)
            with self.sql.connect() as work:
                empty = not inspect(work).has_table("meta")
            if known and empty:
                raise DamagedJournal(folder, "it is empty, and events were written to it")
            if reading:
                with self.sql.connect() as work:
                    only_present(work, folder)
            else:
                with self.sql.begin() as work:
                    upgrade(work, folder)
                    metadata.create_all(work)
        self._epoch = ""
        """The number of the engine's start that writes here; what is written after a later one is refused."""
        self._reserve = Reserve(folder) if folder is not None and not reading else None
        self._remember()

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Turn what the database says into what it means for the person."""
        try:
            yield
        except (SQLAlchemyError, sqlite3.Error, OSError) as fault:
            raise explained(fault, self.folder) from None
        except (ValueError, OverflowError, TypeError) as fault:  # what the driver makes of damaged names and numbers
            what = fault if isinstance(fault, WrongCell) else type(fault).__name__
            raise DamagedJournal(self.folder, f"something in it cannot be read ({what})") from None

    # -- the files themselves ----------------------------------------------------------------------

    def _remember(self) -> None:
        for name in (FILE, f"{FILE}-wal"):
            if self.folder is not None and (found := _stat(self.folder / name)):
                self._seen[name] = found

    def changed_outside(self) -> str:
        """Why the files are not those that were opened (deleted, replaced, cut short); empty when they are.

        They are looked at by name alone: closing a second handle of the file would drop SQLite's locks on the first.
        """
        for name, (device, inode, size) in self._seen.items():
            assert self.folder is not None
            now = _stat(self.folder / name)
            if now is None:
                return f"{name} was removed"
            if now[:2] != (device, inode):
                return f"{name} was replaced"
            if now[2] < size:
                return f"{name} was cut short"
        return ""

    def structure_problem(self) -> str:
        """The fault that SQLite finds in the file; empty for none."""
        with self._reading() as work:
            found = str(work.exec_driver_sql("PRAGMA integrity_check(1)").scalar())
        return "" if found == "ok" else found.replace("\n", " ")

    def proven(self) -> None:
        """All of it was compared, or is known to be whole: what was kept in case it isn't may go."""
        if self.folder is not None and not self.reading:
            saved_log(self.folder).unlink(missing_ok=True)

    def size(self) -> int:
        """Bytes of the file without its log."""
        return (self.folder / FILE).stat().st_size if self.folder is not None else 0

    def close(self) -> None:
        """Close the file."""
        self.sql.dispose()

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        """A transaction."""
        if self.reading:
            raise StateFolderError(f"the journal in {self.folder} is open for reading only; nothing was written")
        with self._told(), self.sql.begin() as work:
            # Asked inside the transaction, so that no other engine can begin between the question and what is written.
            if self._epoch:
                found = work.exec_driver_sql("SELECT value FROM meta WHERE key = 'epoch'").scalar()
                if found != self._epoch:
                    raise StateFolderError(
                        f"another engine has taken over the journal in {self.folder}; nothing was written"
                    )
            yield work

    # -- writing -----------------------------------------------------------------------------------

    def write(self, batch: Batch) -> None:
        """Write all of it durably, or nothing. On a full disk, what was kept in reserve is given up for the ends of jobs."""
        try:
            self._write(batch)
        except StateFolderError as fault:
            if self._reserve is None or not batch.ended or "full" not in str(fault) or not self._reserve.give_up():
                raise
            self._write(batch)
        else:
            if self._reserve is not None:
                self._reserve.keep()

    def _write(self, batch: Batch) -> None:
        with self._writing() as work:
            driver: Any = work.connection.driver_connection
            # The driver's own executemany: the rows are tuples already, so SQLAlchemy's work on each would be wasted.
            for statement, rows in (
                (_KEEP_TEXT, list(batch.texts.items())),
                (_INSERT_EVENT, batch.events),
                (_INSERT_ENDED, batch.ended),
                (_ADD_SUMS, batch.cells),
                (_PUT_LIVE, batch.live),
                ("DELETE FROM live WHERE job = ?", [(job,) for job in batch.gone]),
                (_PUT_PART, list(batch.parts.items())),
            ):
                if rows:
                    driver.executemany(statement, rows)
        self._remember()

    def thin(self, ended_before_ms: int, until: int, most: int) -> int:
        """Thin events of jobs that ended before an instant, as far as a number; returns how many, ``most`` at most."""
        with self._writing() as work:
            found = work.exec_driver_sql(_THIN, (THINNED, THINNED, until, ended_before_ms, most))
            count = int(found.rowcount)
        self._remember()
        return count

    def begin_epoch(self, values: Mapping[str, str | None]) -> None:
        """Write what describes the journal, with the number of an engine's start: from now on nothing is taken of an earlier."""
        self._epoch = ""
        self.set_meta(values)
        self._epoch = values["epoch"] or ""

    def set_meta(self, values: Mapping[str, str | None]) -> None:
        """Change some of what describes the journal; None removes."""
        with self._writing() as work:
            for key, value in values.items():
                if value is None:
                    work.execute(meta.delete().where(meta.c.key == key))
                else:
                    work.execute(upsert(meta).values(key=key, value=value).on_conflict_do_update(set_={"value": value}))
        self._remember()

    # -- reading -----------------------------------------------------------------------------------

    @contextmanager
    def one_view(self) -> Iterator[None]:
        """Have this thread read all as it was at one instant, though the engine may go on writing."""
        # Without a transaction of its own each statement would see what was written before it, and sums would not fit the rows.
        with self._told(), self.sql.connect() as work:
            work.exec_driver_sql("BEGIN")
            self._views.own = work
            try:
                yield
            finally:
                self._views.own = None
                work.rollback()

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        with self._told():
            view: Connection | None = getattr(self._views, "own", None)
            if view is not None:
                yield view
            else:
                with self.sql.connect() as work:
                    yield work

    def _rows(self, table: Table, query: Any = None) -> Iterator[Any]:
        """Whole rows of a table, all of them without a query."""
        with self._reading() as work:
            found: Any = work.execute(table.select() if query is None else query)
            yield from right_cells(table, found)

    def _read(self, table: Table, query: Any = None) -> list[Any]:
        return list(self._rows(table, query))

    def meta(self) -> dict[str, str]:
        """Version, identity and the like."""
        return {row.key: row.value for row in self._read(meta)}

    def last_event(self) -> EventRow | None:
        """The newest event."""
        found = self._read(events, select(events).order_by(events.c.number.desc()).limit(1))
        return EventRow(*found[0]) if found else None

    def events(self, after: int) -> Iterator[EventRow]:
        """Events in order, from the one after a number."""
        for row in self._rows(events, select(events).where(events.c.number > after).order_by(events.c.number)):
            yield EventRow(*row)

    def events_of(self, job: int) -> list[EventRow]:
        """All events of a job, in order."""
        return [
            EventRow(*row)
            for row in self._read(events, select(events).where(events.c.job == job).order_by(events.c.number))
        ]

    def events_of_kinds(self, kinds: Iterable[str]) -> list[EventRow]:
        """All events of these kinds, in order; there is no index of them."""
        query = select(events).where(events.c.kind.in_(list(kinds))).order_by(events.c.number)
        return [EventRow(*row) for row in self._read(events, query)]

    def texts(self, keys: Iterable[int]) -> dict[int, str]:
        """Some of the texts, by key."""
        wanted, found = sorted(set(keys) - {0}), dict[int, str]()
        for at in range(0, len(wanted), 500):
            for row in self._read(texts, select(texts).where(texts.c.key.in_(wanted[at : at + 500]))):
                found[row.key] = row.body
        return found

    def live(self) -> list[LiveRow]:
        """All jobs that have not ended."""
        return [LiveRow(*row) for row in self._read(live, select(live).order_by(live.c.job))]

    def parts(self) -> dict[str, str]:
        """The rest of the state."""
        return {row.key: row.body for row in self._read(parts)}

    def ended(self, wanted: EndedFilter) -> list[EndedRow]:
        """Rows of ended jobs, newest first."""
        query = select(ended).order_by(ended.c.ended_ms.desc(), ended.c.job.desc()).limit(wanted.limit)
        if wanted.user is not None:
            query = query.where(ended.c.user == wanted.user)
        if wanted.accounts is not None:
            query = query.where(ended.c.account.in_(wanted.accounts))
        if wanted.since_ms is not None:
            query = query.where(ended.c.ended_ms >= wanted.since_ms)
        if wanted.until_ms is not None:
            query = query.where(ended.c.ended_ms <= wanted.until_ms)
        if wanted.array is not None:
            query = query.where(ended.c.job.between(task_id(wanted.array, 0), task_id(wanted.array + 1, -1)))
        elif wanted.name is None and wanted.script is None:
            query = query.where(ended.c.job < TASK_SPAN)
        if wanted.name is not None:
            query = query.where(ended.c.name == wanted.name)
        if wanted.again_of is not None:
            query = query.where(ended.c.again_of == wanted.again_of)
        if wanted.script is not None:
            query = query.where(ended.c.script == wanted.script)
        if wanted.phase is not None:
            query = query.where(ended.c.phase == wanted.phase)
        return list(map(EndedRow._make, self._read(ended, query)))

    def ended_job(self, number: int) -> EndedRow | None:
        """The row of one ended job."""
        found = self._read(ended, select(ended).where(ended.c.job == number))
        return EndedRow(*found[0]) if found else None

    def ended_jobs(self, numbers: Iterable[int]) -> list[EndedRow]:
        """The rows of some ended jobs, in any order."""
        wanted, found = list(numbers), list[EndedRow]()
        for at in range(0, len(wanted), 500):
            found += map(EndedRow._make, self._read(ended, select(ended).where(ended.c.job.in_(wanted[at : at + 500]))))
        return found

    def ended_after(self, at_ms: int, job: int, limit: int) -> list[EndedRow]:
        """Rows of ended jobs and tasks in the order of their ends and numbers, from the one after these."""
        query = select(ended).where(tuple_(ended.c.ended_ms, ended.c.job) > (at_ms, job))
        query = query.order_by(ended.c.ended_ms, ended.c.job).limit(limit)
        return list(map(EndedRow._make, self._read(ended, query)))

    def sums(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Sums of a period: keys, then all values."""
        with self._reading() as work:
            return [tuple(row) for row in work.execute(sums_query(wanted))]

    def waits(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Waits of a period: keys, then all in ms, then all cores in thousandths, as texts with commas."""
        return self._as_driven(waits_query(wanted))

    def spans(self, wanted: Wanted) -> list[tuple[int, int, int]]:
        """Runs of a period: beginning, end, core-ms."""
        return self._as_driven(spans_query(wanted))

    def _as_driven(self, query: Select[Any]) -> list[tuple[Any, ...]]:
        """Rows as the driver gives them, for there are many."""
        with self._reading() as work:
            driver: Any = work.connection.driver_connection
            compiled = query.compile(work.engine, compile_kwargs={"literal_binds": True})
            found: list[tuple[Any, ...]] = driver.execute(str(compiled)).fetchall()
            return found

    def first_day(self) -> int | None:
        """The first instant of the first day of which there are sums."""
        with self._reading() as work:
            found = work.execute(select(func.min(sums.c.day_ms))).scalar()
            return None if found is None else int(found)

    def last_day(self) -> int | None:
        """The first instant of the last day of which there are sums."""
        with self._reading() as work:
            found = work.execute(select(func.max(sums.c.day_ms))).scalar()
            return None if found is None else int(found)

    def cells(self, since_ms: int) -> list[Cell]:
        """All sums of the days since, in the order of the days."""
        found = self._as_driven(select(*sums.c).where(sums.c.day_ms >= since_ms).order_by(sums.c.day_ms))
        return list(map(Cell._make, found))

    def all_ended(self) -> Iterator[EndedRow]:
        """All jobs that have ended, in any order."""
        return map(EndedRow._make, self._rows(ended))

    def all_cells(self) -> Iterator[Cell]:
        """All sums, in any order."""
        return map(Cell._make, self._rows(sums))

    def all_texts(self) -> Iterator[tuple[int, str]]:
        """All texts with their keys, in any order."""
        return ((row.key, row.body) for row in self._rows(texts))


def _stat(path: Path) -> tuple[int, int, int] | None:
    try:
        found = os.stat(path)
    except FileNotFoundError:
        return None
    return found.st_dev, found.st_ino, found.st_size


def _private(folder: Path) -> None:
    """Let its owner alone read what is written there, also in a folder and in files that existed before."""
    os.close(ours.opened(folder / FILE, os.O_RDWR | os.O_CREAT))
    for name in (FILE, f"{FILE}-wal", f"{FILE}-shm"):
        if (folder / name).exists():
            os.chmod(folder / name, 0o600)


def _there(folder: Path, known: int) -> None:
    """Raise :class:`StateFolderError` where the file must be there, since so many events were written to it, and is gone."""
    if known and not (folder / FILE).exists():
        raise StateFolderError(
            f"{FILE} is gone from {folder}, and it had {known:,} events. Put it back; or, to begin a new "
            f"journal there, remove journal.head"
        )


def connect(folder: Path | None, reading: bool = False) -> Engine:
    """A connection to the journal's file, or to a database in memory.

    One for ``reading`` never writes: not even what an engine left in the log, which the last other connection would when it closes.
    """
    if folder is not None and reading:
        uri = f"file:{quote(str(folder / FILE))}?mode=ro"
        return create_engine(
            "sqlite://", creator=lambda: sqlite3.connect(uri, uri=True, check_same_thread=False), poolclass=QueuePool
        )
    # An event counts as written only when it is on the disk: synchronous=NORMAL would lose the last ones in a power cut.
    durable = "PRAGMA page_size=4096", "PRAGMA journal_mode=WAL", "PRAGMA synchronous=FULL"
    return connect_to(folder / FILE if folder is not None else None, durable if folder is not None else ())


def explained(fault: Exception, folder: Path | None) -> StateFolderError:
    """Word a database's or the system's error for people."""
    words = str(getattr(fault, "orig", fault))
    if isinstance(fault, OSError) and fault.strerror:
        words = fault.strerror
    words = (words.splitlines() or [""])[0][:150]  # it may quote what it couldn't read
    low = words.lower()
    if "full" in low or "no space" in low:
        return StateFolderError(
            f"the disk that holds {folder} is full; nothing was changed. Make room there and try again"
        )
    if "readonly" in low or "read-only" in low or "permission" in low or "unable to open" in low:
        return StateFolderError(f"{folder} cannot be written ({words}); choose another folder with --state or LQ_STATE")
    damaged = ("malformed", "not a database", "no such table", "no such column", "utf-8", "constraint", "corrupt")
    if isinstance(fault, DatabaseError | sqlite3.DatabaseError) and any(sign in low for sign in damaged):
        return DamagedJournal(folder, words)
    return StateFolderError(f"the journal in {folder} cannot be used: {words}")
