"""Run times of jobs, from those before: runs of the same name and size first, and broader classes where these are too few."""

import math
from collections import deque
from zlib import crc32

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

NEWEST = 200
"""Number of the newest runs of a class that are kept."""
FEWEST, FEWEST_OWN = 8, 4
"""A class says something with so many runs that took longer than this one has run already; a name with these."""
AS_MUCH = 12
"""Of a new name a class says as much as all broader ones together where it has so many runs, and with twice as many twice."""
SAMPLED = 256
"""Number of values that the runs of a class are thinned to, evenly, where it says all; less where it says less."""
OF_ONE_NAME = 4
"""Maximum number of runs of one name in a class of several: else a hundred equal jobs would say how long all others take."""
MOST_CLASSES = 20_000
ALIKE = 0.8
"""In so many of the draws all jobs of a name that is new take as long as each other."""

Seconds = NDArray[np.float64]
Classes = tuple[tuple[tuple, float], ...]
"""Classes of runs, the narrowest first, and the seconds that values of each are in units of."""


class RunKind(Struct, frozen=True):
    """The properties by which a run is known beforehand."""

    user: str
    name: str
    cores: int
    walltime_s: int


class _Class:
    """The newest runs of a class, in order of size when asked."""

    __slots__ = ("_names", "_sorted", "values")

    def __init__(self) -> None:
        self.values = deque[float]()
        self._names = deque[str]()
        self._sorted: Seconds | None = None

    def add(self, value: float, name: str) -> None:
        """Add a run; ``name`` is empty where all of them may have the same."""
        if name and self._names.count(name) >= OF_ONE_NAME:
            oldest = self._names.index(name)
        elif len(self.values) >= NEWEST:
            oldest = 0
        else:
            oldest = -1
        if oldest >= 0:
            del self.values[oldest], self._names[oldest]
        self.values.append(value)
        self._names.append(name)
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
        for classes, name in ((_own_classes(kind), ""), (_broader_classes(kind), _name_of(kind.user, kind.name))):
            for key, unit in classes:
                self._classes.setdefault(key, _Class()).add(max(0.0, seconds) / unit, name)

    def new_name(self, user: str, name: str) -> str:
        """The user and name where too few jobs of it have ended to say how long they take; empty else, and without a name."""
        known = self._classes.get((user, name))
        return "" if known and len(known.values) >= FEWEST_OWN else _name_of(user, name)

    def draw(self, kind: RunKind, elapsed_s: float, chance: "Chance", job: int) -> Seconds:
        """Run times in seconds that a job which has run for ``elapsed_s`` may come to, none above its walltime; one for each draw.

        Runs of its name say it where enough of them are known. If not, broader classes do. Of a job without a name the narrowest of
        which enough is known; of a new name all of them together, the narrower the more, and most of its jobs are supposed to take
        about the same, whatever that is: a hundred equal jobs that are new are long together or short together. Without any run to
        learn from, all that is left of its walltime is as likely.
        """
        shares = chance.of_job(job)
        drawn = self._of_narrowest(_own_classes(kind), FEWEST_OWN, elapsed_s, shares)
        if drawn is None and kind.name:
            drawn = self._of_all_broader(kind, elapsed_s, chance.of_kind((kind.user, kind.name), shares))
        elif drawn is None:
            drawn = self._of_narrowest(_broader_classes(kind), FEWEST, elapsed_s, shares)
        if drawn is None:
            drawn = elapsed_s + (kind.walltime_s - elapsed_s) * shares
        return np.clip(drawn, elapsed_s, max(float(kind.walltime_s), elapsed_s))

    def _of_narrowest(self, classes: Classes, fewest: int, elapsed_s: float, shares: Seconds) -> Seconds | None:
        """Of the narrowest class of which enough took longer; None where there is none."""
        for key, unit in classes:
            known = self._classes.get(key)
            if known is not None and len(longer := known.above(elapsed_s / unit)) >= fewest:
                drawn: Seconds = longer[(shares * len(longer)).astype(np.int64)] * unit
                return drawn
        return None

    def _of_all_broader(self, kind: RunKind, elapsed_s: float, shares: Seconds) -> Seconds:
        """The predictive distribution of a hierarchical Dirichlet process: a class, with a part of what is broader."""
        values, weights, rest = [], [], 1.0
        for key, unit in _broader_classes(kind):
            known = self._classes.get(key)
            if known is None:
                continue
            longer = known.above(elapsed_s / unit)
            said = rest * len(longer) / (len(longer) + AS_MUCH)
            count = min(len(longer), math.ceil(said * SAMPLED))
            if count:
                values.append(longer[_evenly(len(longer), count)] * unit)
                weights.append(np.full(count, said / count))
                rest -= said
        left = max(0.0, kind.walltime_s - elapsed_s)
        count = math.ceil(rest * SAMPLED)
        values.append(elapsed_s + left * (np.arange(count) + 0.5) / count)
        weights.append(np.full(count, rest / count))
        each = np.concatenate(values)
        order = each.argsort()
        reached = np.concatenate(weights)[order].cumsum()
        found: Seconds = each[order[np.searchsorted(reached[:-1], shares * reached[-1], "right")]]
        return found


class Chance:
    """Shares from 0 to 1 to draw run times with, so many for each job: 0 the shortest that is known, 1 the longest.

    They are spread evenly, one from each part, and the same again for the same job and the same ``seed``.
    """

    def __init__(self, seed: int, count: int) -> None:
        self.seed, self.count = seed, count
        self._kinds = dict[tuple[str, str], tuple[Seconds, NDArray[np.bool_]]]()

    def of_job(self, job: int) -> Seconds:
        """A job's own."""
        return self._spread(np.random.default_rng((self.seed, job)))

    def of_kind(self, kind: tuple[str, str], own: Seconds) -> Seconds:
        """The shares of a job whose name is new: in most draws those drawn for all that have it, in the others its own."""
        known = self._kinds.get(kind)
        if known is None:
            chance = np.random.default_rng((self.seed, crc32(repr(kind).encode("utf-8", "surrogatepass"))))
            known = self._kinds[kind] = self._spread(chance), chance.random(self.count) < ALIKE
        common, alike = known
        return np.where(alike, common, own)

    def _spread(self, chance: np.random.Generator) -> Seconds:
        spread: Seconds = (chance.permutation(self.count) + chance.random(self.count)) / self.count
        return spread


def _name_of(user: str, name: str) -> str:
    """A name together with whose it is; empty without a name."""
    return f"{user} {name}" if name else ""


def _own_classes(kind: RunKind) -> Classes:
    """The classes of its name alone."""
    return (((kind.user, kind.name, kind.cores), 1.0), ((kind.user, kind.name), 1.0)) if kind.name else ()


def _broader_classes(kind: RunKind) -> Classes:
    """The classes of runs of any name."""
    size = int(math.log2(max(1, kind.cores)))
    asked = int(2 * math.log2(max(60, kind.walltime_s)))
    unit = float(max(1, kind.walltime_s))
    user = ((("user", kind.user, size, asked), unit),) if kind.user else ()
    return (*user, (("size", size, asked), unit), (("asked", asked), unit), (("all",), unit))


def _evenly(length: int, count: int) -> NDArray[np.int64]:
    """So many places of a row of this length, evenly spread."""
    found: NDArray[np.int64] = ((np.arange(count) + 0.5) * length / count).astype(np.int64)
    return found
