"""A table of the state that knows what of it has changed, so that only that is written."""

from typing import Any, TypeVar

_Key = TypeVar("_Key")
_Value = TypeVar("_Value")


class Tracked(dict[_Key, _Value]):
    """A dictionary that knows which of its entries were changed since somebody last cleared ``changed``."""

    def __init__(self, *entries: Any) -> None:
        super().__init__(*entries)
        self.changed: set[_Key] = set()

    def __setitem__(self, key: _Key, value: _Value) -> None:
        super().__setitem__(key, value)
        self.changed.add(key)

    def __delitem__(self, key: _Key) -> None:
        super().__delitem__(key)
        self.changed.add(key)
