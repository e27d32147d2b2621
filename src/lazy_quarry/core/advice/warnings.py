"""Warnings about a running job, in a few words; empty when all is well.

Only what matters and can still be changed: cores that are allocated and not used, memory that is about to run out, and a
walltime that is too short for the work.
"""

from collections.abc import Sequence

from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.units import MINUTE_MS, format_duration, format_size, plural

IDLE_MS = 10 * MINUTE_MS
"""Cores that stand idle are told after so long."""
TIGHT = 0.92
"""From this part of its memory on a job is near its limit."""
EARLY = 0.2
"""Before this part of its walltime nothing is said of when a job will be done."""

Samples = Sequence[tuple[int, float, int]]
"""(instant in ms, cores busy, memory in MiB), oldest first."""


def warning_of(job: Job, now_ms: int, use: Use, samples: Samples, usual_cpu_ms: int | None) -> str:
    """The most urgent warning about a running job. ``usual_cpu_ms`` is the CPU time of similar runs that were done."""
    asked = sum(allocation.memory_mib for allocation in job.allocations)
    present = samples[-1][2] if samples else use.memory_peak_mib
    if asked and present >= asked * TIGHT:
        return f"near its memory limit: {format_size(present)} of {format_size(asked)}"
    if late := _late(job, now_ms, use, usual_cpu_ms):
        return late
    return _idle(job, now_ms, samples)


def _idle(job: Job, now_ms: int, samples: Samples) -> str:
    began = job.started_ms or now_ms
    if now_ms - began < IDLE_MS or not samples or samples[0][0] > now_ms - IDLE_MS:
        return ""
    lately = [busy for at, busy, _ in samples if at >= now_ms - IDLE_MS]
    if not lately or max(lately) >= job.cores_allocated / 2:
        return ""
    mean = sum(lately) / len(lately)
    return f"{mean:.1f} of {plural(job.cores_allocated, 'core')} busy in the last ten minutes"


def _late(job: Job, now_ms: int, use: Use, usual_cpu_ms: int | None) -> str:
    """At the rate so far, the work of earlier runs would take longer than the walltime."""
    elapsed = now_ms - (job.started_ms or now_ms)
    walltime = job.request.walltime_s * 1000
    if not usual_cpu_ms or not use.cpu_ms or elapsed < walltime * EARLY or use.cpu_ms >= usual_cpu_ms:
        return ""
    needs = elapsed * usual_cpu_ms // use.cpu_ms
    if needs <= walltime * 1.05:
        return ""
    return (
        f"at this rate it needs about {format_duration(needs // 1000, 1)}, and has {format_duration(walltime // 1000)}"
    )
