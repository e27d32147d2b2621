"""Warnings about a running job, in a few words; empty when all is well.

Only what matters and can still be changed: cores that are allocated and not used, memory that is about to run out, and a
walltime that is too short for the work. What lies ahead is told by how earlier runs like it went on from where this one is: with
how sure that is, and from how many. Without such runs nothing is said of it: a straight line says little of a program with phases.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from functools import cached_property
from itertools import accumulate
from math import exp, log
from statistics import fmean, stdev

from msgspec import Struct

from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.job import Job, Use
from lazy_quarry.core.units import MINUTE_MS, format_duration, format_size, plural

IDLE_MS = 10 * MINUTE_MS
"""Cores that stand idle are told after so long."""
TIGHT = 0.92
"""From this part of its memory on a job is near its limit."""
EARLY = 0.1
"""Before this part of what runs like it took nothing is said of when a job will be done, or how much memory it will need."""
SURE, SURE_OF_MEMORY = 0.75, 0.7
"""A warning of what lies ahead is given from this chance on."""
FEWEST = 3
"""Number of runs like it, with curves, from which on they say something."""
STEPS, MOST_APART = (-1.28, -0.52, 0.0, 0.52, 1.28), 0.15
"""Runs for which one stands, in standard deviations of a kernel (the middles of fifths), and that of their logarithms at most."""
LATE_WORK = 1.25
"""A run that was stopped at its walltime is taken to have needed so much of the time that it had."""
SAME_WORK = 0.01
"""CPU time that is no progress: this part of all that a run came to."""
STANDS_STILL = 0.2
"""It does something else than a run like it did with as much work done, where it keeps less than this part of its cores busy."""
ASIDE, NEARLY = 0.12, 0.9
"""Runs come to the same point this part of the time sooner or later; and what is nearly too much memory, or scratch."""
LATELY = 3
"""Number of samples that tell how many cores are busy now."""

Samples = Sequence[tuple[int, float, int]]
"""(instant in ms, cores busy, memory in MiB), oldest first."""


class LikeIt(Struct, frozen=True, dict=True):
    """An earlier run of the same name and size: what it took, in seconds, its CPU time and its curve.

    ``late``: it was not done by then. ``peak_mib`` is the most memory that it had.
    """

    took_s: float
    cpu_s: float
    late: bool = False
    peak_mib: float = 0.0
    curve: Curve | None = None

    @cached_property
    def _work(self) -> list[float]:
        """CPU time in seconds at the end of each point of its curve, that of all of it at the last."""
        assert self.curve is not None
        done = [0.0, *accumulate(float(cores) for cores in self.curve.cores)]
        return [one * self.cpu_s / done[-1] for one in done] if done[-1] > 0 else done

    @cached_property
    def _until_end(self) -> list[int]:
        """The greatest memory from each point of its curve on."""
        assert self.curve is not None
        return list(accumulate(reversed(self.curve.memory_mib), max))[::-1]

    @property
    def _point_s(self) -> float:
        assert self.curve is not None
        return self.took_s / len(self.curve.cores)

    def when(self, cpu_s: float, elapsed_s: float) -> float:
        """Seconds after which it had done as much work; where it did none for a while, the instant nearest to ``elapsed_s``."""
        slack = SAME_WORK * self.cpu_s
        first, last = bisect_left(self._work, cpu_s - slack), bisect_right(self._work, cpu_s + slack) - 1
        return min(max(elapsed_s, self._at(first, cpu_s - slack)), max(self._at(last + 1, cpu_s + slack), 0.0))

    def _at(self, place: int, work: float) -> float:
        """The instant at which it had done this work, which lies before that place of its curve."""
        if place <= 0:
            return 0.0
        if place >= len(self._work):
            return self.took_s
        before, after = self._work[place - 1], self._work[place]
        part = (work - before) / (after - before) if after > before else 1.0
        return (place - 1 + part) * self._point_s

    def busy(self, at_s: float) -> float:
        """Cores that it kept busy then."""
        assert self.curve is not None
        return self.curve.cores[self._place(at_s)] / 100

    def memory(self, elapsed_s: float) -> tuple[int, int, int]:
        """The memory in MiB that it had then, the most that it had about then, and from then on."""
        assert self.curve is not None
        first, now, last = (self._place(elapsed_s * part) for part in (1 - ASIDE, 1.0, 1 + ASIDE))
        return self.curve.memory_mib[now], max(self.curve.memory_mib[first : last + 1]), self._until_end[now]

    def _place(self, at_s: float) -> int:
        assert self.curve is not None
        return max(0, min(len(self.curve.cores) - 1, int(at_s / max(0.001, self._point_s))))


def warning_of(job: Job, now_ms: int, use: Use, samples: Samples, earlier: Sequence[LikeIt]) -> str:
    """The most urgent warning about a running job. ``earlier`` are runs like it that were done or stopped at their walltime."""
    asked = sum(allocation.memory_mib for allocation in job.allocations)
    present = samples[-1][2] if samples else use.memory_peak_mib
    if asked and present >= asked * TIGHT:
        return f"near its memory limit: {format_size(present)} of {format_size(asked)}"
    scratch = job.request.scratch_mib * len(job.allocations)
    if scratch and use.scratch_mib >= scratch * NEARLY:
        return f"near its scratch limit: {format_size(use.scratch_mib)} of {format_size(scratch)}"
    elapsed, walltime = (now_ms - (job.started_ms or now_ms)) / 1000, job.request.walltime_s
    lately = [busy for _, busy, _ in samples[-LATELY:]]
    late = chance_late(Work(elapsed, use.cpu_ms / 1000, fmean(lately)), walltime, earlier) if lately else None
    if late is not None and late.chance >= SURE:
        has = f"at this rate it needs about {format_duration(late.value)}, and has {format_duration(walltime)}"
        return f"{has}: late as {late.words} went"
    full = chance_full([mib for _, _, mib in samples], elapsed, asked, earlier)
    if full is not None and full.chance >= SURE_OF_MEMORY:
        return f"it may come to {format_size(full.value)}, and has {format_size(asked)}: too much as {full.words} went"
    return _idle(job, now_ms, samples)


class Ahead(Struct, frozen=True):
    """What runs like it came to from where this one is: too much with this ``chance``, ``value`` in the middle, by so many runs."""

    chance: float
    runs: int
    value: float

    @property
    def words(self) -> str:
        """``9 in 10 of the 12 runs before it``."""
        return f"{min(10, max(1, round(10 * self.chance)))} in 10 of the {self.runs} runs before it"


class Work(Struct, frozen=True):
    """The work of a running job so far: seconds since it began, CPU time in seconds, cores that it keeps busy now."""

    elapsed_s: float
    cpu_s: float
    busy: float


def chance_late(work: Work, walltime_s: float, earlier: Sequence[LikeIt]) -> Ahead | None:
    """Seconds that it needs, if it goes on as runs like it did from where they had done as much work; None where nothing is known.

    One that took so many times as long to get there is taken to need so many times as long for the rest. Runs say nothing that
    came to less work than it has done already, or that worked where it stands still. Each stands for a few somewhat shorter
    and longer ones, as far apart as a kernel estimate has them (B. W. Silverman, *Density Estimation*, 1986, section 3.4).
    """
    known, needs, elapsed = (
        [one for one in earlier if one.curve is not None and one.cpu_s > 0],
        list[float](),
        work.elapsed_s,
    )
    if len(known) < FEWEST:
        return None
    logs = [log(one.cpu_s) for one in known]
    apart = min(MOST_APART, 1.06 * stdev(logs) * len(logs) ** -0.2)
    for one in known:
        for times in [exp(apart * step) for step in STEPS]:
            took, cpu = one.took_s * times, one.cpu_s * times
            if cpu * (1 + SAME_WORK) <= work.cpu_s or elapsed < EARLY * took:
                continue
            then = times * one.when(work.cpu_s / times, elapsed / times)
            if work.busy >= STANDS_STILL * one.busy(then / times):
                slower = elapsed / then if then > EARLY / 2 * took else 1.0
                needs.append(max(elapsed, took * (LATE_WORK if one.late else 1.0) * slower))
    if len(needs) < FEWEST:
        return None
    needs.sort()
    late = sum(one > walltime_s for one in needs) / len(needs)
    return Ahead(late, len(known), needs[len(needs) // 2])


def chance_full(
    memory_mib: Sequence[float], elapsed_s: float, asked_mib: float, earlier: Sequence[LikeIt]
) -> Ahead | None:
    """Memory in MiB that it comes to, if it grows as runs like it did from the same instant on; None where nothing is known.

    It counts as too much where it nearly is so too if it is a little further than they were, for memory that jumps.
    """
    known = [one for one in earlier if one.curve is not None]
    if not memory_mib or asked_mib <= 0 or len(known) < FEWEST:
        return None
    present, full, comes_to = float(memory_mib[-1]), 0, list[float]()
    for one in known:
        if EARLY * one.took_s <= elapsed_s <= one.took_s:
            then, about, most = one.memory(elapsed_s)
            if then > 0:
                comes_to.append(present * most / then)
                full += comes_to[-1] > asked_mib and present * most / about > NEARLY * asked_mib
    if len(comes_to) < FEWEST:
        return None
    comes_to.sort()
    return Ahead(full / len(comes_to), len(comes_to), comes_to[len(comes_to) // 2])


def _idle(job: Job, now_ms: int, samples: Samples) -> str:
    began = job.started_ms or now_ms
    if now_ms - began < IDLE_MS or not samples or samples[0][0] > now_ms - IDLE_MS:
        return ""
    lately = [busy for at, busy, _ in samples if at >= now_ms - IDLE_MS]
    if not lately or max(lately) >= job.cores_allocated / 2:
        return ""
    mean = sum(lately) / len(lately)
    return f"{mean:.1f} of {plural(job.cores_allocated, 'core')} busy in the last ten minutes"
