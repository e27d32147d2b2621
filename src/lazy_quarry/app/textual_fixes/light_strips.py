"""Lines whose stores of what was worked out of them are made when something goes there.

Every line that is drawn has seven such stores, most of them never used: to make them took a fifth of the time of drawing a place.
"""

from collections.abc import Iterable
from typing import Any

from rich.segment import Segment
from textual.cache import FIFOCache
from textual.strip import Strip


def lighten_strips() -> None:
    """Have Textual's lines begin without stores; more than once does no harm."""
    if hasattr(Strip, "__getattr__"):
        return
    first = Strip([])
    fields = {name: getattr(first, name) for name in Strip.__slots__}
    sizes = {name: value._maxsize for name, value in fields.items() if isinstance(value, FIFOCache)}
    unknown = [name for name in fields if name not in sizes and name not in ("_segments", "_cell_length")]

    def begin(self: Strip, segments: Iterable[Segment], cell_length: int | None = None) -> None:
        self._segments = list(segments)
        self._cell_length = cell_length
        for name in unknown:
            setattr(self, name, None)

    def missing(self: Strip, name: str) -> Any:
        if name not in sizes:
            raise AttributeError(name)
        store = FIFOCache[Any, Any](sizes[name])
        setattr(self, name, store)
        return store

    Strip.__init__ = begin  # type: ignore[method-assign]
    Strip.__getattr__ = missing  # type: ignore[attr-defined]
