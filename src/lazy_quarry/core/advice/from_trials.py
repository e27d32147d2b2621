"""A request from trials: from one, its use with a margin; from several sizes, the need of the whole by its growth.

Seconds and memory are taken to grow as a power of the size. With two or three sizes there is next to nothing to tell how much
runs differ, so that is shared with what runs usually do: their logarithms differ by about :data:`USUAL`, and that counts as
much as :data:`WORTH` further runs (a scaled inverse chi-square prior; A. Gelman and others, *Bayesian Data Analysis*, 2013,
section 14.8).
"""

from collections.abc import Sequence
from math import ceil, exp, log, sqrt

from msgspec import Struct

from lazy_quarry.core.advice.next_time import MISS, Measured, bound_of, round_memory, round_time
from lazy_quarry.core.advice.straight_line import line_through
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.units import exact_duration, exact_size, format_duration, format_size, plural

USUAL, WORTH = 0.15, 4
STEEPER = 0.1
"""Where the last two sizes grow by so much more than all together, the whole is taken to grow as these."""
SHORT_S = 5
"""A run so short says nothing of cores and memory."""


class Tried(Struct, frozen=True):
    """The use of one trial. Times in seconds, memory in MiB of the whole job; ``size`` is what it was tried with, if known."""

    phase: Phase
    took_s: float
    cores: int
    cpu_s: float
    memory_mib: int
    memory_peak_mib: int
    size: float | None = None


class Asked(Struct, frozen=True):
    """The present request of the whole: seconds, MiB for each core; and its size, by the parameter that was tried."""

    walltime_s: int
    parameter: str = ""
    size: float | None = None


class Advice(Struct, frozen=True):
    """Advice on one header key. ``value`` is what the key should say; None leaves it as it is."""

    key: str
    used: str
    asked: str
    share: float
    value: str | int | None
    reason: str


class Expected(Struct, frozen=True):
    """The expected use of the whole: the middle, the range of 8 times in 10, and the bound that one in fifty passes."""

    low: float
    middle: float
    high: float
    bound: float
    power: float


def expected(points: Sequence[tuple[float, float]], whole: float) -> Expected | None:
    """Expect a measure at size ``whole``, from (size, value); None for fewer than two sizes."""
    from scipy.special import stdtrit

    known = sorted((log(size), log(value)) for size, value in points if size > 0 and value > 0)
    line = line_through(known)
    if line is None or whole <= 0:
        return None
    (before_x, before_y), (last_x, last_y) = known[-2:]
    if len(known) > 2 and last_x > before_x and (last_y - before_y) / (last_x - before_x) > line.slope + STEEPER:
        # it has a start of its own, or caches that no longer do: what is larger goes on as these
        line = line_through(known[-2:]) or line
    free = WORTH + line.count - 2
    deviation = sqrt((WORTH * USUAL**2 + line.rest) / free)
    along = log(whole) - line.middle
    spread = deviation * sqrt(1 + 1 / line.count + along * along / line.across)
    at = line.at(log(whole))
    eight, most = float(stdtrit(free, 0.9)), float(stdtrit(free, 1 - MISS))
    low, middling, high, bound = (exp(min(60.0, at + part * spread)) for part in (-eight, 0.0, eight, most))
    return Expected(low, middling, high, bound, line.slope)


def advise(trials: Sequence[Tried], asked: Asked) -> list[Advice]:
    """Advice on walltime, cores and memory, from one trial or from several sizes."""
    return [_walltime(trials, asked), _cores(trials), _memory(trials, asked)]


def _walltime(trials: Sequence[Tried], asked: Asked) -> Advice:
    longest = max(trials, key=lambda one: one.took_s)
    used, told = format_duration(longest.took_s), format_duration(asked.walltime_s)
    share = min(1.0, longest.took_s / max(1, asked.walltime_s))
    done = [one for one in trials if one.phase is Phase.DONE]
    if len(trials) > 1:
        found = _whole(done, asked, [one.took_s for one in done])
        if found is None:
            return Advice("walltime", used, told, share, None, _too_few(trials, asked))
        seconds = round_time(found.bound)
        between = f"8 times in 10 {format_duration(found.low, 1)} to {format_duration(found.high, 1)}"
        grows = f"it grows about as {asked.parameter} to the power of {found.power:.1f}"
        about = f"{asked.parameter}={asked.size:g} should take about {format_duration(found.middle, 1)}"
        words = f"{about}, {between} ({grows}): {format_duration(seconds)}"
        return Advice("walltime", used, told, share, exact_duration(seconds), words)
    if longest.phase is Phase.OVERTIME:
        return Advice("walltime", used, told, 1.0, None, "it was not done by then; all of it needs longer")
    bound = bound_of([Measured(one.took_s) for one in done])
    if bound is None:
        return Advice("walltime", used, told, share, None, "")
    seconds = round_time(bound.value)
    if seconds >= asked.walltime_s:
        return Advice("walltime", used, told, share, None, "about right, as far as one run tells")
    return Advice(
        "walltime", used, told, share, exact_duration(seconds), f"{format_duration(seconds)}, as one run tells little"
    )


def _cores(trials: Sequence[Tried]) -> Advice:
    longest = max(trials, key=lambda one: one.took_s)
    busy = longest.cpu_s / max(1.0, longest.took_s)
    used, share = f"{busy:.1f} busy", min(1.0, busy / max(1, longest.cores))
    reason = "about right"
    if longest.took_s < SHORT_S:
        reason = "too short a run to tell"
    elif longest.cores > 1 and busy < longest.cores / 2:
        reason = f"{ceil(busy) or 1} is enough, unless later work uses more"
    return Advice("cores", used, f"{longest.cores}", share, None, reason)


def _memory(trials: Sequence[Tried], asked: Asked) -> Advice:
    largest = max(trials, key=lambda one: one.memory_peak_mib)
    used, told = format_size(largest.memory_peak_mib), format_size(largest.memory_mib)
    share = min(1.0, largest.memory_peak_mib / max(1, largest.memory_mib))
    had = largest.memory_mib / max(1, largest.cores)
    measured = [one for one in trials if one.phase is Phase.DONE and one.memory_peak_mib and one.took_s >= 1]
    if len(trials) > 1:
        found = _whole(measured, asked, [one.memory_peak_mib / max(1, one.cores) for one in measured])
        if found is None:
            return Advice("memory", used, told, share, None, _too_few(trials, asked))
        value = exact_size(round_memory(found.bound))
        words = (
            f"{asked.parameter}={asked.size:g} should use about {format_size(found.middle)} for each core: {value}/core"
        )
        return Advice("memory", used, told, share, f"{value}/core", words)
    full = largest.phase is Phase.OVERMEMORY
    used_mib = [Measured(one.memory_peak_mib / max(1, one.cores)) for one in measured]
    bound = bound_of([Measured(had, enough=False)] if full else used_mib)
    if bound is None:
        return Advice("memory", used, told, share, None, "too short a run to tell")
    value = exact_size(round_memory(bound.value))
    if full:
        return Advice("memory", used, told, 1.0, f"{value}/core", f"it needs more: twice is {value}/core")
    if round_memory(bound.value) >= had * 0.75:
        return Advice("memory", used, told, share, None, "about right, as far as one run tells")
    return Advice("memory", used, told, share, f"{value}/core", f"{value}/core, as one run tells little")


def _whole(trials: Sequence[Tried], asked: Asked, values: Sequence[float]) -> Expected | None:
    if asked.size is None:
        return None
    return expected([(one.size, value) for one, value in zip(trials, values, strict=True) if one.size], asked.size)


def _too_few(trials: Sequence[Tried], asked: Asked) -> str:
    done = sum(one.phase is Phase.DONE for one in trials)
    if asked.size is None:
        return "how large the whole is isn't known"
    return f"{plural(done, 'size')} came to an end and could be measured; with two or three it can be told how it grows"
