"""The period that Ledger shows: moved, widened, or typed in words."""

from collections.abc import Callable

from lazy_quarry.app.ledger.seen_books import FIRST, SeenBooks
from lazy_quarry.app.shared.acts import bound_of, click_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.ledger.period import HOW, Period, parse_period


class PeriodLine(Lines):
    """The period, with what is chosen."""

    DEFAULT_CSS = "PeriodLine { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="period")
        self.words, self.chosen, self.total = FIRST, "", ""

    def draw(self, row: int, pen: Pen) -> None:
        """It is the first line; the second is empty."""
        if row == 0:
            pen.write(" ‹ ", "ochre", hit=click_of("period", "move", -1)).write(self.words, bold=True)
            pen.write(" › ", "ochre", hit=click_of("period", "move", 1))
            pen.write(f"  {self.chosen}" if self.chosen else "", "ochre").write(f"   {self.total}", "dim")


class Periods(Feature):
    """Moves and widens the period, and takes one in words; ``read`` asks the books about it."""

    NAME = "period"
    BOUND = (
        bound_of(NAME, "left", "move(-1)", "an earlier period of the same length"),
        bound_of(NAME, "right", "move(1)", "a later period of the same length"),
        bound_of(NAME, "shorter", "widen(-1)", "a shorter period"),
        bound_of(NAME, "longer", "widen(1)", "a longer period"),
        bound_of(NAME, "now", "show_now", "the last 30 days again"),
        bound_of(NAME, "find", "ask", "type a period in words: last month, since Monday, March 2026"),
    )

    def __init__(self, place: Place, seen: SeenBooks, read: Callable[[], None]) -> None:
        super().__init__(place)
        self.seen, self._read = seen, read

    def _take(self, period: Period) -> None:
        self.seen.words = f"{period.first} to {period.last}"
        self._read()

    def move(self, by: int) -> None:
        """An earlier or later period of the same length."""
        if period := self.seen.period:
            self._take(period.moved(by))

    def widen(self, by: int) -> None:
        """A longer or shorter period."""
        if period := self.seen.period:
            self._take(period.widened(by))

    def show_now(self) -> None:
        """The last 30 days again."""
        if self.seen.words == FIRST:
            self.say("These are the last 30 days already.")
        self.seen.words = FIRST
        self._read()

    def show_column(self, number: int) -> None:
        """The period of one of the columns."""
        if self.seen.over is not None and number < len(self.seen.over.parts):
            self._take(self.seen.over.parts[number])

    def ask(self) -> None:
        """Type a period."""
        self.type_in("#asked-period", "")
        self.say(f"A period in words: {HOW}.")

    def take(self, words: str) -> None:
        """Show the period that was typed. Raises :class:`BadValue` for words that name none."""
        parse_period(words, self.now_ms)
        self.seen.words = words
        self._read()
