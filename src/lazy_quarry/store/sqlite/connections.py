"""Connections to databases of SQLite, each prepared by its statements: of a file, or in memory."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event


def connect_to(
    path: Path | None, statements: Sequence[str], prepare: Callable[[Any], None] = lambda connection: None
) -> Engine:
    """Connect to a file, or without one to a database in memory; each connection executes the statements, then ``prepare``."""
    if path is None:
        from sqlalchemy.pool import StaticPool

        # One connection for all threads: each connection to a database in memory has a database of its own.
        sql = create_engine("sqlite://", poolclass=StaticPool, connect_args={"check_same_thread": False})
    else:
        sql = create_engine(f"sqlite:///{path}", connect_args={"check_same_thread": False})

    @event.listens_for(sql, "connect")
    def _prepared(connection: Any, _record: Any) -> None:
        for statement in statements:
            connection.execute(statement)
        prepare(connection)

    return sql
