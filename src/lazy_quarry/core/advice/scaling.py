"""Scaling of a computation by cores: speed-up and efficiency.

The law is Amdahl's (1967): a part s of the work is serial, the rest is divided, so that on n cores it takes t₁·(s + (1 − s)/n).
All parts s are held against the runs (:mod:`.law_fits`), so that what is told has its range.
"""

from collections.abc import Sequence
from math import exp, log, sqrt
from statistics import median
from typing import TYPE_CHECKING

from msgspec import Struct

from lazy_quarry.core.units import plural
from lazy_quarry.core.values import replace

if TYPE_CHECKING:
    from lazy_quarry.core.advice.law_fits import LawFits, Numbers

LEAST_COUNTS = 3
"""Core counts from which on a fit is worth something."""
WIDE = 0.5
"""Width of the range of the serial part from which on the runs say nothing of it."""
PULLS, FAR_OFF = 0.05, 0.1
"""Runs on one core count pull at the law where chance puts them so far from it less often than this, and so far in logarithms."""
NOT_EXCLUDED = 0.44
"""That nothing is serial is in the range where it is so likely, in times of what fits best (a likelihood ratio of 8 in 10)."""
MOST_CORES = 1 << 16


class ScalingPoint(Struct, frozen=True):
    """Runs on so many cores: the median of their seconds, the speed-up over one core and the efficiency, as fitted or measured."""

    cores: int
    seconds: float
    speedup: float
    efficiency: float
    runs: int


class AmdahlFit(Struct, frozen=True):
    """The serial part that fits best, between which two it lies 8 times in 10, and the seconds that one core takes."""

    serial: float
    serial_low: float
    serial_high: float
    one_core_s: float


class Pull(Struct, frozen=True):
    """Runs on a core count that lie apart from the law of all others: they took ``times`` as long."""

    cores: int
    times: float


class Scaling(Struct, frozen=True):
    """All of it.

    ``half_at``: the greatest core count up to which a further core does at least half its work, with its range; None: none seen.
    """

    points: tuple[ScalingPoint, ...]
    fit: AmdahlFit | None
    half_at: int | None
    half_range: tuple[int | None, int | None]
    few: bool
    pulls: tuple[Pull, ...]
    advice: str


def amdahl(serial: float, cores: float) -> float:
    """The speed-up on so many cores."""
    return 1 / (serial + (1 - serial) / cores)


def scaling(runs: Sequence[tuple[int, float]]) -> Scaling | None:
    """From runs as (cores, seconds); None without any."""
    known: dict[int, list[float]] = {}
    for cores, seconds in runs:
        if cores > 0 and seconds > 0:
            known.setdefault(cores, []).append(seconds)
    if not known:
        return None
    counts = sorted(known)
    fit = _fitted(known) if len(counts) > 1 else None
    one = fit.one_core_s if fit else median(known[counts[0]]) * counts[0]
    points = []
    for cores in counts:
        seconds = median(known[cores])
        points.append(ScalingPoint(cores, seconds, one / seconds, one / seconds / cores, len(known[cores])))
    half = half_at(fit.serial) if fit else None
    half_range = (half_at(fit.serial_high), half_at(fit.serial_low)) if fit else (None, None)
    found = Scaling(tuple(points), fit, half, half_range, len(counts) < LEAST_COUNTS, _pulls(known), "")
    return replace(found, advice=_advice(found))


def _laws_of(known: dict[int, list[float]]) -> "tuple[Numbers, LawFits]":
    """The serial parts that are held against runs, and how well each fits."""
    import numpy as np

    from lazy_quarry.core.advice.law_fits import fits_of

    serial = np.concatenate((np.linspace(0.0, 1.0, 1001) ** 2, 10 ** np.linspace(-5, -3, 60)))
    pairs = [(cores, seconds) for cores, some in known.items() for seconds in some]
    cores = np.array([one for one, _ in pairs], dtype=float)
    laws = np.log(serial[:, None] + (1 - serial[:, None]) / cores)
    return serial, fits_of(laws, [log(seconds) for _, seconds in pairs])


def _fitted(known: dict[int, list[float]]) -> AmdahlFit:
    from lazy_quarry.core.advice.law_fits import EIGHT_IN_TEN

    serial, fits = _laws_of(known)
    low, high = (fits.quantile(serial, share) for share in EIGHT_IN_TEN)
    best = float(serial[fits.best])
    if fits.weights[0] > NOT_EXCLUDED * fits.weights.max():
        low, high = 0.0, fits.quantile(serial, EIGHT_IN_TEN[1] - EIGHT_IN_TEN[0])
    return AmdahlFit(best, min(low, best), max(high, best), exp(float(fits.level[fits.best])))


def half_at(serial: float) -> int | None:
    """The cores up to which a further one adds at least half of what the first one did; None where that goes on."""
    if serial <= 1e-6:
        return None
    cores = 1
    while cores < MOST_CORES:
        if amdahl(serial, cores + 1) - amdahl(serial, cores) < 0.5:
            return cores
        cores += 1
    return None


def _pulls(known: dict[int, list[float]]) -> tuple[Pull, ...]:
    """The core count without which the law fits best, where its runs lie apart from it and there are enough others to tell."""
    from scipy.special import stdtrit

    found = []
    for cores, some in known.items():
        others = {other: runs for other, runs in known.items() if other != cores}
        if len(others) >= LEAST_COUNTS:
            serial, fits = _laws_of(others)
            part = float(serial[fits.best])
            apart = log(median(some)) - log(part + (1 - part) / cores) - float(fits.level[fits.best])
            free, deviation = fits.runs - 2, float(fits.deviation[fits.best])
            by_chance = float(stdtrit(free, 1 - PULLS / 2 / len(known))) * deviation * sqrt((fits.runs - 1) / free * 2)
            found.append((deviation, abs(apart) > max(FAR_OFF, by_chance), Pull(cores, exp(apart))))
    return tuple(pull for _, far, pull in sorted(found, key=lambda one: one[0])[:1] if far)


def _advice(found: Scaling) -> str:
    fit, counts = found.fit, [point.cores for point in found.points]
    if fit is None:
        return f"All runs had {plural(counts[0], 'core')}; runs with other core counts would tell how it scales."
    if fit.serial_high - fit.serial_low >= WIDE:
        return "Too few core counts to tell how much of its work is serial; runs with others would."
    low, high = 100 * fit.serial_low, 100 * fit.serial_high
    words = f"About {100 * fit.serial:.1f} % of its work is serial (8 times in 10 between {low:.1f} and {high:.1f} %)"
    half, (least, most) = found.half_at, found.half_range
    if half is None or half >= 4 * counts[-1]:
        words += f", and up to {plural(counts[-1], 'core')} nearly all of them work"
    else:
        between = "" if least == most else f" ({least} to {most})" if most is not None else f" ({least} or more)"
        words += f"; beyond {plural(half, 'core')}{between} each further core does less than half its work"
    words = f"{words}. There are few core counts to tell from." if found.few else f"{words}."
    for pull in found.pulls:
        words += f" Its runs on {plural(pull.cores, 'core')} took {pull.times:.2g} times what the others suggest, and pull at this."
    return words
