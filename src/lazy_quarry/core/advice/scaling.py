"""Scaling of a computation: speed-up and efficiency by cores, and growth of its time with its input.

By cores the law is Amdahl's (1967): a part s of the work is serial, the rest is divided, so that on n cores it takes
t₁·(s + (1 − s)/n). By input size it is a power law. Both are fitted by least squares of the logarithms of the times (SciPy).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log, sqrt
from statistics import median

from lazy_quarry.core.advice.straight_line import line_through
from lazy_quarry.core.units import plural

LEAST_COUNTS = 3
"""Core counts from which on a fit is worth something."""


WIDE = 0.5
"""Standard error of the serial share from which on the runs say nothing of it."""


@dataclass(frozen=True, slots=True)
class ScalingPoint:
    """Runs on so many cores: the median of their seconds, the speed-up over one core and the efficiency, as fitted or measured."""

    cores: int
    seconds: float
    speedup: float
    efficiency: float
    runs: int


@dataclass(frozen=True, slots=True)
class AmdahlFit:
    """The serial part with its standard error, and the seconds that one core takes."""

    serial: float
    serial_error: float
    one_core_s: float


@dataclass(frozen=True, slots=True)
class Scaling:
    """All of it. ``half_at``: the greatest core count up to which a further core does at least half its work; None: none seen."""

    points: tuple[ScalingPoint, ...]
    fit: AmdahlFit | None
    half_at: int | None
    few: bool
    advice: str


@dataclass(frozen=True, slots=True)
class PowerLaw:
    """Seconds are about ``factor`` × size to the ``power``; from how many runs, with the parts of their covariance."""

    factor: float
    power: float
    power_error: float
    runs: int
    deviation: float
    middle: float
    across: float

    def at(self, size: float) -> tuple[float, float, float]:
        """Seconds for a size: the middle, and between which two a further run lies 8 times in 10 (a prediction interval)."""
        from scipy.special import stdtrit

        along = log(size) - self.middle
        spread = self.deviation * sqrt(1 + 1 / self.runs + along * along / self.across)
        quantile = float(stdtrit(self.runs - 2, 0.9))
        middle = log(self.factor) + self.power * log(size)
        return exp(middle - quantile * spread), exp(middle), exp(middle + quantile * spread)


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
    fit = _fitted([(cores, seconds) for cores, some in known.items() for seconds in some]) if len(counts) > 1 else None
    one = fit.one_core_s if fit else median(known[counts[0]]) * counts[0]
    points = []
    for cores in counts:
        seconds = median(known[cores])
        points.append(ScalingPoint(cores, seconds, one / seconds, one / seconds / cores, len(known[cores])))
    few = len(counts) < LEAST_COUNTS
    half = _half_at(fit) if fit else None
    return Scaling(tuple(points), fit, half, few, _advice(counts, fit, half, few))


def _fitted(runs: Sequence[tuple[int, float]]) -> AmdahlFit | None:
    from scipy.optimize import least_squares

    first = max(runs, key=lambda one: one[1])
    start = [0.05, log(first[1] * first[0])]

    def wrong(guess: Sequence[float]) -> list[float]:
        serial, one = guess
        return [log(seconds) - one + log(amdahl(serial, cores)) for cores, seconds in runs]

    found = least_squares(wrong, start, bounds=([0.0, -50.0], [1.0, 50.0]))
    serial, one = float(found.x[0]), float(found.x[1])
    error, free = 1.0, len(runs) - 2
    if free > 0:
        from numpy.linalg import LinAlgError, inv

        try:
            covariance = inv(found.jac.T @ found.jac) * (2 * found.cost / free)
            error = sqrt(max(0.0, float(covariance[0][0])))
        except LinAlgError:
            error = 1.0
    return AmdahlFit(serial, min(1.0, error), exp(one))


def _half_at(fit: AmdahlFit) -> int | None:
    """Up to how many cores a further one adds at least half of what the first one did."""
    if fit.serial <= 1e-6:
        return None
    cores = 1
    while cores < 1 << 16:
        if amdahl(fit.serial, cores + 1) - amdahl(fit.serial, cores) < 0.5:
            return cores
        cores += 1
    return None


def _advice(counts: Sequence[int], fit: AmdahlFit | None, half: int | None, few: bool) -> str:
    if fit is None:
        return f"All runs had {plural(counts[0], 'core')}; runs with other core counts would tell how it scales."
    if fit.serial_error >= WIDE:
        return "Too few core counts to tell how much of its work is serial; runs with others would."
    words = f"About {100 * fit.serial:.1f} % of its work is serial (± {100 * fit.serial_error:.1f})"
    if half is None or half >= 4 * counts[-1]:
        words += f", and up to {plural(counts[-1], 'core')} nearly all of them work"
    else:
        words += f"; beyond {plural(half, 'core')} each further core does less than half its work"
    return f"{words}. There are few core counts to tell from." if few else f"{words}."


def power_law(runs: Sequence[tuple[float, float]]) -> PowerLaw | None:
    """Fit the growth of seconds with size, from runs as (size, seconds); None for fewer than three, or of fewer than two sizes."""
    line = line_through([(log(size), log(seconds)) for size, seconds in runs if size > 0 and seconds > 0])
    if line is None or line.count < 3:
        return None
    deviation = sqrt(line.rest / (line.count - 2))
    return PowerLaw(exp(line.at(0.0)), line.slope, line.error, line.count, deviation, line.middle, line.across)
