"""The demo as a client whose engine is in the same process, and its clock, which may be sped up and paused."""

import threading
import time

from lazy_quarry.demo.rehearsed import Rehearsed
from lazy_quarry.demo.virtual_clock import NEVER_MS, OnVirtualClock
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.views.board import BoardChange, BoardMark, ClockView

PAST_DAYS = 90
SPEEDS = (1, 10, 60, 300, 900, 3600)
_TICK_S = 0.1
_PAST_WAITS_S = 2.0
_DRAWING_S = 0.5


class DemoClient(InProcessClient):
    """A client of the demo site, with its clock's handle."""

    def __init__(
        self,
        speed: int = 60,
        paused: bool = False,
        seed: int = 7,
        past_days: int = PAST_DAYS,
        rehearsed: OnVirtualClock | None = None,
    ) -> None:
        self.rehearsed = rehearsed or Rehearsed(seed)
        super().__init__(self.rehearsed.site, self.rehearsed.person)
        self.past_days = past_days
        self._session = self.site.session
        self._session.adding_past = past_days > 0
        self._stop, self._board_was_read = threading.Event(), threading.Event()
        self._session.clock_view = ClockView("rehearsal", speed, paused)
        self.site.mailer.start()
        self.site.foresight.pace = lambda: self._session.clock_view.speed
        self.site.foresight.start()
        threading.Thread(target=self._tick, daemon=True, name="demo-clock").start()

    def _tick(self) -> None:
        # The past takes a second of computing. Beside it every row that is read waits for the interpreter's lock, so the
        # first board goes first, and half a second to draw it: people see true jobs at once, and the books a moment later.
        self._board_was_read.wait(_PAST_WAITS_S)
        self._stop.wait(_DRAWING_S)
        self.rehearsed.add_past(self.past_days)
        last = time.monotonic()
        while not self._stop.wait(_TICK_S):
            now = time.monotonic()
            view = self._session.clock_view
            if not view.paused:
                self.rehearsed.advance(self.rehearsed.now_ms + round((now - last) * 1000 * view.speed))
            last = now
            self.site.queries.searches.keep_up()

    def look(self, since: BoardMark | None = None, sight: list[int] | None = None) -> BoardChange:
        """Read the changes of the board since a mark, or all of it."""
        try:
            return super().look(since, sight)
        finally:
            self._board_was_read.set()

    def set_clock(self, speed: int | None = None, paused: bool | None = None) -> ClockView:
        """Change how fast time passes."""
        with self._session.lock:
            old = self._session.clock_view
            self._session.clock_view = ClockView(
                "rehearsal",
                max(1, min(3600, old.speed if speed is None else speed)),
                old.paused if paused is None else paused,
            )
            return self._session.clock_view

    def faster(self, steps: int) -> ClockView:
        """The next speed up or down."""
        with self._session.lock:  # two keys at once are two steps
            speed = self._session.clock_view.speed
            places = [number for number, each in enumerate(SPEEDS) if each <= speed]
            return self.set_clock(SPEEDS[max(0, min(len(SPEEDS) - 1, (places[-1] if places else 0) + steps))], False)

    def step(self) -> None:
        """Let the next thing happen, and no more; instants at which nothing changes are passed over."""
        with self._session.lock:
            before = self._session.version
            while self._session.version == before:
                following = self.rehearsed.next_instant()
                if following >= NEVER_MS:
                    return  # nothing more happens by itself
                self.rehearsed.advance(following)

    def close(self) -> None:
        """Stop the clock."""
        self._stop.set()
        self.site.mailer.close()
        self.site.foresight.close()
        self._board_was_read.set()
