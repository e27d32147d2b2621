"""Bringing a journal that an earlier version wrote to the form of this one, all of it in one transaction."""

from collections.abc import Callable
from typing import Any

import msgspec
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


def _from_2(sql: Any) -> None:
    """How often a job runs again is one number, with the ends after which it does."""
    sql.create_function("with_retries", 1, _with_retries, deterministic=True)
    for table in ("events", "snapshots", "ended"):
        sql.execute(f"UPDATE {table} SET body = with_retries(body)")


def _with_retries(body: str) -> str:
    return msgspec.json.encode(_renewed(msgspec.json.decode(body))).decode()


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


_STEPS: dict[int, Callable[[Any], None]] = {1: _from_1, 2: _from_2}
"""What leads from a version to the next one."""
