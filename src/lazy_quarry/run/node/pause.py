"""Waiting, in one way for all that runs on a node."""

from __future__ import annotations

import select


def pause(seconds: float) -> None:
    """Wait so long, by select(2): to sleep until an instant fails where a library gives a program another clock."""
    select.select((), (), (), seconds)
