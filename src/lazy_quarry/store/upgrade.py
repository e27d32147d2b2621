"""Bringing a journal that an earlier version wrote to the form of this one, all of it in one transaction."""

from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection

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


def upgrade(work: Connection, version: int) -> None:
    """Take the tables from ``version`` to the present one, step by step; the caller commits."""
    driver: Any = work.connection.driver_connection
    for step in range(version, max(_STEPS, default=version) + 1):
        if step in _STEPS:
            _STEPS[step](driver)


def _from_1(sql: Any) -> None:
    """Names of fields: inside a JSON text a quote is always escaped, so ``"name":`` can only be a key."""
    for table in ("events", "snapshots", "ended"):
        body = "body"
        for old, new in _RENAMED_IN_2.items():
            body = f"""replace({body}, '"{old}":', '"{new}":')"""
        sql.execute(f"UPDATE {table} SET body = {body}")
    for table in ("ended", "sums"):
        sql.execute(f"ALTER TABLE {table} RENAME COLUMN held_core_ms TO allocated_core_ms")


_STEPS: dict[int, Callable[[Any], None]] = {1: _from_1}
"""What leads from a version to the next one."""
