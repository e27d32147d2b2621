"""Work in the background that takes a small part of one core: after each piece it rests."""

import time
from collections.abc import Callable

PIECE_S = 0.02
"""CPU time of a piece of work."""
MOST_OWED_S = 60.0
"""It rests no longer than this for what was done in a hurry."""


class WorkShare:
    """Rests after work. ``share`` is the part of one core that it may take at present; ``wait`` lets so many seconds pass."""

    def __init__(self, share: Callable[[], float], wait: Callable[[float], object]) -> None:
        self.share, self._wait = share, wait
        self.hurry = False
        """True while somebody waits: it rests only as long as it worked, and the more afterwards."""
        self._since = self._owed_s = 0.0

    def pause(self) -> None:
        """Rest, when a piece of work was done since the last time; the thread that works is to ask."""
        worked = time.thread_time() - self._since
        if worked > PIECE_S:
            self._wait(self.rest_s(worked))
            self._since = time.thread_time()

    def rest_s(self, worked_s: float) -> float:
        """Seconds to rest after so much CPU time."""
        owed = worked_s * (1 / self.share() - 1)
        rests = min(worked_s, owed) if self.hurry else owed + self._owed_s
        self._owed_s = min(MOST_OWED_S, max(0.0, self._owed_s + owed - rests))
        return rests
