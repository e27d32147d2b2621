"""A table of which it is known what has changed since when."""

from collections.abc import Iterator
from typing import Generic, TypeVar

_Key = TypeVar("_Key")
_Value = TypeVar("_Value")
MOST_GONE = 10_000


class Stamped(Generic[_Key, _Value]):
    """Values by key, each with the stamp of its last change; stamps grow."""

    def __init__(self) -> None:
        self.values: dict[_Key, _Value] = {}
        self.floor = 0
        """Stamp up to which it isn't known any more which keys went."""
        self._stamps: dict[_Key, int] = {}
        """Stamps of all keys that were ever there, the newest change last."""

    def put(self, key: _Key, value: _Value, stamp: int) -> None:
        """Set a value, unless it is that already."""
        if self.values.get(key) != value:
            self.values[key] = value
            self._stamp(key, stamp)

    def drop(self, key: _Key, stamp: int) -> None:
        """Remove a key, if it is there."""
        if self.values.pop(key, None) is not None:
            self._stamp(key, stamp)
            if len(self._stamps) > len(self.values) + MOST_GONE:
                self.floor = stamp
                self._stamps = {known: at for known, at in self._stamps.items() if known in self.values}

    def _stamp(self, key: _Key, stamp: int) -> None:
        self._stamps.pop(key, None)
        self._stamps[key] = stamp

    def since(self, stamp: int) -> Iterator[_Key]:
        """The keys that were changed or dropped after a stamp, the last one first."""
        for key, at in reversed(self._stamps.items()):
            if at <= stamp:
                return
            yield key
