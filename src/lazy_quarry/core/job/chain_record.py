"""A chain as the journal knows it: its jobs by name, with their numbers and what each waits for."""

from msgspec import Struct

from lazy_quarry.core.values import replace


class ChainPart(Struct, frozen=True):
    """A job of a chain: its number, 0 until it is submitted, and the others that it waits for, as (name, condition)."""

    name: str
    after: tuple[tuple[str, str], ...]
    job: int = 0
    earlier: tuple[int, ...] = ()
    """Its numbers before the chain was continued."""


_places: dict[tuple[int, str, int], dict[str, int]] = {}
"""Where the jobs of the chains stand that are being put together: each would else be looked for among thousands."""
_MOST_PLACES = 8


class ChainRecord(Struct, frozen=True):
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

    def place(self, name: str) -> int | None:
        """Where one of its jobs stands among them; None for none."""
        key = self.number, self.name, len(self.parts)
        place = _places.get(key, {}).get(name)
        if place is not None and self.parts[place].name == name:
            return place
        if len(_places) >= _MOST_PLACES:
            _places.clear()
        _places[key] = {one.name: at for at, one in enumerate(self.parts)}
        return _places[key].get(name)

    def linked(self, name: str, job: int) -> "ChainRecord":
        """With the number of one of its jobs; one that it had before is kept as earlier."""
        place = self.place(name)
        if place is None:
            return self
        one = self.parts[place]
        now = replace(one, job=job, earlier=(*one.earlier, one.job) if one.job else one.earlier)
        return replace(self, parts=(*self.parts[:place], now, *self.parts[place + 1 :]))

    @property
    def missing(self) -> tuple[str, ...]:
        """Its jobs that were never submitted: it was taken in by halves."""
        return tuple(one.name for one in self.parts if not one.job)

    @property
    def waits(self) -> dict[str, tuple[tuple[str, str], ...]]:
        """The conditions of each of its jobs on others within it."""
        return {one.name: tuple(each for each in one.after if not each[0].isdecimal()) for one in self.parts}
