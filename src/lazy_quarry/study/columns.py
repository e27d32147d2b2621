"""The jobs of a trace as columns, as the policies read them."""

from collections.abc import Callable

from msgspec import Struct, field

Progress = Callable[[int], None]
"""Hears now and then how many jobs have been started."""


class Columns(Struct, frozen=True):
    """The jobs of a trace: a list for each column."""

    submit: list[float]
    run: list[float]
    walltime: list[float]
    cores: list[int]
    programs: list[tuple[int, int]] = field(default_factory=list)
    """User and program of each job, by numbers, -1 where they aren't known; nothing at all where nobody asks."""
