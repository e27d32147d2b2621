"""One key after another: a key that does something to a row is never overtaken by the next, which moves the cursor.

A list handles its arrows itself, while what a key is bound to is looked for by way of all widgets above it. On a slow machine, or
with keys typed ahead, the second would be first, and would have the first act on another row. A key that has a file read first, to
ask for a line or to show a script, is done when that is there: what is typed after it is meant for that.

Patience is counted in looks, not in seconds: between two looks each widget has its turn, however slow the machine is or however
long it has stood still. By the clock, a machine that stood still for 0.2 s had a letter go past the line that a key was opening.
"""

from collections import deque

from textual import events
from textual.app import App

from lazy_quarry.app.textual_fixes.delayed_call import soon

LOOK_S = 0.002
"""Seconds between two looks whether a key has been handled."""
MOST_LOOKS, MOST_READING = 100, 1000
"""Looks until the next key is handed on all the same: what a key went to may be gone, and a disk may not answer."""

SCROLLING = frozenset(["up", "down", "pageup", "pagedown", "home", "end", "j", "k"])
"""Keys that move a cursor wherever there is one; where it is at its end already, they do nothing more."""
MOVING = SCROLLING | {"left", "right", "tab", "shift+tab", "enter"}


class KeysInOrder(App[None]):
    """An application that hands on a key when the one before has been handled."""

    moving = False
    """True when the last key was one that moves a cursor."""

    def __init__(self) -> None:
        super().__init__()
        self._under_way: events.Key | None = None
        self._returned = self._looking = False
        self._stops = 0
        """At how many looks the key under way had been stopped by what it went to."""
        self.kept_back: deque[events.Key] = deque()
        self._looks = 0
        """Number of looks since the last key was handed on."""
        self._reading = 0

    def begins_reading(self) -> None:
        """The next keys wait until :meth:`ends_reading`: they are for what is read."""
        self._reading += 1

    def ends_reading(self) -> None:
        """The next keys may go: what was read is shown."""
        self._reading -= 1

    async def on_event(self, event: events.Event) -> None:
        """Keep a key back while another is under way; note when that has come back."""
        if not isinstance(event, events.Key):
            await super().on_event(event)
        elif event.is_forwarded:
            await super().on_event(event)
            if event is self._under_way:
                self._returned = True
        elif self.kept_back or not self._is_over():
            self.kept_back.append(event)
        else:
            await self._hand_on(event)

    async def _hand_on(self, event: events.Key) -> None:
        self._under_way, self._returned, self._stops, self._looks = event, False, 0, 0
        self.moving = event.key in MOVING
        await super().on_event(event)
        if not self._looking:
            self._looking = True
            soon(self, LOOK_S, self._go_on)

    def _is_over(self) -> bool:
        one = self._under_way
        return (one is None or self._returned or not one.is_forwarded or self._stops > 1) and not self._reading

    def _is_late(self) -> bool:
        return self._looks > (MOST_READING if self._reading else MOST_LOOKS)

    async def _go_on(self) -> None:
        """Hand on what was kept back, as soon as it may be; look again while a key is under way."""
        self._looks += 1
        while self.kept_back and (self._is_over() or self._is_late()):
            await self._hand_on(self.kept_back.popleft())
        # A widget that has done with a key stops it. But so does the screen, which hands it to the application all the same:
        # it then lies in the queue, behind keys that were typed meanwhile perhaps, and before the next look.
        if self._under_way is not None and self._under_way._stop_propagation:
            self._stops += 1
        self._looking = bool(self.kept_back) or not (self._is_over() or self._is_late())
        if self._looking:
            soon(self, LOOK_S, self._go_on)
