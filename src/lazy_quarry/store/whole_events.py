"""The events of a journal that are whole, read straight from the pages of its files."""

from pathlib import Path

from lazy_quarry.store.codec import text_key
from lazy_quarry.store.raw_pages import RawPages, Value
from lazy_quarry.store.rows import Texts, is_whole
from lazy_quarry.store.storage import EventRow

_VALUES = 9


def whole_events(folder: Path) -> tuple[dict[int, EventRow], Texts, str]:
    """All events of a journal that are whole, by number; the texts that are there; and its identity, or empty."""
    found: dict[int, EventRow] = {}
    texts, identity = Texts(), ""
    texts.MOST = 10**9
    kept: dict[int, str] = {}
    for row, values in RawPages(folder / "journal.db").rows():
        if len(values) == _VALUES and (event := _event(row, values)):
            found[event.number] = event
        elif len(values) == 2 and isinstance(values[1], str):
            if values[0] is None and text_key(values[1]) == row:
                kept[row] = values[1]
            elif values[0] == "identity":
                identity = values[1]
    texts.add(kept)
    return found, texts, identity


def _event(number: int, values: list[Value]) -> EventRow | None:
    try:
        row = EventRow(number, *values[1:])  # type: ignore[arg-type]
        return row if isinstance(row.own_check, bytes) and is_whole(row) else None
    except (TypeError, ValueError):
        return None
