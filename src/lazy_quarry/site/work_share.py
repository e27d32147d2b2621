"""Work in the background that takes a small part of one core: after each piece it rests."""

import time
from collections.abc import Callable

PIECE_S = 0.02
"""CPU time of a piece of work."""
HURRY_SHARE = 0.1
"""The part of one core that what is done in a hurry takes over some time."""
BUSY_RESTS = 10
"""While others work, what is done in a hurry rests so many times as long as it worked."""
HURRIES_S, MOST_OWED_S = 60.0, 600.0
"""Nothing is done in a hurry while so much rest is owed for what was; and more than this is never owed."""


class WorkShare:
    """Rests after work. ``share`` is the part of one core that it may take at present.

    ``wait`` lets so many seconds pass, or fewer, and returns how many it were. ``busy`` is true while others of this process work,
    whom it would hold up.
    """

    def __init__(
        self, share: Callable[[], float], wait: Callable[[float], float], busy: Callable[[], bool] = lambda: False
    ) -> None:
        self.share, self._wait, self._busy = share, wait, busy
        self.hurry = False
        """True while somebody waits: it rests only as long as it worked, and the more afterwards."""
        self.owed_s = 0.0
        """Rest for what was done in a hurry."""
        self._since = 0.0

    def pause(self) -> None:
        """Rest, when a piece of work was done since the last time; the thread that works is to ask."""
        worked = time.thread_time() - self._since
        if worked > PIECE_S:
            self.rest(worked)
            self._since = time.thread_time()

    def rest(self, worked_s: float) -> None:
        """Rest after so much CPU time."""
        share = max(HURRY_SHARE, self.share()) if self.hurry else self.share()
        self.owed_s = min(MOST_OWED_S, self.owed_s + worked_s * (1 / share - 1))
        hurried = worked_s * (BUSY_RESTS if self._busy() else 1)
        rests = min(hurried, self.owed_s) if self.hurry else self.owed_s
        self.owed_s = max(0.0, self.owed_s - self._wait(rests))
