"""Bringing a journal that an earlier version wrote to the form of this one, all of it in one transaction."""

from contextlib import closing
from pathlib import Path
from typing import Any
from uuid import uuid4

import msgspec
from msgspec import Struct
from sqlalchemy import Connection, and_, func, inspect, select

from lazy_quarry.core.engine.events import Changed, Ended, Started, Submitted
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.ledger.accounts import Tally
from lazy_quarry.core.site import Window
from lazy_quarry.errors import StateFolderError
from lazy_quarry.store.books import Cells, add_up, cells_of
from lazy_quarry.store.checks import first_chain
from lazy_quarry.store.codec import decode, from_json
from lazy_quarry.store.rows import (
    Texts,
    end_of,
    ended_row,
    event_row,
    job_of,
    live_row,
    opened,
    parts_of,
    scalars_of,
    sum_cells,
)
from lazy_quarry.store.sqlite.cells import right_cells
from lazy_quarry.store.sqlite.tables import VERSION, ended, events, live, meta, metadata, parts, sums, texts
from lazy_quarry.store.sqlite.upgrade_to_6 import from_5
from lazy_quarry.store.storage import CELL_KEY, CELL_VALUES, Cell
from lazy_quarry.store.typed_json import decoder
from lazy_quarry.store.verify import Totals

_RENAMED_IN_2 = {
    "shares": "allocations",
    "held_core_ms": "allocated_core_ms",
    "ready": "freed_tasks",
    "spoiled": "doomed_tasks",
    "doomed": "skip_reason",
    "aside": "handled_tasks",
    "waits": "unmet",
    "ranks_each": "ranks_per_node",
}


def upgrade(work: Connection, folder: Path | None) -> None:
    """Take the tables to the present version, step by step; the caller commits. A copy of the file is kept.

    Raises :class:`StateFolderError` for a journal of a newer version.
    """
    if not inspect(work).has_table("meta") or (version := _version(work, folder)) == VERSION:
        return
    driver: Any = work.connection.driver_connection
    if folder is not None:
        _keep_copy(driver, folder / f"journal-version-{version}.db")
    if version == 1:
        _from_1(driver)
    if version < 3:
        _from_2(work)
    if version < 5:
        _from_4(work)
    if version < 6:
        from_5(work)
    # Versions 7 to 9 have events that those before don't know; earlier events are read as they are.
    work.execute(meta.update().where(meta.c.key == "version").values(value=str(VERSION)))


def only_present(work: Connection, folder: Path | None) -> None:
    """Raise :class:`StateFolderError` unless the tables are of the present version."""
    if inspect(work).has_table("meta") and (version := _version(work, folder)) < VERSION:
        raise StateFolderError(
            f"the journal in {folder} is of an earlier version, {version}, and this program's is {VERSION}; any command that "
            f"starts the engine, such as lq jobs, brings it up to date and keeps a copy"
        )


def _version(work: Connection, folder: Path | None) -> int:
    """The version of the tables. Raises :class:`StateFolderError` for a newer one than this program's."""
    known = {row.key: row.value for row in right_cells(meta, work.execute(meta.select()))}
    version = int(known.get("version", VERSION))
    if version > VERSION:
        raise StateFolderError(
            f"{folder} was written by a newer Lazy Quarry (its journal is version {version}, this program knows "
            f"{VERSION}); install the newer one, or use another folder with --state"
        )
    return version


def _keep_copy(driver: Any, path: Path) -> None:
    """Copy the journal as it is, unless that has been done already."""
    import sqlite3

    if path.exists():
        return
    short = path.with_suffix(".part")
    short.unlink(missing_ok=True)
    with closing(sqlite3.connect(short)) as copy:
        driver.backup(copy)
    short.chmod(0o600)
    short.rename(path)


def _from_1(sql: Any) -> None:
    """Names of fields: inside a JSON text a quote is always escaped, so ``"name":`` can only be a key."""
    for table in ("events", "snapshots", "ended"):
        body = "body"
        for old, new in _RENAMED_IN_2.items():
            body = f"""replace({body}, '"{old}":', '"{new}":')"""
        sql.execute(f"UPDATE {table} SET body = {body}")
    for table in ("ended", "sums"):
        sql.execute(f"ALTER TABLE {table} RENAME COLUMN held_core_ms TO allocated_core_ms")


def _from_2(work: Connection) -> None:
    """Retries are one number with the ends that they cover; texts are kept once; checksums; no snapshots, but live jobs."""
    rows = {name: list(work.exec_driver_sql(f"SELECT * FROM {name}")) for name in ("events", "snapshots", "ended")}
    cells = [
        Cell(**row._mapping, lost_core_ms=0, lost_cpu_ms=0, asked_core_ms=0)
        for row in work.exec_driver_sql("SELECT * FROM sums")
    ]
    for name in rows:
        work.exec_driver_sql(f"DROP TABLE {name}")
    metadata.create_all(work)
    identity, known, new = uuid4().hex, Texts(), dict[int, str]()
    work.execute(meta.insert().values(key="identity", value=identity))
    state, since = State(), 0
    for row in rows["snapshots"]:
        found = from_json(_Snapshot, _renewed_text(row.body))
        given = {name: getattr(found, name) for name in _KEPT}
        state, since = State.kept(found.jobs, **given), row.number
    chain, written = first_chain(identity), []
    for number, row in enumerate(sorted(rows["events"], key=lambda one: one.number), 1):
        event = decode(row.kind, _renewed_text(row.body))
        if row.number > since:
            state.apply(event)
        written.append(event_row(number, event, chain, known, new))
        chain = written[-1].chain
    ends = [ended_row(from_json(Job, _renewed_text(row.body)), known, new) for row in rows["ended"]]
    jobs = [live_row(job, known, new) for job in state.jobs.values()]
    totals = Totals()
    totals.add(ends, cells)
    found_parts = parts_of(state, state.recent)
    found_parts["scalars"] = scalars_of(state, len(written), {row.job: row.own_check for row in jobs})
    found_parts["totals"] = totals.sealed()
    for table, values in (
        (events, [row._asdict() for row in written]),
        (ended, [row._asdict() for row in ends]),
        (live, [row._asdict() for row in jobs]),
        (texts, [{"key": key, "body": body} for key, body in new.items()]),
        (parts, [{"key": key, "body": body} for key, body in found_parts.items()]),
    ):
        if values:
            work.execute(table.insert(), values)


def _from_4(work: Connection) -> None:
    """The sums tell what was lost and what was asked for, and lie in the order of their keys."""
    work.exec_driver_sql("ALTER TABLE sums RENAME TO sums_before")
    sums.create(work)
    kept = ", ".join((*CELL_KEY, *CELL_VALUES[:5]))
    work.exec_driver_sql(f"INSERT INTO sums ({kept}) SELECT {kept} FROM sums_before")
    work.exec_driver_sql("DROP TABLE sums_before")
    lost = Cells()
    for table in (ended, live):
        for row in work.execute(select(table.c.job, table.c.body)).all():
            job = job_of(row.body, "", "")
            if job.request.array is not None or not job.attempt:
                continue
            if job.phase.final and job.phase not in FAILING and job.attempt == 1:
                add_up(sum_cells(job, end_of(job)), lost)
                continue
            found = work.execute(select(events).where(events.c.job == row.job).order_by(events.c.number)).all()
            kinds = (Submitted.kind, Started.kind, Ended.kind, Changed.kind)
            happened = [decode(one.kind, one.body) for one in found if one.kind in kinds]
            add_up(cells_of(job, happened) or (sum_cells(job, end_of(job)) if job.phase.final else ()), lost)
    for key, values in lost.items():
        here = and_(*(sums.c[name] == value for name, value in zip(CELL_KEY, key, strict=True)))
        told = dict(zip(CELL_VALUES, values, strict=True))
        # Of attempts whose days are no longer known no more is lost on a day than was held.
        held, used = (
            func.min(told["lost_core_ms"], sums.c.allocated_core_ms),
            func.min(told["lost_cpu_ms"], sums.c.cpu_ms),
        )
        more = {"lost_core_ms": held, "lost_cpu_ms": used, "asked_core_ms": told["asked_core_ms"]}
        work.execute(sums.update().where(here).values(more))
    known = work.execute(select(parts.c.body).where(parts.c.key == "totals")).scalar()
    if known is not None:
        totals = decoder(Totals).decode(opened(known))
        totals.cells_sum = 0
        totals.add((), [Cell(*row) for row in work.execute(select(sums))])
        work.execute(parts.update().where(parts.c.key == "totals").values(body=totals.sealed()))


class _Snapshot(Struct, frozen=True):
    """The state as versions 1 and 2 wrote it; what follows from the jobs is left out."""

    at_ms: int
    next_number: int
    jobs: dict[int, Job]
    closures: dict[str, str]
    tallies: dict[str, Tally]
    recent: dict[str, dict[str, dict[int, int]]]
    orders: dict[str, tuple[int, ...]]
    reserved: dict[str, Window]
    clock_held_ms: int = 0


_KEPT = ("at_ms", "next_number", "closures", "tallies", "recent", "orders", "reserved", "clock_held_ms")


def _renewed_text(body: str) -> bytes:
    return msgspec.json.encode(_renewed(msgspec.json.decode(body)))


def _renewed(value: Any) -> Any:
    if isinstance(value, list):
        return [_renewed(each) for each in value]
    if not isinstance(value, dict):
        return value
    found = {key: _renewed(each) for key, each in value.items()}
    if "failure_retries" in found or "lost_retries" in found:
        failed, lost = found.pop("failure_retries", 0), found.pop("lost_retries", 1)
        found["retries"] = {"times": max(failed, lost), "on": ["failed", "lost"] if failed else ["lost"]}
    if "failures" in found and "losses" in found:
        found["retried"] = found.pop("failures") + found.pop("losses")
    return found
