"""Tasks of an array that are alike, as values: those that failed for one cause, and those unlike the rest."""

from msgspec import Struct

Parameters = tuple[tuple[str, str], ...]


class Cause(Struct, frozen=True):
    """Tasks that failed alike: how, how many, the values that they share, whether all with these values failed so, some of them."""

    how: str
    count: int
    of: int
    shared: tuple[tuple[str, tuple[str, ...]], ...]
    every: bool
    labels: tuple[str, ...]

    @property
    def words(self) -> str:
        """``8 of 40: over its memory, all with grid=fine``."""
        told = f"{self.count:,} of {self.of:,}: {self.how}"
        if not self.shared:
            return told
        values = " and ".join(f"{name}={' or '.join(some)}" for name, some in self.shared)
        return f"{told}, all with {values}" + (", and none with it did better" if self.every else "")


class Outlier(Struct, frozen=True):
    """A task that is unlike the rest in one measure: its value and the median of all."""

    label: str
    parameters: Parameters
    measure: str
    value: int
    usual: float
