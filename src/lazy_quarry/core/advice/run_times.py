"""Run times of jobs, from those before: runs of the same name and size first, and broader classes where these are too few."""

import math
from collections import deque
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

NEWEST = 200
"""Number of the newest runs of a class that are kept."""
FEWEST = 8
"""A class says something with so many runs that took longer than this one has run already; a name with half of them."""
MOST_CLASSES = 20_000

Seconds = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class RunKind:
    """The properties by which a run is known beforehand."""

    user: str
    name: str
    cores: int
    walltime_s: int


class _Class:
    """The newest runs of a class, in order of size when asked."""

    __slots__ = ("_sorted", "values")

    def __init__(self) -> None:
        self.values = deque[float](maxlen=NEWEST)
        self._sorted: Seconds | None = None

    def add(self, value: float) -> None:
        self.values.append(value)
        self._sorted = None

    def above(self, least: float) -> Seconds:
        if self._sorted is None:
            self._sorted = np.sort(np.array(self.values))
        return self._sorted[np.searchsorted(self._sorted, least, "right") :]


class RunTimes:
    """Learns run times and draws from them.

    Runs of one name are kept in seconds, those of broader classes as shares of their walltimes: what people ask for differs
    more than how far they are off.
    """

    def __init__(self) -> None:
        self._classes: dict[tuple, _Class] = {}

    def learn(self, kind: RunKind, seconds: float) -> None:
        """A run of this kind has taken so long, however it ended."""
        if len(self._classes) > MOST_CLASSES:
            self._classes.clear()
        for key, unit in _classes(kind):
            self._classes.setdefault(key, _Class()).add(max(0.0, seconds) / unit)

    def draw(self, kind: RunKind, elapsed_s: float, shares: Seconds) -> Seconds:
        """Run times in seconds that one which has run for ``elapsed_s`` may come to, none above its walltime.

        ``shares`` from 0 to 1 say which: 0 the shortest that is known, 1 the longest. Without any run to learn from, all that
        is left of its walltime is as likely.
        """
        walltime = float(kind.walltime_s)
        left = max(0.0, walltime - elapsed_s)
        for key, unit in _classes(kind):
            known = self._classes.get(key)
            if known is None:
                continue
            longer = known.above(elapsed_s / unit)
            if len(longer) >= (FEWEST if unit != 1.0 else FEWEST // 2):
                drawn: Seconds = longer[(shares * len(longer)).astype(np.int64)] * unit
                return np.clip(drawn, elapsed_s, max(walltime, elapsed_s))
        return elapsed_s + left * shares


def shares_of(seed: int, job: int, count: int) -> Seconds:
    """Shares to draw with, one from each ``count``-th part, in an order of chance; the same again for the same job."""
    chance = np.random.default_rng((seed, job))
    drawn: Seconds = (chance.permutation(count) + chance.random(count)) / count
    return drawn


def _classes(kind: RunKind) -> tuple[tuple[tuple, float], ...]:
    """The classes of a kind, the narrowest first, and the seconds that values of each are in units of."""
    size = int(math.log2(max(1, kind.cores)))
    asked = int(2 * math.log2(max(60, kind.walltime_s)))
    unit = float(max(1, kind.walltime_s))
    own = () if not kind.name else (((kind.user, kind.name, kind.cores), 1.0), ((kind.user, kind.name), 1.0))
    return (
        *own,
        (("user", kind.user, size, asked), unit),
        (("size", size, asked), unit),
        (("asked", asked), unit),
        (("all",), unit),
    )
