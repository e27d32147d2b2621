"""Use of an attempt over its time, as it is kept after the end: a few points, however long it ran."""

from collections.abc import Sequence

from msgspec import Struct

MOST_POINTS, MOST_OF_TASK = 48, 24
"""Points that are kept of a job, and of a task of an array, of which there may be very many."""
Sample = tuple[int, float, int]
"""(instant in ms, cores busy, memory in MiB)."""


class Curve(Struct, frozen=True):
    """Points at equal distances: ``cores`` in hundredths of a core, the mean of its time; ``memory_mib`` the most of it."""

    began_ms: int
    every_ms: int
    cores: tuple[int, ...]
    memory_mib: tuple[int, ...]
    peak_ms: int = 0
    """When the memory was greatest, as it was sampled."""

    @property
    def samples(self) -> list[Sample]:
        """The points as samples, each in the middle of its time."""
        half = self.every_ms // 2
        return [
            (self.began_ms + place * self.every_ms + half, cores / 100, memory)
            for place, (cores, memory) in enumerate(zip(self.cores, self.memory_mib, strict=True))
        ]


def curve_of(samples: Sequence[Sample], most: int = MOST_POINTS) -> Curve | None:
    """The samples of an attempt, oldest first, in no more than so many points; None where there are fewer than two.

    A point without a sample in its time is as the one before it.
    """
    if len(samples) < 2:
        return None
    began, ended = samples[0][0], samples[-1][0]
    points = min(most, len(samples))
    every = max(1, -(-(ended - began + 1) // points))
    cores, memory, at = list[int](), list[int](), 0
    for place in range(points):
        until, busy, peak, count = began + (place + 1) * every, 0.0, 0, 0
        while at < len(samples) and samples[at][0] < until:
            busy, peak, count = busy + samples[at][1], max(peak, samples[at][2]), count + 1
            at += 1
        cores.append(round(100 * busy / count) if count else cores[-1])
        memory.append(peak if count else memory[-1])
    greatest = max(samples, key=lambda one: one[2])
    return Curve(began, every, tuple(cores), tuple(memory), greatest[0])
