"""The load of others on this machine: cores that their processes keep busy."""

import os
import time

from lazy_quarry.files import system

_SHORT_S, _LONG_S = 2.0, 60.0
_STAT = "/proc/stat"


class OthersLoad:
    """Cores busy by the kernel's counters (proc_stat(5)), less those of our jobs."""

    def __init__(self) -> None:
        self._before: tuple[float, float] | None = None
        self._said = 0.0

    def cores(self, own: float) -> float:
        """Cores that others keep busy, to a tenth, where our jobs keep ``own`` busy; 0 where that isn't known.

        It is a mean since the last call of at least two seconds ago, or, where that is long past, over a minute.
        """
        now, busy = time.monotonic(), _busy_s()
        if busy is None:
            return 0.0
        if self._before is not None and now - self._before[0] < _SHORT_S:
            return self._said
        if self._before is None or now - self._before[0] > _LONG_S:
            all_busy = min(os.getloadavg()[0], os.cpu_count() or 1)
        else:
            all_busy = (busy - self._before[1]) / (now - self._before[0])
        self._before, self._said = (now, busy), round(max(0.0, all_busy - own), 1)
        return self._said


def _busy_s() -> float | None:
    """Seconds that all cores were busy since the machine began: user, nice, system, irq, softirq."""
    try:
        fields = system.read_text(_STAT).split("\n", 1)[0].split()[1:]
        return sum(int(fields[place]) for place in (0, 1, 2, 5, 6)) / os.sysconf("SC_CLK_TCK")
    except (OSError, ValueError, IndexError):
        return None
