"""A search's view of the index of ended jobs, whatever keeps it.

It follows from the journal: it may be removed at any time and is made anew. Only the kept ends of what jobs printed are nowhere
else.
"""

from collections.abc import Iterable, Sequence
from typing import Protocol

from msgspec import Struct

from lazy_quarry.core.search.facts import Facts
from lazy_quarry.core.search.query import Order, Query


class IndexEntry(Struct, frozen=True):
    """A job that has ended, as it is searched: its facts, its script with the key of that text, the end of what it printed."""

    facts: Facts
    key: int
    script: str
    printed: str = ""


class SearchIndex(Protocol):
    """Finds jobs that have ended. It may be behind the journal; ``mark`` says how far it has come."""

    made_anew: int
    """Number of times it was made anew: all is to be put in again."""

    def mark(self) -> int:
        """The instant in ms up to which ended jobs are in it."""
        ...

    def missing(self, jobs: Sequence[int]) -> set[int]:
        """Jobs of these that are not in it."""
        ...

    def add(self, entries: Iterable[IndexEntry], mark: int) -> None:
        """Put jobs in; arrays after their tasks, whose sums they take."""
        ...

    def go_back(self, mark: int) -> None:
        """Jobs that ended since then may be missing."""
        ...

    def find(self, query: Query, order: Order | None, limit: int, offset: int) -> list[int]:
        """Numbers of jobs that meet a search, in an order; without one, those that ended last come first."""
        ...

    def forget_printed(self, before_ms: int) -> None:
        """Drop the ends of what was printed by jobs that ended before an instant."""
        ...

    def close(self) -> None:
        """Close the files."""
        ...
