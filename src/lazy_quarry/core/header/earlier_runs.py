"""A request compared with what earlier runs of the same name used."""

from collections.abc import Iterator
from dataclasses import dataclass

from lazy_quarry.core.header.diagnostic import Diagnostic, hint, warning
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.units import format_duration, format_size, plural


@dataclass(frozen=True, slots=True)
class EarlierRuns:
    """Use of earlier runs of the same name, counting those that were done."""

    runs: int
    longest_s: int
    memory_peak_mib: int
    busiest: float
    """Most cores' worth of CPU that any kept busy on average."""
    cores: int
    """Cores of the newest of them."""
    shortest_s: int = 0


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
