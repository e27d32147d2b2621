"""The machine that an attempt ran on, as a paper names it."""

from msgspec import Struct


class Host(Struct, frozen=True):
    """Its name, its kernel with version, its kind of processor, and how limits were kept there.

    ``limits``: ``groups`` by control groups, ``watched``; empty where that wasn't recorded. ``version`` and ``python`` are of our
    program on a host that is another machine than the engine's.
    """

    name: str
    kernel: str
    processor: str = ""
    limits: str = ""
    version: str = ""
    python: str = ""

    @property
    def words(self) -> str:
        """All of that, for people."""
        kept = {"groups": "limits by control groups", "watched": "limits by watching"}.get(self.limits, "")
        ours = f"Lazy Quarry {self.version} on Python {self.python}" if self.version else ""
        return ", ".join(word for word in (self.name, self.kernel, self.processor, kept, ours) if word)
