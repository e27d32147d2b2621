"""A chain as the journal knows it: its jobs by name, with their numbers and what each waits for."""

from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class ChainPart:
    """A job of a chain: its number, 0 until it is submitted, and the others that it waits for, as (name, condition)."""

    name: str
    after: tuple[tuple[str, str], ...]
    job: int = 0
    earlier: tuple[int, ...] = ()
    """Its numbers before the chain was continued."""


@dataclass(frozen=True, slots=True)
class ChainRecord:
    """A chain that was submitted. ``source`` is its file's text, ``path`` where that lies."""

    number: int
    name: str
    user: str
    at_ms: int
    parts: tuple[ChainPart, ...]
    source: str = ""
    path: str = ""
    folder: str = ""
    settings: tuple[str, ...] = ()

    def linked(self, name: str, job: int) -> "ChainRecord":
        """With the number of one of its jobs; one that it had before is kept as earlier."""
        parts = tuple(
            replace(one, job=job, earlier=(*one.earlier, one.job) if one.job else one.earlier)
            if one.name == name
            else one
            for one in self.parts
        )
        return replace(self, parts=parts)

    @property
    def missing(self) -> tuple[str, ...]:
        """Its jobs that were never submitted: it was taken in by halves."""
        return tuple(one.name for one in self.parts if not one.job)

    @property
    def waits(self) -> dict[str, tuple[tuple[str, str], ...]]:
        """What each of its jobs waits for within it."""
        return {one.name: tuple(each for each in one.after if not each[0].isdecimal()) for one in self.parts}
