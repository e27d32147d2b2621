"""Records of jobs as a table in Apache Parquet, for analysis; this needs the extra ``parquet``."""

from collections.abc import Sequence
from io import BytesIO
from typing import Any

from msgspec.structs import fields

from lazy_quarry.core.ledger.job_record import JobRecord
from lazy_quarry.errors import QuarryError

INSTANTS = ("submitted_ms", "started_ms", "ended_ms")
"""They become columns of instants (UTC, in ms), without the unit in their names."""


def job_table(records: Sequence[JobRecord]) -> bytes:
    """A file with a row for each, its columns named as the fields. Raises :class:`QuarryError` without the extra."""
    try:
        import pyarrow as pa  # only who writes such a table pays for it
        import pyarrow.parquet as pq
    except ImportError:
        raise QuarryError("Parquet needs the extra: pip install 'lazy-quarry[parquet]'") from None
    columns: dict[str, Any] = {}
    for one in fields(JobRecord):
        values = [getattr(record, one.name) for record in records]
        if one.name in INSTANTS:
            columns[one.name.removesuffix("_ms")] = pa.array(values, pa.timestamp("ms", tz="UTC"))
        elif one.name == "nodes":
            columns[one.name] = pa.array([list(value) for value in values], pa.list_(pa.string()))
        elif one.name in ("name", "user", "account", "queue", "tier", "state", "signal"):
            columns[one.name] = pa.array(values, pa.string())
        else:
            columns[one.name] = pa.array(values, pa.int64())
    found = BytesIO()
    pq.write_table(pa.table(columns), found, compression="zstd")
    return found.getvalue()
