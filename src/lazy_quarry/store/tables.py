"""The tables of a state folder's journal."""

from sqlalchemy import BigInteger, Column, Index, Integer, MetaData, String, Table, Text

VERSION = 3
"""Of these tables. A folder with a greater one was written by a newer program and is left alone."""

metadata = MetaData()

meta = Table("meta", metadata, Column("key", String, primary_key=True), Column("value", Text, nullable=False))

events = Table(
    "events",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("at_ms", BigInteger, nullable=False),
    Column("kind", String, nullable=False),
    Column("job", Integer),
    Column("body", Text, nullable=False),
)
Index("events_of_job", events.c.job, sqlite_where=events.c.job.isnot(None))

snapshots = Table(
    "snapshots",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("body", Text, nullable=False),
)

ended = Table(
    "ended",
    metadata,
    Column("job", Integer, primary_key=True),
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
    Column("body", Text, nullable=False),
)
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
)
