"""A request compared with what earlier runs of the same name used."""

from collections.abc import Iterator

from msgspec import Struct

from lazy_quarry.core.header.diagnostic import Diagnostic, hint, warning
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.units import format_duration, format_size, plural


class EarlierRuns(Struct, frozen=True):
    """Use of earlier runs of the same name, counting those that were done."""

    runs: int
    longest_s: int
    memory_peak_mib: int
    busiest: float
    """Most cores' worth of CPU that any kept busy on average."""
    cores: int
    """Cores of the newest of them."""
    shortest_s: int = 0
    for_most: "EnoughForMost | None" = None


class EnoughForMost(Struct, frozen=True):
    """A walltime that would do for ``count`` of the runs, which took at most ``longest_s``; a few took far longer.

    ``costs`` tells what becomes of those.
    """

    count: int
    longest_s: int
    walltime_s: int
    costs: str


def compared_with_earlier(
    request: Request, need: Need, earlier: EarlierRuns, line: dict[str, int]
) -> Iterator[Diagnostic]:
    """Compare the request with what runs of the same name used. ``line`` gives the lines of its keys."""
    runs = f"the last {earlier.runs} runs of {request.name}" if earlier.runs > 1 else f"the last run of {request.name}"
    took = format_duration(earlier.longest_s)
    if request.walltime_s >= 3 * max(earlier.longest_s, 300) and request.walltime_s >= 1800:
        words = (
            f"{format_duration(request.walltime_s)} is requested, but {runs} took at most {took}; less starts sooner"
        )
        yield hint("walltime-generous", words, line.get("walltime", 1))
    elif earlier.for_most is not None and request.walltime_s >= earlier.for_most.walltime_s:
        yield hint("walltime-for-most", _for_most(request, earlier, earlier.for_most), line.get("walltime", 1))
    elif request.walltime_s < earlier.longest_s:
        words = f"{runs} took up to {took}, more than the walltime"
        yield warning("walltime-short", words, line.get("walltime", 1))
    memory = need.memory_mib
    if earlier.memory_peak_mib and earlier.cores and memory >= 4 * earlier.memory_peak_mib and memory >= 4096:
        words = f"{format_size(memory)} is requested, but {runs} used at most {format_size(earlier.memory_peak_mib)}"
        yield hint("memory-generous", words, line.get("memory", 1))
    if earlier.cores == need.cores and need.cores >= 4 and 0 < earlier.busiest <= need.cores / 3:
        words = (
            f"{plural(need.cores, 'core')} are requested, but {runs} kept at most {earlier.busiest:.1f} of them busy"
        )
        yield hint("cores-idle", words, line.get("ranks", line.get("threads", 1)))


def _for_most(request: Request, earlier: EarlierRuns, most: EnoughForMost) -> str:
    """Both walltimes: that for most runs and that for all, and what becomes of those that are stopped."""
    enough = (
        f"{most.count} of the last {earlier.runs} runs of {request.name} took at most {format_duration(most.longest_s)}"
    )
    whole = f"all at most {format_duration(earlier.longest_s)}"
    if request.walltime_s < earlier.longest_s:
        return f"{enough}, {whole}: longer ones are stopped, and {most.costs}"
    return f"{enough}, {whole}: {format_duration(most.walltime_s)} would do for those; longer ones are stopped, and {most.costs}"
