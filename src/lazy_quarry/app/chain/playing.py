"""A rehearsal of a chain, played in graph and lanes."""

from textual.timer import Timer

from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place

FRAME_S = 0.1
PLAYED_S = 12.0
"""Seconds in which a rehearsal is played at first."""


class Playing(Feature):
    """Plays a rehearsal: shows one instant of it after the other."""

    NAME = "playing"
    BOUND = (
        bound_of(NAME, "rehearse", "play", "play the rehearsal in graph and lanes, or stop it"),
        bound_of(NAME, "play_faster", "pace(2)", "play faster"),
        bound_of(NAME, "play_slower", "pace(0.5)", "play slower"),
    )

    def __init__(self, place: Place, chain: ChainOnDesk) -> None:
        super().__init__(place)
        self.chain = chain
        self.played_ms: float | None = None
        """The instant of the rehearsal that is shown, while it is played."""
        self._speed = 1.0
        self._clock: Timer | None = None

    def play(self) -> None:
        """Play the rehearsal in graph and lanes, or stop it."""
        view = self.one(ChainList).current()
        if self.played_ms is not None:
            self.stop()
            self.chain.follow()
        elif view is None or view.number or view.ends_ms is None:
            self.say("Only of a chain that is open and not submitted can the rehearsal be played.")
        else:
            self.played_ms, self._speed = float(view.now_ms), (view.ends_ms - view.now_ms) / PLAYED_S
            self._clock = self.place.set_interval(FRAME_S, self._frame)
            self.one(PartRows).focus()
            self.chain.follow()

    def _frame(self) -> None:
        view = self.one(ChainList).current()
        if self.played_ms is None or view is None or view.ends_ms is None or view.number:
            self.stop()
            return
        last = float(view.ends_ms)
        if self.played_ms >= last:
            return
        self.played_ms = min(last, self.played_ms + FRAME_S * self._speed)
        self.chain.follow()

    def stop(self) -> None:
        """Show the present again."""
        self.played_ms = None
        if self._clock is not None:
            self._clock.stop()
            self._clock = None

    def pace(self, factor: float) -> None:
        """Faster or slower; from the end it is played again."""
        view = self.one(ChainList).current()
        if self.played_ms is None or view is None:
            self.say(f"No rehearsal is played: {key_of('rehearse')} plays one.")
            return
        if view.ends_ms is not None and self.played_ms >= view.ends_ms:
            self.played_ms = float(view.now_ms)
        self._speed *= factor
