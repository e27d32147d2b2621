"""The next request, from all comparable runs: bounds that a further run stays below, but for one in fifty.

A bound for a further run is a *prediction bound*: with n earlier runs whose logarithms have mean m and deviation s it is
exp(m + t·s·√(1 + 1/n)), where t is Student's quantile with n − 1 degrees of freedom (Hahn & Meeker, *Statistical Intervals*,
1991, section 4.2). From sixty runs on it is the greatest of them, which a further one passes once in n + 1 times. Below ten
the advice is bolder than that: a bound that keeps the promise would ask for more than anybody asks for.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil, exp, log, sqrt

from lazy_quarry.core.advice.found_value import number_in
from lazy_quarry.core.advice.straight_line import line_through

MISS = 0.02
"""Share of further runs that may pass the bound."""
FEW, MANY = 10, 60
"""From so many runs on the promise holds; from so many the greatest of them says enough."""
LEAST_MARGIN, FAILED_MARGIN = 1.1, 1.3
"""A bound is so much above the greatest run, and so much above what was seen to fail."""
LEAST_GROWTH, ALIKE = 0.25, 0.7
"""A power below which nothing is said to grow, and the correlation from which on it is."""


@dataclass(frozen=True, slots=True)
class RunToLearnFrom:
    """A run of the past: seconds it took, memory in MiB for each core, cores held and kept busy; what was asked for of each.

    ``late`` and ``full`` are runs that were stopped at their walltime, or for their memory: they needed more than they have here.
    """

    took_s: float
    memory_mib: float
    cores: int
    busy: float
    walltime_s: int
    requested_mib: float
    late: bool = False
    full: bool = False
    parameters: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Growth:
    """A measure grows with a parameter: about as its ``power``-th power. ``at`` is the value that the bound is for."""

    parameter: str
    power: float
    at: float


@dataclass(frozen=True, slots=True)
class LeastAmount:
    """A bound for a further run: from how many runs, their least and greatest, and the size that it grows with."""

    value: float
    runs: int
    least: float
    most: float
    growth: Growth | None = None
    above_failed: bool = False
    """It is this high for what was seen to fail."""
    only_failed: bool = False
    """No run had enough; the least and greatest are what they had."""


def bound_of(
    values: Sequence[float],
    failed: Sequence[float] = (),
    parameters: Sequence[tuple[tuple[str, str], ...]] = (),
    ahead: Sequence[tuple[tuple[str, str], ...]] = (),
) -> LeastAmount | None:
    """The bound for further runs; None without any run.

    ``values`` are of runs that came to their end, ``failed`` what others had when it was not enough. ``parameters`` are those of
    the values, one for each; ``ahead`` those of the runs to come, all of which the bound is for.
    """
    known = [max(value, 1e-9) for value in values]
    if not known and not failed:
        return None
    if not known:
        most = max(failed)
        return LeastAmount(2 * most, len(failed), min(failed), most, above_failed=True, only_failed=True)
    growth = _growth(known, parameters, ahead) if len(parameters) == len(known) else None
    rest = [value / _scale(own, growth) for value, own in zip(known, parameters, strict=True)] if growth else known
    found = _bound(rest, max(1, len(ahead))) * (growth.at**growth.power if growth else 1.0)
    reached = max(failed, default=0.0) * FAILED_MARGIN
    return LeastAmount(max(found, reached), len(known) + len(failed), min(known), max(known), growth, reached > found)


def _bound(values: Sequence[float], ahead: int) -> float:
    from scipy.special import stdtrit

    count, most = len(values), max(values)
    if count >= MANY and ahead == 1:
        return most * 1.02
    cap = most * (1 + 3 / (count + 1))
    if count < 2:
        return cap
    logs = [log(value) for value in values]
    mean = sum(logs) / count
    deviation = sqrt(sum((one - mean) ** 2 for one in logs) / (count - 1))
    quantile = float(stdtrit(count - 1, 1 - MISS / ahead))
    found = exp(min(60.0, mean + quantile * deviation * sqrt(1 + 1 / count)))
    if count < FEW:
        return float(max(most * LEAST_MARGIN, min(found, cap)))
    # Where runs come in two kinds a bound by logarithms is far too high; the more there are, the less a further one passes them.
    return max(most * LEAST_MARGIN, min(found, most * (1 + 10 * sqrt(ahead) / count)))


def _scale(own: tuple[tuple[str, str], ...], growth: Growth) -> float:
    number = number_in(dict(own).get(growth.parameter))
    return float((number or 1.0) ** growth.power)


def _growth(
    values: Sequence[float],
    parameters: Sequence[tuple[tuple[str, str], ...]],
    ahead: Sequence[tuple[tuple[str, str], ...]],
) -> Growth | None:
    """The parameter that the values grow with most clearly, by a straight line through the logarithms; None for none."""
    if len(values) < 5:
        return None
    best: tuple[float, Growth] | None = None
    for name in dict.fromkeys(name for own in parameters for name, _ in own):
        numbers = [number_in(dict(own).get(name)) or 0.0 for own in parameters]
        if min(numbers) <= 0 or len(set(numbers)) < 3:
            continue
        line = line_through([(log(number), log(value)) for number, value in zip(numbers, values, strict=True)])
        if line is None:
            continue
        if line.slope >= LEAST_GROWTH and line.alike >= ALIKE and (best is None or line.alike > best[0]):
            to_come = [number_in(dict(own).get(name)) or 0.0 for own in ahead]
            best = line.alike, Growth(name, line.slope, max([*to_come, *(numbers if not any(to_come) else ())]))
    return best[1] if best else None


def round_time(seconds: float) -> int:
    """Up to a whole minute, five from half an hour on, a quarter of an hour from two hours on, an hour from ten."""
    step = 60 if seconds <= 1800 else 300 if seconds <= 7200 else 900 if seconds <= 36_000 else 3600
    return max(60, ceil(seconds / step) * step)


def round_memory(mib: float) -> int:
    """Up to 16 MiB below 256 MiB, 64 MiB below 2 GiB, 256 MiB below 16 GiB, else to 1 GiB."""
    step = 16 if mib < 256 else 64 if mib < 2048 else 256 if mib < 16_384 else 1024
    return max(16, ceil(mib / step) * step)


@dataclass(frozen=True, slots=True)
class NextTime:
    """The request to make: the walltime in seconds, the memory in MiB for each core, cores; None where it stays as it is."""

    runs: int
    walltime: LeastAmount | None
    memory: LeastAmount | None
    walltime_s: int | None
    memory_mib: int | None
    busy: float
    """The most cores' worth of CPU that any of them kept busy."""
    saved_core_hours: float
    """Core-hours that these runs requested and did not use, and that would not have been requested."""


def next_time(runs: Sequence[RunToLearnFrom], ahead: Sequence[tuple[tuple[str, str], ...]] = ()) -> NextTime | None:
    """Advice from comparable runs, the newest first; None without any."""
    if not runs:
        return None
    in_time, fitted = (
        [run for run in runs if not run.late],
        [run for run in runs if not run.full and run.memory_mib > 0],
    )
    walltime = bound_of(
        [run.took_s for run in in_time if not run.full],
        [run.walltime_s for run in runs if run.late],
        [run.parameters for run in in_time if not run.full],
        ahead,
    )
    memory = bound_of(
        [run.memory_mib for run in fitted if not run.late],
        [run.requested_mib for run in runs if run.full],
        [run.parameters for run in fitted if not run.late],
        ahead,
    )
    seconds = round_time(walltime.value) if walltime else None
    mib = round_memory(memory.value) if memory else None
    saved = sum(max(0, run.walltime_s - seconds) * run.cores for run in runs) / 3600 if seconds else 0.0
    return NextTime(len(runs), walltime, memory, seconds, mib, max(run.busy for run in runs), saved)
