"""The machine that an attempt ran on, as a paper names it."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Host:
    """Its name, its kernel with version, its kind of processor."""

    name: str
    kernel: str
    processor: str = ""
