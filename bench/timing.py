"""The time that something takes when nothing else disturbs it."""

import gc
import os
import time
from collections.abc import Callable
from pathlib import Path


def best(of: int, work: Callable[[], object]) -> float:
    """Seconds of the quickest of several runs."""
    quickest = float("inf")
    for _ in range(of):
        gc.collect()
        began = time.perf_counter()
        work()
        quickest = min(quickest, time.perf_counter() - began)
    return quickest


def cpu_s(pid: int) -> float:
    """The processor's time that a process has taken, of all its threads."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
