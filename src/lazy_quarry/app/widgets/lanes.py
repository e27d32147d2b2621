"""Jobs as rows with their lanes on one time axis."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, tzinfo

from textual.geometry import Size

from lazy_quarry.app.cells import Pen, bar
from lazy_quarry.app.messages import OpenJob
from lazy_quarry.app.watch_list import Arranged, Row, RowKey
from lazy_quarry.app.widgets.drawing import Lines, Rows
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import (
    DAY_MS,
    HOUR_MS,
    MINUTE_MS,
    fold_names,
    format_core_hours,
    format_duration,
    format_size,
    plural,
)
from lazy_quarry.site.board import NodeView
from lazy_quarry.site.job_view import JobView
from lazy_quarry.site.sentences import state_words

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
            if view.rows and view.forecast_ms is not None and view.forecast_end_ms is not None:
                limit = view.forecast_ms  # of an array: when what runs of it must be over, and then the rest
                if view.forecast_end_ms > limit:
                    fill(limit, view.forecast_end_ms, "░", "river")
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
        self.left = 66
        self.choice = ""
        """What rows are sorted and grouped by and searched for, in words."""

    def draw(self, row: int, pen: Pen) -> None:
        """The one line."""
        for name, words, count in self.scopes:
            current = name == self.scope
            pen.write(" ▪ " if current else "   ", "ochre")
            pen.write(f"{words} {count}", "ink" if current else "dim", bold=current, hit=f"app.show_jobs('{name}')")
        if self.axis is None:
            return
        pen.write(f"   {self.choice}" if self.choice else "", "ochre")
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


@dataclass(frozen=True, slots=True)
class Column:
    """A column that may stand between a job's number and its state: its heading, its width, what it says."""

    name: str
    width: int
    right: bool
    says: Callable[[JobView], str]


COLUMNS = {
    column.name: column
    for column in (
        Column("name", 18, False, lambda view: view.name),
        Column("user", 7, False, lambda view: view.user),
        Column("account", 11, False, lambda view: view.account),
        Column("queue", 8, False, lambda view: view.queue),
        Column("tier", 7, False, lambda view: view.tier),
        Column("cores", 6, True, lambda view: f"{view.cores:,}"),
        Column("memory", 9, True, lambda view: format_size(view.memory_mib)),
        Column("walltime", 8, True, lambda view: format_duration(view.walltime_s)),
        Column("nodes", 12, False, lambda view: fold_names(view.nodes or view.forecast_nodes)),
        Column("charged", 9, True, lambda view: format_core_hours(view.charge_core_ms)),
    )
}
STATE_CELLS, LEAST_LANE = 26, 40
NUMBER_CELLS = 9


def shown_columns(widths: Mapping[str, int], width: int, scope: str) -> list[tuple[Column, int]]:
    """The columns that there is room for beside the lanes, with their widths, in the order chosen."""
    chosen = dict(widths) or {"name": 18, **({"user": 7} if scope != "mine" and width >= 130 else {}), "cores": 6}
    found, used = [], NUMBER_CELLS + 3 + STATE_CELLS
    for name, cells in chosen.items():
        if name not in COLUMNS:
            continue
        cells = min(cells, 14) if width < 130 and name == "name" else cells
        if used + cells + 2 > width - LEAST_LANE:
            break
        found.append((COLUMNS[name], cells))
        used += cells + 2
    return found


class JobRows(Rows):
    """Jobs, groups or nodes as rows, each with its lane."""

    DEFAULT_CSS = "JobRows { height: 2fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="jobs")
        self.arranged = Arranged([])
        self.axis = Axis(0)
        self.user = ""
        self.scope = "mine"
        self.opened: frozenset[RowKey] = frozenset()
        self.marked: set[int] = set()
        self.widths: dict[str, int] = {}

    @property
    def jobs(self) -> list[JobView]:
        """The jobs among the rows, in their order."""
        return [row.view for row in self.arranged.rows if row.view is not None]

    @property
    def left(self) -> int:
        """Where the lanes begin: what stands before them has what it needs and no more."""
        return NUMBER_CELLS + 3 + STATE_CELLS + sum(cells + 2 for _, cells in self.columns)

    @property
    def columns(self) -> list[tuple[Column, int]]:
        """The columns in sight."""
        return shown_columns(self.widths, self.room or self.size.width, self.scope)

    def row_count(self) -> int:
        """All rows."""
        return len(self.arranged.rows)

    def row(self) -> Row | None:
        """What is under the cursor."""
        return self.arranged.rows[self.cursor] if self.cursor < len(self.arranged.rows) else None

    def current(self) -> JobView | None:
        """The job under the cursor."""
        row = self.row()
        return row.view if row else None

    def show(self, arranged: Arranged) -> None:
        """New rows; the cursor stays on what it was on, and that stays where it was on the screen."""
        under = self.row()
        self.arranged, before = arranged, self.arranged
        if under is not None and before is not arranged:
            place = arranged.place_of(under.key, self.cursor)
            if place is not None and place != self.cursor:
                shift = place - self.cursor
                self.cursor = place
                self.virtual_size = Size(self.room, self.row_count())
                self.scroll_to(y=max(0, self.scroll_offset.y + shift), animate=False)
        self.refit()

    def clicked(self, row: int, column: int) -> None:
        """The cursor goes there; a second click opens the job."""
        again = row == self.cursor
        self.move(row)
        if again and (job := self.current()):
            self.post_message(OpenJob(job.job))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One row of whichever kind."""
        one = self.arranged.rows[row]
        if one.view is not None:
            self._draw_job(one, one.view, pen, current)
        elif one.node is not None:
            self._draw_node(one, one.node, pen, current)
        elif one.key[0] == "rest":
            pen.write("  " * one.depth).cell("·…", NUMBER_CELLS - pen.at, "dim", right=True)
            pen.write("  ").write(f"▱ {one.words}", "river")
        else:
            sign = "▸" if one.key in self.opened else "▾"
            pen.write(f" {sign} ", "ochre").write(f"{one.key[1]}".upper(), bold=True).write(f"   {one.words}", "dim")

    def _draw_job(self, row: Row, view: JobView, pen: Pen, current: bool) -> None:
        """Number, columns, state, lane."""
        past = view.phase.final
        colour = self.palette.of_phase(view.phase)
        left = self.left
        pen.write("▍" if view.job in self.marked else " ", "ochre")
        sign = ("▾" if ("array", view.job) in self.opened else "▸") if view.rows else " "
        pen.write("  " * row.depth + sign, "dim")
        label = f"·{view.task}" if view.parent is not None and row.depth else view.label
        pen.cell(label, NUMBER_CELLS - pen.at, "dim", right=True).write("  ")
        columns = self.columns
        if view.parameters and row.depth and columns:  # a task of an open array: what tells it from the others
            values = " ".join(f"{key}={value}" for key, value in view.parameters)
            pen.cell(values, sum(cells + 2 for _, cells in columns) - 2, "dim" if past else "ink", bold=current).write(
                "  "
            )
            columns = []
        for column, cells in columns:
            name = column.name == "name"
            words = column.says(view)
            pen.cell(
                words, cells, ("dim" if past else "ink") if name else "dim", right=column.right, bold=current and name
            )
            pen.write("  ")
        pen.write(view.phase.sign, colour)
        words = state_words(view, self.axis.now_ms, self.quarry.zone)
        tone = colour if not past or view.phase is not Phase.DONE else "dim"
        room = left - pen.at - 1
        if view.warning:
            words = words[: room - 3]
            pen.write(f" {words} ", tone).write("!", "rust", bold=True).to(left)
        else:
            pen.cell(f" {words}", room, tone).write(" ")
        draw_lane(pen, view, self.axis, self.room - left, view.user == self.user)

    def _draw_node(self, row: Row, node: NodeView, pen: Pen, current: bool) -> None:
        """Name, what is free, who has its cores when."""
        left = self.left
        sign = "▾" if row.key in self.opened else "▸"
        pen.write(f" {sign} ", "dim").cell(node.name, 9, "ink", bold=current).write(" ")
        bar_cells = 12
        used = min(node.cores, node.cores_used)
        parts = [(float(used), "━", "stone"), (float(node.cores - used), "━", "rust" if node.closed else "faint")]
        bar(pen, parts, bar_cells, node.cores)
        jobs = len({occupant.job for occupant in node.occupants})
        told = f"  {row.words}" + (f", {plural(jobs, 'job')}" if jobs and not node.closed else "")
        pen.cell(told, left - pen.at - 1, "rust" if node.closed else "dim").write(" ")
        draw_node_lane(pen, self.arranged.held.get(node.name, []), node.cores, self.axis, self.room - left)


LEVELS = "▁▂▃▄▅▆▇█"


def draw_node_lane(pen: Pen, held: list[tuple[int, int, int, str]], cores: int, axis: Axis, width: int) -> None:
    """How many of a node's cores were, are and will be taken, in the colour of who has most of them."""
    if width <= 0:
        return
    ticks = {column for column, _ in axis.ticks(width)}
    now = axis.column(axis.now_ms, width)
    step = axis.span_ms / width
    tones = {"mine": "ochre", "accounts": "moss", "others": "stone", "expected": "river"}
    sums: list[dict[str, int]] = [{} for _ in range(width)]
    for begin, end, amount, owner in held:
        first, last = max(0, axis.column(begin, width)), min(width, int((end - axis.begin_ms) / step) + 1)
        for column in range(first, last):
            at = axis.begin_ms + (column + 0.5) * step
            if begin <= at < end:
                sums[column][owner] = sums[column].get(owner, 0) + amount
    for column, owners in enumerate(sums):
        taken = sum(owners.values())
        if column == now:
            pen.write("│", "ink")
        elif taken and set(owners) == {"expected"}:
            pen.write("░", "river")
        elif taken:
            level = LEVELS[max(0, min(7, taken * 8 // max(1, cores) - (taken * 8 % max(1, cores) == 0)))]
            pen.write(level, tones[max(owners, key=lambda owner: owners[owner])])
        else:
            pen.write("┊" if column in ticks else "·", "faint")


def zoomed(axis: Axis, steps: int) -> None:
    """A longer or shorter stretch of time."""
    place = min(range(len(SPANS_MS)), key=lambda number: abs(SPANS_MS[number] - axis.span_ms))
    axis.span_ms = SPANS_MS[max(0, min(len(SPANS_MS) - 1, place + steps))]


def panned(axis: Axis, steps: int) -> None:
    """Earlier or later, a quarter of what is in sight."""
    axis.shift_ms += steps * axis.span_ms // 4


__all__ = ["COLUMNS", "Axis", "AxisLine", "JobRows", "draw_lane", "panned", "zoomed"]
