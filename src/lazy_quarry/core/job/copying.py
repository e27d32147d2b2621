"""A copy that is under way for a job: to the host that it starts on, or back from there."""

from typing import Literal

from msgspec import Struct


class Copying(Struct, frozen=True):
    """Its way, the bytes that were copied of all, and about how many seconds it still takes; None where that isn't known."""

    way: Literal["in", "out"]
    done: int
    total: int
    left_s: int | None = None
