"""The findings of each condition of a search by itself, where all together find nothing."""

from datetime import UTC, tzinfo
from typing import Protocol

from lazy_quarry.core.search.query import parts_of
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.outcomes import Found

MOST_PARTS, MOST_COUNTED = 6, 1000


class Searching(Protocol):
    """Whatever searches."""

    def search(
        self, where: str, ended: bool = False, everyone: bool = False, sort: str = "", limit: int = 100, offset: int = 0
    ) -> Found:
        """Jobs that meet a search."""
        ...


def parts_words(client: Searching, where: str, everyone: bool, now_ms: int, zone: tzinfo = UTC) -> str:
    """``overtime finds 12, last month 143, "surge" nothing``; empty for a single condition, or one that can't be read."""
    try:
        parts = parts_of(where, now_ms, zone)
        if not 1 < len(parts) <= MOST_PARTS:
            return ""
        found = [client.search(part, True, everyone, "", MOST_COUNTED) for part in parts]
    except QuarryError:
        return ""
    told = []
    for part, one in zip(parts, found, strict=True):
        count = f"{len(one.jobs):,}{' and more' if one.more else ''}" if one.jobs else "nothing"
        told.append(f"{part} finds {count}")
    return ", ".join(told)
