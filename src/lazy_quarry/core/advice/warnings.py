"""Warnings about a running job, in a few words; empty when all is well.

Only what matters and can still be changed: cores that are allocated and not used, memory that is about to run out, and a
walltime that is too short for the work. What lies ahead is told with how sure it is: by how many of the runs like it.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import erf, inf, sqrt
from statistics import fmean

from lazy_quarry.core.advice.straight_line import line_through
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.units import MINUTE_MS, format_duration, format_size, plural

IDLE_MS = 10 * MINUTE_MS
"""Cores that stand idle are told after so long."""
TIGHT = 0.92
"""From this part of its memory on a job is near its limit."""
EARLY = 0.2
"""Before this part of its walltime nothing is said of when a job will be done."""
SURE, SURE_OF_MEMORY = 0.6, 0.8
"""A warning of what lies ahead is given from this chance on."""
FEWEST = 3
"""Number of runs like it, or samples of its memory, from which on they say something."""
LATE_WORK = 1.25
"""A run that was stopped at its walltime is taken to have had so much of the work that it did."""
MOST_SAMPLES, LEAST_SAMPLES = 30, 6

Samples = Sequence[tuple[int, float, int]]
"""(instant in ms, cores busy, memory in MiB), oldest first."""


@dataclass(frozen=True, slots=True)
class LikeIt:
    """An earlier run of the same name and size: what it took, in seconds, and its CPU time; ``late``: it was not done by then."""

    took_s: float
    cpu_s: float
    late: bool = False
    peak_mib: float = 0.0


def warning_of(job: Job, now_ms: int, use: Use, samples: Samples, earlier: Sequence[LikeIt]) -> str:
    """The most urgent warning about a running job. ``earlier`` are runs like it that were done or stopped at their walltime."""
    asked = sum(allocation.memory_mib for allocation in job.allocations)
    present = samples[-1][2] if samples else use.memory_peak_mib
    if asked and present >= asked * TIGHT:
        return f"near its memory limit: {format_size(present)} of {format_size(asked)}"
    elapsed, walltime = (now_ms - (job.started_ms or now_ms)) / 1000, job.request.walltime_s
    chance, needs = chance_late(elapsed, use.cpu_ms / 1000, walltime, earlier)
    if chance >= SURE:
        has = f"at this rate it needs about {format_duration(needs)}, and has {format_duration(walltime)}"
        return f"{has}; {_tenths(chance)} runs like it would be late"
    took = sorted(one.took_s for one in earlier if not one.late)
    left = (took[len(took) // 2] if took else walltime) - elapsed
    peaks = [one.peak_mib for one in earlier if one.peak_mib]
    chance, until = chance_full(samples, asked, max(60.0, min(left, walltime - elapsed)), peaks)
    if chance >= SURE_OF_MEMORY:
        grows = f"its memory grows, and passes {format_size(asked)} in about {format_duration(until)}"
        return f"{grows} ({_tenths(chance)} times)"
    return _idle(job, now_ms, samples)


def _tenths(chance: float) -> str:
    return f"{min(9, max(1, round(10 * chance)))} in 10"


def chance_late(elapsed_s: float, cpu_s: float, walltime_s: float, earlier: Sequence[LikeIt]) -> tuple[float, float]:
    """Share of the runs like it that would be late at this rate, and the seconds that they would need in the middle.

    Its rate is the CPU time so far over the time so far; the work is what earlier runs came to, those left out that have less than
    it has done already.
    """
    if len(earlier) < FEWEST or cpu_s <= 0 or elapsed_s < walltime_s * EARLY:
        return 0.0, 0.0
    work = sorted(one.cpu_s * (LATE_WORK if one.late else 1.0) for one in earlier)
    more = [one for one in work if one > cpu_s]
    if not more:
        # It has done more than any of them: nothing is known but that it is unlike them.
        return 0.0, 0.0
    needs = [elapsed_s * one / cpu_s for one in more]
    return sum(one > walltime_s for one in needs) / len(needs), needs[len(needs) // 2]


def chance_full(samples: Samples, asked_mib: float, left_s: float, peaks: Sequence[float] = ()) -> tuple[float, float]:
    """The chance that memory passes what was asked for within ``left_s``, and in how many seconds.

    A line is put through its newest samples. Where each third of them adds less than the one before, it is taken to level off
    where a geometric series would (A. C. Aitken, 1926). As long as it has no more than runs like it came to, whose ``peaks``
    they were, it is taken to do as these did.
    """
    newest = list(samples)[-MOST_SAMPLES:]
    if len(newest) < LEAST_SAMPLES or asked_mib <= 0:
        return 0.0, 0.0
    last = newest[-1][0]
    line = line_through(
        [((at - last) / 1000, float(mib)) for at, _, mib in newest[-max(LEAST_SAMPLES, len(newest) // 2) :]]
    )
    if line is None or line.slope <= 0 or (len(peaks) >= FEWEST and line.at(0.0) <= max(peaks)):
        return 0.0, 0.0
    ahead = min(line.at(left_s), _level([float(mib) for _, _, mib in newest]))
    spread = sqrt((line.error * left_s) ** 2 + 1.0)
    return 0.5 * (1 + erf((ahead - asked_mib) / spread / sqrt(2))), max(0.0, (asked_mib - line.at(0.0)) / line.slope)


def _level(values: Sequence[float]) -> float:
    """Where values level off; infinite where they don't."""
    third = len(values) // 3
    first, second, last = (fmean(values[at : at + third]) for at in (0, third, len(values) - third))
    before, after = second - first, last - second
    if before <= 0 or after >= 0.95 * before:
        return inf
    return last + max(0.0, after) ** 2 / (before - after)


def _idle(job: Job, now_ms: int, samples: Samples) -> str:
    began = job.started_ms or now_ms
    if now_ms - began < IDLE_MS or not samples or samples[0][0] > now_ms - IDLE_MS:
        return ""
    lately = [busy for at, busy, _ in samples if at >= now_ms - IDLE_MS]
    if not lately or max(lately) >= job.cores_allocated / 2:
        return ""
    mean = sum(lately) / len(lately)
    return f"{mean:.1f} of {plural(job.cores_allocated, 'core')} busy in the last ten minutes"
