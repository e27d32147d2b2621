"""The pace of copies to a host and back: as fast as the way carries them, with no more under way than arrives within a moment.

Whatever goes the same way, such as the message that stops a job, waits behind what is under way. How much that may be follows
from how long pieces take: it grows by a little while they are quick, and is cut down when one was slow (additive increase,
multiplicative decrease: Chiu and Jain, 1989).
"""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from lazy_quarry.run.fetching import IN_FLIGHT
from lazy_quarry.run.node.carried import MOST_PIECE

QUICK_S, SLOW_S = 0.08, 0.2
"""A piece that took less lets more be under way, one that took longer less."""
LEAST_PIECE = 64 << 10
MOST_UNDER_WAY = 8 << 20


class Pace:
    """The pace of all copies of one host, each of which takes turns with its pieces. ``rate`` is the most in bytes a second."""

    def __init__(
        self,
        rate: int | None = None,
        clock: Callable[[], float] = time.monotonic,
        wait: Callable[[float], object] = time.sleep,
    ) -> None:
        self.rate, self._clock, self._wait = rate, clock, wait
        self._may = MOST_PIECE
        self._under_way = 0
        self._free_at = 0.0
        """When the next piece may go, by the rate."""
        self._changed = threading.Condition()

    @property
    def piece(self) -> int:
        """Bytes that a piece should have now."""
        return max(LEAST_PIECE, min(MOST_PIECE, self._may // IN_FLIGHT))

    @contextmanager
    def turn(self, size: int) -> Iterator[None]:
        """Have a piece under way, as soon as there is room for it."""
        with self._changed:
            while self._under_way and self._under_way + size > self._may:
                self._changed.wait()
            self._under_way += size
            now = self._clock()
            wait_s = max(0.0, self._free_at - now) if self.rate else 0.0
            if self.rate:
                self._free_at = max(now, self._free_at) + size / self.rate
        if wait_s:
            self._wait(wait_s)
        began = self._clock()
        try:
            yield
        finally:
            took = self._clock() - began
            with self._changed:
                self._under_way -= size
                if took > SLOW_S:
                    self._may = max(LEAST_PIECE, self._may * 2 // 3)
                elif took < QUICK_S:
                    self._may = min(MOST_UNDER_WAY, self._may + size // 4)
                self._changed.notify_all()
