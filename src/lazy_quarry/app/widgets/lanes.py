"""Jobs as rows with their lanes on one time axis."""

from dataclasses import dataclass
from datetime import datetime, tzinfo

from lazy_quarry.app.messages import OpenJob
from lazy_quarry.app.pen import Pen
from lazy_quarry.app.widgets.drawn import Lines, Rows
from lazy_quarry.core.job import Phase
from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS
from lazy_quarry.views import JobView
from lazy_quarry.words import state_words

SPANS_MS = tuple(hours * HOUR_MS for hours in (1, 2, 4, 8, 16, 32, 72, 168))
STEPS_MS = (
    *(minutes * MINUTE_MS for minutes in (5, 10, 15, 30)),
    *(hours * HOUR_MS for hours in (1, 2, 3, 6, 12)),
    DAY_MS,
)
LABEL_CELLS = 11


@dataclass(slots=True)
class Axis:
    """The stretch of time in sight. ``now_share`` is how much of it lies behind now."""

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


def draw_lane(pen: Pen, view: JobView, axis: Axis, width: int, mine: bool) -> None:
    """One job on the axis: waited thin, ran solid, may still run shaded, expected outlined, end sign."""
    cells = [(" ", "faint")] * width
    for column, _ in axis.ticks(width):
        if 0 <= column < width:
            cells[column] = ("┊", "faint")

    def fill(begin_ms: int, end_ms: int, sign: str, colour: str) -> None:
        begin, end = axis.column(begin_ms, width), axis.column(end_ms, width)
        for column in range(max(0, begin), min(width, max(end, begin + 1))):
            cells[column] = (sign, colour)

    now = axis.now_ms
    own = "ochre" if mine else "stone"
    ends = view.started_ms or view.ended_ms or now
    fill(view.submitted_ms, min(ends, now), "╌", "dim")
    if view.started_ms is not None:
        if view.phase is Phase.RUNNING:
            limit = view.started_ms + view.walltime_s * 1000
            fill(view.started_ms, now, "█", own)
            fill(now, max(limit, now), "▒", own)
        elif view.ended_ms is not None:
            fill(view.started_ms, view.ended_ms, "█", "stone")
    elif view.forecast_ms is not None and view.forecast_end_ms is not None:
        fill(now, view.forecast_ms, "╌", "faint")
        fill(view.forecast_ms, view.forecast_end_ms - view.grace_s * 1000, "░", "river")
    line = axis.column(now, width)
    if 0 <= line < width and cells[line][0] not in "█▒":
        cells[line] = ("│", "ink")
    if view.ended_ms is not None:
        at = axis.column(view.ended_ms, width)
        if 0 <= at < width:
            cells[at] = (view.phase.sign, pen.palette.of_phase(view.phase))
    begin = 0
    for column in range(1, width + 1):  # neighbours alike are written at once
        if column == width or cells[column] != cells[begin]:
            sign, colour = cells[begin]
            pen.write(sign * (column - begin), colour)
            begin = column


class AxisLine(Lines):
    """Scopes on the left, times on the right."""

    DEFAULT_CSS = "AxisLine { height: 1; }"

    def __init__(self) -> None:
        super().__init__(id="axis")
        self.scopes: list[tuple[str, str, int]] = []
        self.scope = "mine"
        self.axis: Axis | None = None

    def draw(self, row: int, pen: Pen) -> None:
        """The one line."""
        for name, words, count in self.scopes:
            current = name == self.scope
            pen.write(" ▪ " if current else "   ", "ochre")
            pen.write(f"{words} {count}", "ink" if current else "dim", bold=current, hit=f"app.show_jobs('{name}')")
        if self.axis is None:
            return
        left = lane_begin(self.size.width)
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


def lane_begin(width: int) -> int:
    """Where the lanes begin: what stands before them has what it needs and no more."""
    return 66 if width >= 130 else 52


class JobRows(Rows):
    """The jobs of the chosen scope."""

    DEFAULT_CSS = "JobRows { height: 2fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="jobs")
        self.jobs: list[JobView] = []
        self.axis = Axis(0)
        self.user = ""

    def row_count(self) -> int:
        """One for each job."""
        return len(self.jobs)

    def current(self) -> JobView | None:
        """The job under the cursor."""
        return self.jobs[self.cursor] if self.cursor < len(self.jobs) else None

    def show(self, jobs: list[JobView]) -> None:
        """New rows; the cursor stays on the job it was on."""
        under = self.current()
        self.jobs = jobs
        if under is not None:
            place = next((number for number, job in enumerate(jobs) if job.job == under.job), None)
            if place is not None and place != self.cursor:
                shift = place - self.cursor
                self.cursor = place
                self.scroll_to(y=max(0, self.scroll_offset.y + shift), animate=False)
        self.refit()

    def clicked(self, row: int, column: int) -> None:
        """The cursor goes there; a second click opens the job."""
        again = row == self.cursor
        self.move(row)
        if again and (job := self.current()):
            self.post_message(OpenJob(job.job))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Number, name, size, state, lane."""
        view = self.jobs[row]
        mine = view.user == self.user
        past = view.phase.final
        colour = self.palette.of_phase(view.phase)
        left = lane_begin(self.room)
        wide = left > 60
        pen.cell(view.label, 9, "dim", right=True).write("  ")
        pen.cell(view.name, 18 if wide else 14, "dim" if past else "ink", bold=current)
        pen.cell(f"{view.cores}", 6, "dim", right=True).write("  ")
        pen.write(view.phase.sign, colour)
        words = state_words(view, self.axis.now_ms, self.quarry.zone)
        pen.cell(f" {words}", left - pen.at - 1, colour if not past or view.phase is not Phase.DONE else "dim").write(
            " "
        )
        draw_lane(pen, view, self.axis, self.room - left, mine)


def zoomed(axis: Axis, steps: int) -> None:
    """A longer or shorter stretch of time."""
    place = min(range(len(SPANS_MS)), key=lambda number: abs(SPANS_MS[number] - axis.span_ms))
    axis.span_ms = SPANS_MS[max(0, min(len(SPANS_MS) - 1, place + steps))]


def panned(axis: Axis, steps: int) -> None:
    """Earlier or later, a quarter of what is in sight."""
    axis.shift_ms += steps * axis.span_ms // 4


__all__ = ["Axis", "AxisLine", "JobRows", "draw_lane", "lane_begin", "panned", "zoomed"]
