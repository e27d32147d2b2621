"""A table of the state that knows what of it has changed, so that only that is written."""

from typing import Any


class Tracked(dict[Any, Any]):
    """A dictionary that knows which of its entries were changed since somebody last cleared ``changed``."""

    def __init__(self, *entries: Any) -> None:
        super().__init__(*entries)
        self.changed: set[Any] = set()

    def __setitem__(self, key: Any, value: Any) -> None:
        super().__setitem__(key, value)
        self.changed.add(key)

    def __delitem__(self, key: Any) -> None:
        super().__delitem__(key)
        self.changed.add(key)
