"""The time axis that all lanes share."""

from datetime import datetime, tzinfo

from msgspec import Struct

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS

SPANS_MS = tuple(hours * HOUR_MS for hours in (1, 2, 4, 8, 16, 32, 72, 168))
STEPS_MS = (
    *(minutes * MINUTE_MS for minutes in (5, 10, 15, 30)),
    *(hours * HOUR_MS for hours in (1, 2, 3, 6, 12)),
    DAY_MS,
)
LABEL_CELLS = 11


class Axis(Struct):
    """The time in sight. ``now_share`` is the part of it before now."""

    now_ms: int
    span_ms: int = 8 * HOUR_MS
    shift_ms: int = 0
    now_share: float = 0.35

    @property
    def begin_ms(self) -> int:
        """Its left edge."""
        return self.now_ms + self.shift_ms - int(self.span_ms * self.now_share)

    def column(self, at_ms: int, width: int) -> int:
        """The cell of an instant; less than 0 or ``width`` and more when it is out of sight."""
        return (at_ms - self.begin_ms) * width // self.span_ms

    def ticks(self, width: int) -> list[tuple[int, int]]:
        """(column, instant) of labelled times, far enough apart to be read."""
        step = next((one for one in STEPS_MS if one * width / self.span_ms >= LABEL_CELLS), DAY_MS)
        first = -(-self.begin_ms // step) * step
        marks = range(first, self.begin_ms + self.span_ms, step)
        return [(self.column(at, width), at) for at in marks]

    def zoom(self, steps: int) -> None:
        """Show a longer or shorter time."""
        place = min(range(len(SPANS_MS)), key=lambda number: abs(SPANS_MS[number] - self.span_ms))
        self.span_ms = SPANS_MS[max(0, min(len(SPANS_MS) - 1, place + steps))]

    def pan(self, steps: int) -> None:
        """Earlier or later, by a quarter of what is in sight."""
        self.shift_ms += steps * self.span_ms // 4

    def show_now(self) -> None:
        """Back to now."""
        self.shift_ms = 0

    def show_span(self, span_ms: int) -> None:
        """Show so much time."""
        self.span_ms = span_ms


class AxisLine(Lines):
    """Scopes and the choice of rows; below them the headings of what stands before the lanes, and the times."""

    DEFAULT_CSS = "AxisLine { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="axis")
        self.scopes: list[tuple[str, str, int]] = []
        self.scope = "mine"
        self.axis: Axis | None = None
        self.left = 66
        self.headings: list[tuple[str, int, bool]] = []
        """Headings over the columns: words, cells, whether to the right."""
        self.choice = ""
        """The sorting, grouping and search of rows, in words."""

    def show(self, scopes: list[tuple[str, str, int]], scope: str, choice: str) -> None:
        """Other scopes, as (name, words, count), or another choice of rows, in words."""
        self.scopes, self.scope, self.choice = scopes, scope, choice
        self.refresh()

    def follow(self, axis: Axis, left: int, headings: list[tuple[str, int, bool]]) -> None:
        """Show the times of an axis, which begins at this column, and what stands before it."""
        self.axis, self.left, self.headings = axis, left, headings
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Scopes, or headings and times."""
        if row == 0:
            for name, words, count in self.scopes:
                current = name == self.scope
                pen.write(" ▪ " if current else "   ", "ochre")
                pen.write(f"{words} {count}", "ink" if current else "dim", bold=current, hit=f"app.show_jobs('{name}')")
            pen.write(f"   {self.choice}" if self.choice else "", "ochre")
            return
        for words, cells, right in self.headings:
            pen.cell(words, cells, "faint", right=right)
        if self.axis is None:
            return
        left = self.left
        width = self.size.width - left
        for column, at in self.axis.ticks(width):
            label = tick_label(at, self.axis.span_ms, self.quarry.zone)
            place = left + column - len(label) // 2
            if place >= pen.at + 1 and place + len(label) <= self.size.width:
                pen.to(place).write(label, "dim")


def tick_label(at_ms: int, span_ms: int, zone: tzinfo) -> str:
    """Hours on short axes, days on long ones."""
    at = datetime.fromtimestamp(at_ms / 1000, zone)
    if at.hour == 0 and at.minute == 0:
        return f"{at:%a} {at.day}"
    return f"{at:%H:%M}"
