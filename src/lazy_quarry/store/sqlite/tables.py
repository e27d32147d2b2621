"""The tables of a state folder's journal."""

from sqlalchemy import BigInteger, Column, Index, Integer, LargeBinary, MetaData, String, Table, Text

VERSION = 9
"""Version of these tables. A folder with a greater one was written by a newer program and is left alone."""

metadata = MetaData()
_KEY = BigInteger().with_variant(Integer, "sqlite")
"""In SQLite only a plain INTEGER is the number of the row itself."""

meta = Table("meta", metadata, Column("key", String, primary_key=True), Column("value", Text, nullable=False))

events = Table(
    "events",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("at_ms", BigInteger, nullable=False),
    Column("kind", String, nullable=False),
    Column("job", Integer),
    Column("body", Text, nullable=False),
    Column("script", BigInteger, nullable=False),
    Column("environment", BigInteger, nullable=False),
    Column("own_check", LargeBinary, nullable=False),
    Column("chain", LargeBinary, nullable=False),
)
"""``script`` and ``environment`` are keys of texts, 0 for none; for the checksums see :mod:`lazy_quarry.store.checks`."""
Index("events_of_job", events.c.job, sqlite_where=events.c.job.isnot(None))

texts = Table(
    "texts",
    metadata,
    Column("key", _KEY, primary_key=True),
    Column("body", Text, nullable=False),
)
"""Scripts and environments, each once, by a key that follows from the text."""

live = Table(
    "live",
    metadata,
    Column("job", _KEY, primary_key=True),
    Column("body", Text, nullable=False),
    Column("script", BigInteger, nullable=False),
    Column("environment", BigInteger, nullable=False),
    Column("own_check", LargeBinary, nullable=False),
)
"""The jobs that have not ended, as they were after the event that ``parts`` names; later events are applied to them."""

parts = Table("parts", metadata, Column("key", String, primary_key=True), Column("body", Text, nullable=False))
"""The rest of the state, and what the other tables must add up to."""

ended = Table(
    "ended",
    metadata,
    Column("job", _KEY, primary_key=True),
    Column("user", String, nullable=False),
    Column("account", String, nullable=False),
    Column("queue", String, nullable=False),
    Column("tier", String, nullable=False),
    Column("name", String, nullable=False),
    Column("phase", String, nullable=False),
    Column("submitted_ms", BigInteger, nullable=False),
    Column("started_ms", BigInteger),
    Column("ended_ms", BigInteger, nullable=False),
    Column("allocated_core_ms", BigInteger, nullable=False),
    Column("charge_core_ms", BigInteger, nullable=False),
    Column("cpu_ms", BigInteger, nullable=False),
    Column("first_start_ms", BigInteger),
    Column("waited_ms", BigInteger, nullable=False, server_default="0"),
    Column("cores", Integer, nullable=False, server_default="0"),
    Column("again_of", BigInteger, nullable=False, server_default="0"),
    Column("body", Text, nullable=False),
    Column("script", BigInteger, nullable=False),
    Column("environment", BigInteger, nullable=False),
    Column("own_check", LargeBinary, nullable=False),
)
Index("ended_again", ended.c.again_of, sqlite_where=ended.c.again_of > 0)
Index("ended_by_time", ended.c.ended_ms)
Index("ended_by_user", ended.c.user, ended.c.ended_ms)
Index("ended_by_name", ended.c.user, ended.c.name, ended.c.ended_ms)

sums = Table(
    "sums",
    metadata,
    Column("day_ms", BigInteger, primary_key=True),
    Column("account", String, primary_key=True),
    Column("user", String, primary_key=True),
    Column("queue", String, primary_key=True),
    Column("tier", String, primary_key=True),
    Column("name", String, primary_key=True),
    Column("jobs", Integer, nullable=False),
    Column("failed", Integer, nullable=False),
    Column("allocated_core_ms", BigInteger, nullable=False),
    Column("charge_core_ms", BigInteger, nullable=False),
    Column("cpu_ms", BigInteger, nullable=False),
    Column("lost_core_ms", BigInteger, nullable=False, server_default="0"),
    Column("lost_cpu_ms", BigInteger, nullable=False, server_default="0"),
    Column("asked_core_ms", BigInteger, nullable=False, server_default="0"),
    sqlite_with_rowid=False,
)
"""Amounts that attempts held, were charged and used on a UTC day, by all that jobs differ in; *lost*: of those that failed.

What was asked for is their cores for all of their walltime.
"""
