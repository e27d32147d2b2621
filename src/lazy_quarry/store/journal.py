"""The append-only record of everything that happened, and the tables kept in the same transactions.

One writer. An event is on disk, synchronously, when :meth:`Journal.append` returns; when it raises,
nothing of the call is there.
"""

import os
import shutil
import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Table, create_engine, event, func, insert, select
from sqlalchemy.dialects.sqlite import insert as upsert
from sqlalchemy.exc import DatabaseError, SQLAlchemyError

from lazy_quarry.core.engine.events import Ended, Event
from lazy_quarry.core.engine.state import State, job_after
from lazy_quarry.core.job.job import TASK_SPAN, Job, Phase, make_task, task_id
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.codec import decode, encode, from_json, snapshot_to_json, to_json
from lazy_quarry.store.tables import VERSION, ended, events, meta, metadata, snapshots, sums
from lazy_quarry.store.upgrade import upgrade

MOST_TASKS = 100_000
"""Tasks of one array that are read together."""
SNAPSHOT_EVERY = 2_000
"""Events between snapshots, so that opening replays no more than these."""
_RISING = ("jobs", "failed", "allocated_core_ms", "charge_core_ms", "cpu_ms")


def _insert_all(table: Table) -> str:
    names = [column.name for column in table.columns]
    return f"INSERT INTO {table.name} ({', '.join(names)}) VALUES ({', '.join(f':{name}' for name in names)})"


_INSERT_ENDED = _insert_all(ended)
_ADD_SUMS = f"{_insert_all(sums)} ON CONFLICT DO UPDATE SET " + ", ".join(
    f"{name} = {name} + excluded.{name}" for name in _RISING
)
_INSERT = "INSERT INTO events (number, at_ms, kind, job, body) VALUES (?, ?, ?, ?, ?)"


@dataclass(frozen=True, slots=True)
class EndedFilter:
    """Which ended jobs to read; None means any. Newest first, ``limit`` at most."""

    user: str | None = None
    accounts: tuple[str, ...] | None = None
    since_ms: int | None = None
    limit: int = 500
    name: str | None = None
    phase: str | None = None
    array: int | None = None
    """Tasks of this array; without it, everything but tasks."""


class Journal:
    """The journal of one state folder, or in memory when ``folder`` is None."""

    def __init__(self, folder: Path | None) -> None:
        """Open or make the journal. Raises :class:`StateFolderError` when the folder cannot be used."""
        self.folder = folder
        self.number = 0
        self._since_snapshot = 0
        self.adopted = False
        """True once a copied folder was made a site of its own, until that is settled."""
        try:
            if folder is not None:
                folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._sql = _connect(folder)
            metadata.create_all(self._sql)
            self._settle()
        except (SQLAlchemyError, OSError) as fault:
            raise StateFolderError(_words(fault, folder)) from None

    def _settle(self) -> None:
        with self._sql.begin() as work:
            known = {row.key: row.value for row in work.execute(select(meta))}
            version = int(known.get("version", VERSION))
            if version > VERSION:
                raise StateFolderError(
                    f"{self.folder} was written by a newer Lazy Quarry (its journal is version {version}, this "
                    f"program knows {VERSION}); install the newer one, or use another folder with --state"
                )
            if version < VERSION:
                upgrade(work, version)
            identity = _identity(self.folder) if self.folder else {}
            # A folder that was moved keeps its inode. A copy has another one, and then the original may still run its
            # jobs.
            if (
                self.folder
                and known.get("inode") not in (None, identity["inode"])
                and known["path"] != identity["path"]
            ):
                raise StateFolderError(
                    f"{self.folder} is a copy of {known['path']}; jobs that it records as running belong to the "
                    f'original. To make it a site of its own: lazy-quarry adopt --state "{self.folder}"'
                )
            # In the same transaction as the upgrade: a crash between the two would leave new tables with an old
            # version.
            for key, value in {"version": str(VERSION), **identity}.items():
                work.execute(upsert(meta).values(key=key, value=value).on_conflict_do_update(set_={"value": value}))
            self.adopted = known.get("adopted") == "yes"
            self.number = work.execute(select(func.max(events.c.number))).scalar() or 0

    def settle_adoption(self) -> None:
        """Mark that the jobs which the copied folder recorded as live were handled."""
        with self._sql.begin() as work:
            work.execute(meta.delete().where(meta.c.key == "adopted"))
        self.adopted = False

    def close(self) -> None:
        """Close the file."""
        self._sql.dispose()

    def load(self) -> State:
        """The state: the newest snapshot and the events after it."""
        with self._sql.connect() as work:
            row = work.execute(select(snapshots).order_by(snapshots.c.number.desc()).limit(1)).first()
            state, since = State(), 0
            if row is not None:
                state, since = from_json(State, row.body), row.number
            rest = work.execute(select(events).where(events.c.number > since).order_by(events.c.number))
            for found in rest:
                state.apply(decode(found.kind, found.body))
                self._since_snapshot += 1
        return state

    def append(self, happened: Sequence[Event], state: State) -> None:
        """Write events, with the ended jobs and sums that follow from them, in one transaction.

        ``state`` is the state before them. Raises :class:`StateFolderError`, and then nothing was written.
        """
        if not happened:
            return
        rows, number = [], self.number
        for one in happened:
            number += 1
            kind, body = encode(one)
            rows.append((number, one.at_ms, kind, getattr(one, "job", None), body))
        try:
            with self._sql.begin() as work:
                driver: Any = work.connection.driver_connection
                # The driver's own executemany: the rows are tuples already, so SQLAlchemy's work on each row would be
                # wasted.
                driver.executemany(_INSERT, rows)
                ends = [one for one in happened if isinstance(one, Ended)]
                if ends:
                    self._record_ends(work, ends, state)
                if self._since_snapshot + len(rows) >= SNAPSHOT_EVERY:
                    self._snapshot(work, state, happened, number)
        except (SQLAlchemyError, sqlite3.Error, OSError) as fault:
            raise StateFolderError(_words(fault, self.folder)) from None
        self.number = number
        self._since_snapshot += len(rows)
        if self._since_snapshot >= SNAPSHOT_EVERY:
            self._since_snapshot = 0

    def _record_ends(self, work: Any, ends: Sequence[Ended], state: State) -> None:
        known = {end.job: state.jobs.get(end.job) for end in ends}
        final, cells = [], []
        for end in ends:
            job = known[end.job]
            if job is None:  # a task that is made by the same events
                job = make_task(state.jobs[end.job // TASK_SPAN], end.job % TASK_SPAN - 1)
            if job.request.array is None:
                cells += sum_cells(job, end)
            known[end.job] = finished = job_after(job, end)
            if finished.parent is not None:  # its script is kept once, with its array
                origin = replace(finished.origin, script="", environment=())
                finished = replace(finished, origin=origin)
            if not end.again:
                final.append(ended_row(finished))
        driver: Any = work.connection.driver_connection
        driver.executemany(_INSERT_ENDED, final)
        driver.executemany(_ADD_SUMS, cells)

    def _snapshot(self, work: Any, state: State, happened: Sequence[Event], number: int) -> None:
        copy = state.copy()
        for one in happened:
            copy.apply(one)
        work.execute(insert(snapshots).values(number=number, body=snapshot_to_json(copy)))
        work.execute(snapshots.delete().where(snapshots.c.number < number))

    def append_past(self, happened: Sequence[Event]) -> None:
        """Write a whole history into an empty journal, ends and sums included, folding as it goes."""
        state, batch = State(), list[Event]()
        for one in happened:
            if isinstance(one, Ended) and batch:
                self.append(batch, state)
                for done in batch:
                    state.apply(done)
                batch = []
            batch.append(one)
        self.append(batch, state)

    def import_past(self, jobs: Iterable[Job]) -> None:
        """Add jobs that ended before this journal began: rows and sums, without events."""
        finals, cells = [], []
        for job in jobs:
            finals.append(ended_row(job))
            cells += sum_cells(job, _as_end(job))
        with self._sql.begin() as work:
            driver: Any = work.connection.driver_connection
            driver.executemany(_INSERT_ENDED, finals)
            driver.executemany(_ADD_SUMS, cells)

    def ended(self, wanted: EndedFilter) -> list[Job]:
        """Ended jobs, newest first."""
        query = select(ended.c.body).order_by(ended.c.ended_ms.desc(), ended.c.job.desc()).limit(wanted.limit)
        if wanted.user is not None:
            query = query.where(ended.c.user == wanted.user)
        if wanted.accounts is not None:
            query = query.where(ended.c.account.in_(wanted.accounts))
        if wanted.since_ms is not None:
            query = query.where(ended.c.ended_ms >= wanted.since_ms)
        if wanted.array is not None:
            query = query.where(ended.c.job.between(task_id(wanted.array, 0), task_id(wanted.array + 1, -1)))
        elif wanted.name is None:
            query = query.where(ended.c.job < TASK_SPAN)
        if wanted.name is not None:
            query = query.where(ended.c.name == wanted.name)
        if wanted.phase is not None:
            query = query.where(ended.c.phase == wanted.phase)
        with self._sql.connect() as work:
            return [_job(body) for body in work.execute(query).scalars()]

    def ended_job(self, number: int) -> Job | None:
        """One ended job."""
        with self._sql.connect() as work:
            body = work.execute(select(ended.c.body).where(ended.c.job == number)).scalar()
        return _job(body) if body else None

    def events_of(self, job: int) -> list[Event]:
        """All that happened to a job, in order."""
        query = select(events.c.kind, events.c.body).where(events.c.job == job).order_by(events.c.number)
        with self._sql.connect() as work:
            return [decode(kind, body) for kind, body in work.execute(query)]


def adopt(folder: Path) -> None:
    """Make a copied folder a site of its own: it forgets where it came from, and its spool goes."""
    if not (folder / "journal.db").exists():
        raise StateFolderError(f"{folder} holds no journal, so there is nothing to adopt")
    shutil.rmtree(folder / "spool", ignore_errors=True)
    sql = _connect(folder)
    try:
        with sql.begin() as work:
            for key, value in _identity(folder).items():
                work.execute(upsert(meta).values(key=key, value=value).on_conflict_do_update(set_={"value": value}))
            work.execute(upsert(meta).values(key="adopted", value="yes").on_conflict_do_update(set_={"value": "yes"}))
    except SQLAlchemyError as fault:
        raise StateFolderError(_words(fault, folder)) from None
    finally:
        sql.dispose()


def ended_row(job: Job) -> dict[str, Any]:
    """A job in the form of the table of ended jobs."""
    return {
        "job": job.number,
        "user": job.user,
        "account": job.request.account,
        "queue": job.queue or job.request.queues[0],
        "tier": job.request.tier,
        "name": job.request.name,
        "phase": job.phase.value,
        "submitted_ms": job.submitted_ms,
        "started_ms": job.started_ms,
        "ended_ms": job.ended_ms,
        "allocated_core_ms": job.allocated_core_ms,
        "charge_core_ms": job.charge_core_ms,
        "cpu_ms": job.use.cpu_ms,
        "body": to_json(job),
    }


def sum_cells(job: Job, end: Ended) -> list[dict[str, Any]]:
    """What one end adds to the sums, by UTC day; the job itself counts on its last day."""
    begin = job.started_ms if job.started_ms is not None else end.at_ms
    held = by_day(begin, end.at_ms, end.allocated_core_ms)
    charged = by_day(begin, end.at_ms, end.charge_core_ms)
    ran = job.started_ms is not None  # an end between two attempts has the use of the last one, which is counted
    used = by_day(begin, end.at_ms, end.use.cpu_ms if ran else 0)
    cells = []
    for number, ((day, held_part), (_, charged_part), (_, used_part)) in enumerate(
        zip(held, charged, used, strict=True)
    ):
        last = number == len(held) - 1 and not end.again
        cells.append(
            {
                "day_ms": day,
                "account": job.request.account,
                "user": job.user,
                "queue": job.queue or job.request.queues[0],
                "tier": job.request.tier,
                "name": job.request.name,
                "jobs": int(last),
                "failed": int(last and end.phase not in (Phase.DONE, Phase.CANCELLED)),
                "allocated_core_ms": held_part,
                "charge_core_ms": charged_part,
                "cpu_ms": used_part,
            }
        )
    return cells


def _as_end(job: Job) -> Ended:
    return Ended(
        job.ended_ms or 0,
        job.number,
        job.attempt,
        job.phase,
        use=job.use,
        allocated_core_ms=job.allocated_core_ms,
        charge_core_ms=job.charge_core_ms,
    )


def _job(body: str) -> Job:
    job: Job = from_json(Job, body)
    return job


def _identity(folder: Path) -> dict[str, str]:
    return {"path": str(folder.resolve()), "inode": str(os.stat(folder).st_ino)}


def _connect(folder: Path | None) -> Engine:
    if folder is None:
        from sqlalchemy.pool import StaticPool

        # One connection for all threads: each connection to a database in memory has a database of its own.
        return create_engine("sqlite://", poolclass=StaticPool, connect_args={"check_same_thread": False})
    sql = create_engine(f"sqlite:///{folder / 'journal.db'}", connect_args={"check_same_thread": False})

    @event.listens_for(sql, "connect")
    def _durable(connection: Any, _record: Any) -> None:
        connection.execute("PRAGMA journal_mode=WAL")
        # An event counts as written only when it is on the disk: NORMAL would lose the last ones in a power cut.
        connection.execute("PRAGMA synchronous=FULL")

    return sql


def _words(fault: Exception, folder: Path | None) -> str:
    """What a database's or the system's error means for the person."""
    words = str(getattr(fault, "orig", fault))
    if isinstance(fault, OSError) and fault.strerror:
        words = fault.strerror
    low = words.lower()
    if "full" in low or "no space" in low:
        return f"the disk that holds {folder} is full; nothing was changed. Make room there and try again"
    if "readonly" in low or "read-only" in low or "permission" in low or "unable to open" in low:
        return f"{folder} cannot be written ({words}); choose another folder with --state or LQ_STATE"
    if isinstance(fault, DatabaseError | sqlite3.DatabaseError) and ("malformed" in low or "not a database" in low):
        return f"the journal in {folder} is damaged ({words}); restore journal.db from a backup"
    return f"the journal in {folder} cannot be used: {words}"
