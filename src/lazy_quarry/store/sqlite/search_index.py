"""The index for searching in SQLite, with its full-text tables (FTS5): a file of its own beside the journal."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from operator import attrgetter
from pathlib import Path
from typing import Any, TypeVar

from msgspec.structs import fields
from sqlalchemy import (
    BigInteger,
    Column,
    ColumnElement,
    Connection,
    Engine,
    Index,
    Integer,
    MetaData,
    Select,
    String,
    Table,
    and_,
    bindparam,
    func,
    literal_column,
    or_,
    select,
    text,
    true,
)
from sqlalchemy.exc import SQLAlchemyError

from lazy_quarry.core.job.job import TASK_SPAN
from lazy_quarry.core.search.facts import Facts
from lazy_quarry.core.search.query import Between, Likeness, Order, Phrase, Query, Term, expression_of, words_of
from lazy_quarry.errors import StateFolderError
from lazy_quarry.files import ours
from lazy_quarry.files.kinds import NotAFile
from lazy_quarry.store.search_index import IndexEntry
from lazy_quarry.store.sqlite.connections import connect_to

FILE = "search.db"
VERSION = 2
_T = TypeVar("_T")


_metadata = MetaData()
_WORDS = {
    "name",
    "state",
    "user",
    "account",
    "queue",
    "tier",
    "nodes",
    "parameters",
    "arguments",
    "path",
    "reason",
    "signal",
}
_facts = Table(
    "facts",
    _metadata,
    *(
        Column(
            field.name,
            Integer if field.name == "job" else String if field.name in _WORDS else BigInteger,
            primary_key=field.name == "job",
        )
        for field in fields(Facts)
    ),
    Column("script", BigInteger),
)
_whole: ColumnElement[bool] = literal_column(
    f"facts.job < {TASK_SPAN}"
)  # as it stands in the indexes: a bound value would not be the same
_LATEST = (_facts.c.ended_ms, _facts.c.script, _facts.c.name)  # what is looked at row by row stands in the index itself
for _name in ("user", "account", "state", "queue"):
    Index(f"{_name}_then", _facts.c[_name], *_LATEST, sqlite_where=text(f"job < {TASK_SPAN}"))
for _name in ("name", "script"):
    Index(f"{_name}_then", _facts.c[_name], _facts.c.ended_ms, sqlite_where=text(f"job < {TASK_SPAN}"))
for _name in ("memory_mib", "took_s", "charge_core_ms"):
    Index(f"by_{_name}", _facts.c[_name], sqlite_where=text(f"job < {TASK_SPAN}"))
Index("by_ended_ms", *_LATEST, sqlite_where=text(f"job < {TASK_SPAN}"))
Index("tasks_of", _facts.c.of, _facts.c.task)
_names = Table("names", _metadata, Column("name", String, primary_key=True), Column("plain", String))
_known = Table("known", _metadata, Column("key", String, primary_key=True), Column("value", String))
_TEXTS = (
    "CREATE VIRTUAL TABLE IF NOT EXISTS scripts USING fts5(body, content='', tokenize='unicode61 remove_diacritics 2')",
    "CREATE VIRTUAL TABLE IF NOT EXISTS printed USING fts5(body, tokenize='unicode61 remove_diacritics 2')",
    "CREATE TABLE IF NOT EXISTS script_keys (key INTEGER PRIMARY KEY)",
)
_VALUES = attrgetter(*(field.name for field in fields(Facts)))
_MARKS = ", ".join("?" * len(_facts.columns))
_INSERT = f"INSERT OR REPLACE INTO facts VALUES ({_MARKS})"
_SUMS = text(
    "SELECT max(memory_mib), sum(cpu_ms), sum(read_bytes), sum(written_bytes), max(cores), max(gpus), max(requested_mib) "
    "FROM facts WHERE of = :array AND job <> :array"
)


class SqlSearchIndex:
    """One SQLite file, or a database in memory when ``folder`` is None."""

    def __init__(self, folder: Path | None, identity: str) -> None:
        """Open or make it, for the journal of this identity. Raises :class:`StateFolderError` when that can't be."""
        self.folder, self.identity, self.made_anew = folder, identity, 0
        self._sql = self._opened()
        self._file = self._mark()

    def _mark(self) -> int:
        """Tells the file from one that another process made anew in its place."""
        try:
            return os.stat(self.folder / FILE).st_ino if self.folder is not None else 0
        except FileNotFoundError:
            return -1

    def _open_again(self) -> None:
        self._sql.dispose()
        self._sql = self._opened()
        self._file = self._mark()
        self.made_anew += 1

    def _opened(self) -> Engine:
        try:
            sql = _connect(self.folder)
            with sql.begin() as work:
                _metadata.create_all(work)
                for statement in _TEXTS:
                    work.exec_driver_sql(statement)
                known = {row.key: row.value for row in work.execute(select(_known))}
                wanted = {"version": str(VERSION), "identity": self.identity}
                if known and any(known.get(key) != value for key, value in wanted.items()):
                    raise sqlite3.DatabaseError("it belongs to another journal, or to another version")
                if not known:
                    work.execute(_known.insert(), [{"key": key, "value": value} for key, value in wanted.items()])
            return sql
        except (SQLAlchemyError, sqlite3.Error) as fault:
            if self.folder is None or not (self.folder / FILE).exists() or "database is locked" in str(fault):
                raise StateFolderError(f"the index for searching in {self.folder} cannot be made: {fault}") from None
            for name in (FILE, f"{FILE}-wal", f"{FILE}-shm"):
                (self.folder / name).unlink(missing_ok=True)
            return self._opened() if not isinstance(fault, sqlite3.OperationalError) else _connect(None)

    def _done(self, work: Callable[[Connection], _T]) -> _T:
        """Do something in a transaction; an index that is damaged is made anew, and it is done again."""
        if self._mark() != self._file:
            self._open_again()
        try:
            with self._sql.begin() as connection:
                return work(connection)
        except (SQLAlchemyError, sqlite3.Error, ValueError, TypeError) as fault:
            words = str(getattr(fault, "orig", fault))
            if self.folder is not None and any(sign in words for sign in ("malformed", "not a database", "corrupt")):
                for name in (FILE, f"{FILE}-wal", f"{FILE}-shm"):
                    (self.folder / name).unlink(missing_ok=True)
                self._open_again()
                with self._sql.begin() as connection:
                    return work(connection)
            raise StateFolderError(f"the index for searching cannot be used: {words.splitlines()[0][:150]}") from None

    # -- keeping it --------------------------------------------------------------------------------

    def mark(self) -> int:
        """The instant up to which ended jobs are in it."""
        found = self._done(lambda work: work.execute(select(_known.c.value).where(_known.c.key == "mark")).scalar())
        return int(found or 0)

    def missing(self, jobs: Sequence[int]) -> set[int]:
        """Jobs of these that are not in it."""
        found = self._done(
            lambda work: work.execute(select(_facts.c.job).where(_facts.c.job.in_(jobs))).scalars().all()
        )
        return set(jobs) - set(found)

    def add(self, entries: Iterable[IndexEntry], mark: int) -> None:
        """Put jobs in; an array takes the sums of its tasks, which are there before it."""
        put = list(entries)

        def work(connection: Connection) -> None:
            driver: Any = connection.connection.driver_connection
            arrays = {entry.facts.of for entry in put if entry.facts.task is not None or not entry.facts.nodes}
            driver.executemany(_INSERT, [(*_VALUES(entry.facts), entry.key) for entry in put])
            for array in arrays & set(
                connection.execute(select(_facts.c.job).where(_facts.c.job.in_(arrays))).scalars()
            ):
                _add_up(connection, array)
            new = {entry.key: entry.script for entry in put if entry.script}
            for key, script in new.items():
                if driver.execute("INSERT OR IGNORE INTO script_keys VALUES (?)", (key,)).rowcount:
                    driver.execute("INSERT INTO scripts (rowid, body) VALUES (?, ?)", (key, script))
            driver.executemany(
                "INSERT OR REPLACE INTO printed (rowid, body) VALUES (?, ?)",
                [(entry.facts.job, entry.printed) for entry in put if entry.printed],
            )
            driver.executemany(
                "INSERT OR IGNORE INTO names VALUES (?, ?)",
                [(name, " ".join(words_of(name))) for name in {entry.facts.name for entry in put}],
            )
            driver.execute("INSERT OR REPLACE INTO known VALUES ('mark', ?)", (str(mark),))

        self._done(work)

    def go_back(self, mark: int) -> None:
        """Jobs that ended since then may be missing."""
        if mark < self.mark():
            self._done(lambda work: work.execute(_known.update().where(_known.c.key == "mark").values(value=str(mark))))

    def forget_printed(self, before_ms: int) -> None:
        """Drop the ends of what was printed by jobs that ended before an instant."""
        old = f"SELECT job FROM facts WHERE ended_ms < {int(before_ms)}"
        self._done(lambda work: work.exec_driver_sql(f"DELETE FROM printed WHERE rowid IN ({old})"))

    def close(self) -> None:
        """Close the file."""
        self._sql.dispose()

    # -- finding -----------------------------------------------------------------------------------

    def find(self, query: Query, order: Order | None, limit: int, offset: int) -> list[int]:
        """Numbers of jobs that meet a search, in an order; without one, those that ended last come first."""
        column = _facts.c[order.field.kept] if order else _facts.c.ended_ms
        down = order is None or order.down
        wanted = _meeting(query)
        wanted = wanted.order_by(column.desc() if down else column.asc(), _facts.c.job.desc())
        return list(self._done(lambda work: work.execute(wanted.limit(limit).offset(offset)).scalars().all()))


def _meeting(query: Query) -> Select[Any]:
    kind: ColumnElement[bool] = _facts.c.task.isnot(None) if query.tasks else _whole
    return select(_facts.c.job).where(kind, *(_condition(term) for term in query.terms))


def _condition(term: Term) -> ColumnElement[bool]:
    found = or_(*(_one(term, wanted) for wanted in term.wanted))
    return found.is_not(true()) if term.opposite else found


def _one(term: Term, wanted: Likeness | Between | Phrase) -> ColumnElement[bool]:
    if isinstance(wanted, Phrase):
        return _holding(wanted, anywhere=term.field is None)
    assert term.field is not None
    column = _facts.c[term.field.kept]
    if isinstance(wanted, Likeness):
        return _like(column, wanted.pattern, term.field.kind == "words")
    low, high = wanted.low, wanted.high
    if low is not None and low == high:
        return column == low
    ends = [column >= low] if low is not None else []
    ends += [column <= high] if high is not None else []
    return and_(*ends) if ends else column.isnot(None)


def _like(column: Any, pattern: str, one_of_many: bool) -> ColumnElement[bool]:
    if one_of_many:
        return func.a_line_is(column, pattern) == 1
    if not set("*?") & set(pattern):
        return column == pattern  # type: ignore[no-any-return]
    return column.op("GLOB")(pattern.replace("[", "[[]"))  # type: ignore[no-any-return]


def _holding(phrase: Phrase, anywhere: bool) -> ColumnElement[bool]:
    """The script or what was printed, also by a task of it; ``anywhere``: or the name."""
    match = f'"{" ".join(phrase.words)}"{" *" if phrase.open else ""}'  # words are letters and figures, see words_of

    def among(what: str, table: str) -> Any:
        statement = text(f"SELECT {what} FROM {table} WHERE {table} MATCH :match")
        return statement.bindparams(bindparam("match", match, unique=True))

    found = [_facts.c.script.in_(among("rowid", "scripts")), _facts.c.job.in_(among("rowid", "printed"))]
    found.append(_facts.c.job.in_(among(f"rowid / {TASK_SPAN}", "printed")))
    if anywhere:
        part = " ".join(phrase.words)
        found.append(_facts.c.name.in_(select(_names.c.name).where(func.instr(_names.c.plain, part) > 0)))
    return or_(*found)


def _add_up(work: Connection, array: int) -> None:
    sums = work.execute(_SUMS, {"array": array}).one()
    if sums[0] is None:
        return
    names = ("memory_mib", "cpu_ms", "read_bytes", "written_bytes", "cores", "gpus", "requested_mib")
    work.execute(_facts.update().where(_facts.c.job == array).values(dict(zip(names, sums, strict=True))))


def _made_ready(path: Path) -> None:
    """Make the file, with its mode; what stands there and is no file goes, for the index can be made anew."""
    flags = os.O_RDWR | os.O_CREAT
    try:
        fd = ours.opened(path, flags)
    except NotAFile:
        path.unlink()
        fd = ours.opened(path, flags)
    os.close(fd)


_STATEMENTS = (
    "PRAGMA journal_mode=WAL",
    "PRAGMA wal_autocheckpoint=200",  # its log has 1 MiB at most: the journal needs the disk more
    "PRAGMA synchronous=NORMAL",  # what a power cut takes of it is put in again
)


def _connect(folder: Path | None) -> Engine:
    if folder is not None:
        _made_ready(folder / FILE)
    return connect_to(folder / FILE if folder else None, _STATEMENTS, _with_lines)


def _with_lines(connection: Any) -> None:
    connection.create_function("a_line_is", 2, _a_line_is, deterministic=True)


def _a_line_is(lines: str, pattern: str) -> bool:
    return any(expression_of(pattern).fullmatch(line) for line in lines.split("\n"))
