"""The tasks of an array: each a cell in a field, by outcome or by a measure; how they are spread; why some failed."""

from collections.abc import Sequence

from textual.binding import Binding
from textual.message import Message

from lazy_quarry.app.review.usage_lines import columns_of
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import format_duration, format_size
from lazy_quarry.views.job_detail import JobDetail, TasksTold
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import counts_words, now_words, outlier_words, state_words

MEASURES = {
    "outcome": lambda view: 0.0,
    "how long it ran": lambda view: float(view.attempt_s),
    "memory": lambda view: float(view.memory_peak_mib),
    "cores busy": lambda view: view.use.cpu_ms / 1000 / max(1, view.attempt_s),
}
"""Measures that a cell may show of a task."""
SHADES = "·░▒▓█"
LEFT, EACH = 3, 2
HEAD = 2
"""Rows above the field."""


class TaskPicked(Message):
    """A task is to be looked at by itself."""

    def __init__(self, job: int) -> None:
        super().__init__()
        self.job = job


class TaskField(Rows):
    """The field, with a cursor that goes over its cells, and below it what the tasks have in common."""

    DEFAULT_CSS = "TaskField { width: 1fr; height: 1fr; }"
    BINDINGS = [
        bound("left", "step(-1)", "the task before"),
        bound("right", "step(1)", "the next task"),
        Binding("up", "row(-1)", "a row up"),
        Binding("down", "row(1)", "a row down"),
        bound("by_what", "measure", "outcome, time, memory, cores"),
        bound("failure", "next_failed", "the next that failed"),
        bound("open", "pick", "this task by itself"),
    ]
    has_cursor = False

    def __init__(self) -> None:
        super().__init__(id="tasks")
        self.detail: JobDetail | None = None
        self.tasks: Sequence[JobView] = ()
        self.at, self.measure, self.now_ms = 0, "outcome", 0
        self._below: list[tuple[str, str]] = []

    def show(self, detail: JobDetail, now_ms: int) -> None:
        """The tasks of this array; the cursor stays where it is, if it is the same."""
        if self.detail is None or self.detail.view.job != detail.view.job:
            self.at = 0
            self.scroll_to(y=0, animate=False)
        self.detail, self.tasks, self.now_ms = detail, detail.tasks_now, now_ms
        self.at = max(0, min(self.at, len(self.tasks) - 1))
        self._below = list(self._told(detail.told)) if detail.told else []
        self.refit()

    def on_resize(self) -> None:
        """Other lines."""
        if self.detail is not None:
            self._below = list(self._told(self.detail.told)) if self.detail.told else []
        super().on_resize()

    @property
    def per_row(self) -> int:
        """Cells of a row; five, ten, twenty … where there is room for them, so that numbers are found."""
        room = max(5, (self.room - LEFT - 8) // EACH)
        return room - room % (10 if room >= 10 else 5)

    @property
    def field_rows(self) -> int:
        """Rows of the field."""
        return -(-len(self.tasks) // self.per_row)

    @property
    def current(self) -> JobView | None:
        """The task under the cursor."""
        return self.tasks[self.at] if self.at < len(self.tasks) else None

    def row_count(self) -> int:
        """All lines."""
        return HEAD + self.field_rows + 4 + len(self._below) if self.tasks else HEAD

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line."""
        if row == 0:
            pen.write(" TASKS", bold=True)
            if self.detail is not None:
                told = now_words(self.detail) if self.detail.again else counts_words(self.detail.view)
                pen.write(f"   {told}", "dim")
            return
        if row == 1:
            if not self.tasks:
                pen.write(
                    "   none has started yet" if self.detail and self.detail.view.rows else "   this is no array", "dim"
                )
                return
            pen.write(f"   by {self.measure}", "ochre", hit="measure").write(
                f"   {key_of('by_what')}: another measure", "dim"
            )
            return
        row -= HEAD
        if row < self.field_rows:
            self._field(row, pen)
            return
        row -= self.field_rows
        view = self.current
        if row in (1, 2) and view is not None:
            values = values_words(view.parameters)
            words = f"{view.label}{f'  {values}' if values else ''}: {state_words(view, self.now_ms, self.quarry.zone)}"
            words += f", {format_size(view.memory_peak_mib)}" if view.started_ms is not None else ""
            words += (
                f"; it runs {view.replaces.label} again" if view.replaces and self.detail and self.detail.again else ""
            )
            lines = wrap(words, self.room - 2, 2)
            colour = self.palette.of_phase(view.phase) if view.phase in FAILING else "ink"
            pen.write(f" ▸ {lines[0]}" if row == 1 else f"   {lines[1]}" if len(lines) > 1 else "", colour)
        elif row >= 4 and row - 4 < len(self._below):
            pen.write(*self._below[row - 4])

    def _field(self, row: int, pen: Pen) -> None:
        first = row * self.per_row
        number = self.tasks[first].task
        pen.cell(f"{number:,}" if number is not None else "", LEFT + 4, "dim", right=True).write(" ")
        show, low, high = MEASURES[self.measure], 0.0, 1.0
        if self.measure != "outcome":
            values = [show(view) for view in self.tasks]
            low, high = min(values), max(values)
        for place in range(first, min(first + self.per_row, len(self.tasks))):
            view = self.tasks[place]
            here = place == self.at and self.has_focus
            colour = self.palette.of_phase(view.phase)
            sign = view.phase.sign
            if self.measure != "outcome":
                part = (show(view) - low) / (high - low) if high > low else 0.5
                sign = SHADES[min(4, int(part * 5))]
                colour = "rust" if view.phase in FAILING else "ochre" if view.phase is Phase.RUNNING else "ink"
            pen.write(sign, "ground" if here else colour, ground="ochre" if here else "", hit=f"task:{place}").write(
                " "
            )

    def _told(self, told: TasksTold) -> list[tuple[str, str]]:
        width, lines = max(20, self.room - 4), list[tuple[str, str]]()
        for heading, bars, least, most in (
            ("how long they ran", told.took_bars, format_duration(told.took_s[0]), format_duration(told.took_s[2])),
            ("memory", told.memory_bars, format_size(told.memory_mib[0]), format_size(told.memory_mib[2])),
        ):
            if len(bars) > 1:
                each = max(1, min(6, (width - 4) // len(bars)))
                lines.append((f" {heading.upper()}", "ink"))
                lines += [
                    (f"   {''.join(sign * each for sign in line)}", "ochre") for line in columns_of(bars, max(bars), 2)
                ]
                lines += [(f"   {least}{most:>{max(1, each * len(bars) - len(least))}}", "dim"), ("", "ink")]
        if told.causes:
            lines.append((" WHY SOME FAILED", "ink"))
            for cause in told.causes:
                lines += [(f"   {line}", "rust") for line in wrap(cause.words, width, 4)]
                lines.append((f"   first: {', '.join(cause.labels)}", "dim"))
            lines.append(("", "ink"))
        if told.outliers:
            lines.append((" UNLIKE THE REST", "ink"))
            lines += [(f"   {line}", "ink") for one in told.outliers for line in wrap(outlier_words(one), width, 2)]
        return lines

    # -- keys --------------------------------------------------------------------------------------

    def _to(self, place: int) -> None:
        if self.tasks:
            self.at = max(0, min(place, len(self.tasks) - 1))
            self.cursor_changed()
            row = HEAD + self.at // self.per_row
            if row < self.scroll_offset.y or row >= self.scroll_offset.y + self.size.height:
                self.scroll_to(y=max(0, row - self.size.height // 2), animate=False)
            self.refresh()

    def action_step(self, by: int) -> None:
        """Another task."""
        self._to(self.at + by)

    def action_row(self, by: int) -> None:
        """The task above or below; past the field, what is told below it."""
        if by > 0 and self.at + self.per_row >= len(self.tasks) and self.at // self.per_row == self.field_rows - 1:
            self.scroll_relative(y=3, animate=False)
        elif by < 0 and self.scroll_offset.y > HEAD + self.at // self.per_row:
            self.scroll_relative(y=-3, animate=False)
        else:
            self._to(self.at + by * self.per_row)

    def action_measure(self) -> None:
        """Another measure."""
        names = list(MEASURES)
        self.measure = names[(names.index(self.measure) + 1) % len(names)]
        self.refresh()

    def action_next_failed(self) -> None:
        """The next task that did not succeed, from the first one after the last."""
        places = [place for place, view in enumerate(self.tasks) if view.phase in FAILING]
        if places:
            self._to(next((place for place in places if place > self.at), places[0]))

    def action_pick(self) -> None:
        """Look at the task by itself."""
        if self.current is not None:
            self.post_message(TaskPicked(self.current.job))

    def clicked(self, row: int, column: int) -> None:
        """A cell, or the measure."""
        what = self.hit_at(row - self.scroll_offset.y, column)
        if what == "measure":
            self.action_measure()
        elif what.startswith("task:"):
            self._to(int(what.removeprefix("task:")))
