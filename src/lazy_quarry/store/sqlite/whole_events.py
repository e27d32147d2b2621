"""The events of a journal that are whole, read straight from the pages of its files."""

from pathlib import Path

from msgspec import Struct

from lazy_quarry.store.codec import text_key
from lazy_quarry.store.rows import Texts, ended_is_whole, is_whole
from lazy_quarry.store.sqlite.raw_pages import RawPages, Value
from lazy_quarry.store.storage import EndedRow, EventRow

_VALUES = 9
_META = ("identity", "adopted", "path", "inode")


class Found(Struct):
    """The whole parts of a journal: events by number, rows of ended jobs by job, texts; and its own description."""

    events: dict[int, EventRow]
    ended: dict[int, EndedRow]
    texts: Texts
    meta: dict[str, str]
    """The journal's own words on itself; of a name that was written several times, any of the values."""

    @property
    def identity(self) -> str:
        """The journal's mark, which no other has, or empty."""
        return self.meta.get("identity", "")


def whole_events(folder: Path) -> Found:
    """All that is whole of a journal."""
    found: dict[int, EventRow] = {}
    jobs: dict[int, EndedRow] = {}
    texts, meta = Texts(), dict[str, str]()
    kept: dict[int, str] = {}
    for row, values in RawPages(folder / "journal.db").rows():
        if len(values) == _VALUES and (event := _event(row, values)):
            found[event.number] = event
        elif len(values) == len(EndedRow._fields) and (job := _ended(row, values)):
            jobs[row] = job
        elif len(values) == 2 and isinstance(values[1], str):
            if values[0] is None and text_key(values[1]) == row:
                kept[row] = values[1]
            elif values[0] in _META:
                meta[str(values[0])] = values[1]
    texts.add(kept)
    return Found(found, jobs, texts, meta)


def _ended(job: int, values: list[Value]) -> EndedRow | None:
    row = EndedRow(job, *values[1:])  # type: ignore[arg-type]
    return row if isinstance(row.own_check, bytes) and ended_is_whole(row) else None


def _event(number: int, values: list[Value]) -> EventRow | None:
    try:
        row = EventRow(number, *values[1:])  # type: ignore[arg-type]
        return row if isinstance(row.own_check, bytes) and is_whole(row) else None
    except (TypeError, ValueError):
        return None
