"""The time that something takes when nothing else disturbs it."""

import gc
import time
from collections.abc import Callable


def best(of: int, work: Callable[[], object]) -> float:
    """Seconds of the quickest of several runs."""
    quickest = float("inf")
    for _ in range(of):
        gc.collect()
        began = time.perf_counter()
        work()
        quickest = min(quickest, time.perf_counter() - began)
    return quickest
