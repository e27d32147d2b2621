"""Advice on the next request, from what a run used, with a margin."""

from dataclasses import dataclass
from math import ceil

from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import exact_duration, exact_size, format_duration, format_size

MEMORY_MARGIN, TIME_MARGIN = 1.25, 1.5
_STEPS_S = tuple(minutes * 60 for minutes in (1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 240, 360, 480, 720, 1080,
                 1440, 2160, 2880, 4320))  # fmt: skip


@dataclass(frozen=True, slots=True)
class Advice:
    """Advice on one header key. ``value`` is what the key should say; None leaves it as it is."""

    key: str
    used: str
    asked: str
    share: float
    value: str | int | None
    reason: str


@dataclass(frozen=True, slots=True)
class Ran:
    """What one run asked for and used. Times in seconds, memory in MiB of the whole job."""

    phase: Phase
    took_s: int
    walltime_s: int
    cores: int
    cpu_s: float
    memory_mib: int
    memory_peak_mib: int


def advise(ran: Ran) -> list[Advice]:
    """Advice on walltime, cores and memory."""
    return [_walltime(ran), _cores(ran), _memory(ran)]


def _walltime(ran: Ran) -> Advice:
    used, asked = format_duration(ran.took_s), format_duration(ran.walltime_s)
    share = min(1.0, ran.took_s / max(1, ran.walltime_s))
    if ran.phase is Phase.OVERTIME:
        return Advice("walltime", used, asked, 1.0, None, "it was not done by then; all of it needs longer")
    if ran.phase is not Phase.DONE:
        return Advice("walltime", used, asked, share, None, "")
    better = next((step for step in _STEPS_S if step >= ran.took_s * TIME_MARGIN), _STEPS_S[-1])
    if better >= ran.walltime_s:
        return Advice("walltime", used, asked, share, None, "about right")
    return Advice("walltime", used, asked, share, exact_duration(better), f"a half more: {format_duration(better)}")


def _cores(ran: Ran) -> Advice:
    busy = ran.cpu_s / max(1, ran.took_s)
    used, share = f"{busy:.1f} busy", min(1.0, busy / max(1, ran.cores))
    reason = "about right"
    if ran.took_s < 5:
        reason = "too short a run to tell"
    elif ran.cores > 1 and busy < ran.cores / 2:
        reason = f"{ceil(busy) or 1} is enough, unless later work uses more"
    return Advice("cores", used, f"{ran.cores}", share, None, reason)


def _memory(ran: Ran) -> Advice:
    used, asked = format_size(ran.memory_peak_mib), format_size(ran.memory_mib)
    share = min(1.0, ran.memory_peak_mib / max(1, ran.memory_mib))
    each = ran.memory_peak_mib * MEMORY_MARGIN / max(1, ran.cores)
    if ran.phase is Phase.OVERMEMORY:
        value = exact_size(_round_up(ran.memory_mib / max(1, ran.cores) * 2))
        return Advice("memory", used, asked, 1.0, f"{value}/core", f"it needs more: twice is {value}/core")
    if not ran.memory_peak_mib:
        return Advice("memory", used, asked, share, None, "too short a run to tell")
    better = _round_up(each)
    if better * ran.cores >= ran.memory_mib * 0.75:
        return Advice("memory", used, asked, share, None, "about right")
    return Advice(
        "memory", used, asked, share, f"{exact_size(better)}/core", f"a quarter more: {exact_size(better)}/core"
    )


def _round_up(mib: float) -> int:
    """Round up: to 64 MiB below 1 GiB, to 256 MiB below 8 GiB, else to 1 GiB."""
    step = 64 if mib < 1024 else 256 if mib < 8192 else 1024
    return max(64, ceil(mib / step) * step)
