"""The hours of one node: who has it until when, who comes next, and when it is closed."""

from datetime import datetime, timedelta

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.theme import OWNERS
from lazy_quarry.core.units import clock_time, format_duration, plural
from lazy_quarry.views.board import Board, NodeView
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import shut_words

LABEL = 44
HOUR_MS = 3_600_000


class NodeHours(Rows):
    """A lane for each job of a node, running or expected, on one axis from now on."""

    DEFAULT_CSS = "NodeHours { width: 1fr; height: 1fr; display: none; }"

    def __init__(self) -> None:
        super().__init__(id="hours")
        self.board: Board | None = None
        self.node = ""
        self.lanes: list[tuple[str, str, int, int, str]] = []
        """Words, colour, from, until, and what the lane is."""
        self.span_ms = HOUR_MS
        self.beside = False
        """True when it stands below the nodes, and not in their place."""

    def show(self, board: Board, node: str) -> None:
        """The hours of a node as the plan has them."""
        self.board, self.node = board, node
        now = board.now_ms
        found = next((one for one in board.nodes if one.name == node), None)
        lanes: list[tuple[str, str, int, int, str]] = []
        for occupant in sorted(found.occupants, key=lambda one: one.until_ms) if found else []:
            colour = OWNERS[board.person.owner(occupant.user, occupant.account)]
            words = f"{occupant.label} {occupant.name} of {occupant.user}, {plural(len(occupant.cores), 'core')}"
            lanes.append((words, colour, now, max(now, occupant.until_ms), "runs"))
        coming = [job for job in board.jobs if node in job.forecast_nodes and job.forecast_ms is not None]
        for job in sorted(coming, key=lambda one: one.forecast_ms or 0)[:60]:
            lanes.append((_waiting_words(job), "river", job.forecast_ms or now, job.forecast_end_ms or now, "expected"))
        for window in board.site.windows:
            if node in window.nodes:
                lanes.append((window.reason, "rust", window.begins_ms, window.ends_ms, "no jobs"))
        if found and found.shut:
            shut = shut_words(found, now, self.quarry.zone)
            lanes.append((shut, "rust", now, now + 365 * 24 * HOUR_MS, "closed"))
        self.lanes = lanes
        ends = [until for _, _, _, until, what in lanes if what != "closed"]
        self.span_ms = max(HOUR_MS, min(max(ends, default=now) - now, 7 * 24 * HOUR_MS))
        self.found: NodeView | None = found
        self.refit()

    found: NodeView | None = None

    def row_count(self) -> int:
        """Heading, axis, lanes."""
        return 3 + max(1, len(self.lanes))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, the axis, or a lane."""
        if self.board is None:
            return
        if row < 3 or not self.lanes:
            pen.ground = "ground"
        if row == 0:
            traits = f", {', '.join(self.found.traits)}" if self.found and self.found.traits else ""
            cores = (
                f"{self.found.cores - self.found.cores_used} of {plural(self.found.cores, 'core')} free"
                if self.found
                else ""
            )
            pen.write(f" THE HOURS OF {self.node.upper()}", bold=True).write(
                f"   {cores}{traits}{'' if self.beside else '; esc goes back'}", "dim"
            )
        elif row == 2:
            self._axis(pen)
        elif row >= 3 and not self.lanes:
            pen.write("   nothing runs there, and nothing is expected to", "dim")
        elif row >= 3:
            self._lane(pen, *self.lanes[row - 3])

    def _width(self) -> int:
        return max(10, self.room - LABEL - 2)

    def _axis(self, pen: Pen) -> None:
        assert self.board is not None
        width = self._width()
        marks = [" "] * (width + 12)
        zone = self.quarry.zone
        begin = datetime.fromtimestamp(self.board.now_ms / 1000, zone)
        step = next((hours for hours in (1, 2, 3, 6, 12, 24, 48) if self.span_ms / HOUR_MS / hours <= width / 9), 72)
        at = begin.replace(minute=0, second=0, microsecond=0)
        while (at - begin) < timedelta(milliseconds=self.span_ms):
            at += timedelta(hours=1)
            since = at.hour if step < 24 else at.hour + 24 * (at.toordinal() % (step // 24))
            if since % step:
                continue
            column = round((at - begin) / timedelta(milliseconds=self.span_ms) * width)
            words = f"│{at:%H:%M}" if step < 24 and at.hour else f"│{at:%a}"
            if 5 <= column <= width - len(words) and all(mark == " " for mark in marks[column : column + len(words)]):
                marks[column : column + len(words)] = list(words)
        marks[0:3] = list("now")
        pen.write(" " * LABEL).write("".join(marks)[:width], "dim")

    def _lane(self, pen: Pen, words: str, colour: str, begin: int, end: int, what: str) -> None:
        assert self.board is not None
        pen.cell(f"   {words}", LABEL - 1, "ink" if what == "runs" else "dim").write(" ")
        width, now = self._width(), self.board.now_ms
        first = min(width - 1, max(0, round((begin - now) / self.span_ms * width)))
        last = min(width, max(first + 1, round((end - now) / self.span_ms * width)))
        sign = {"runs": "━", "expected": "╌", "no jobs": "▚", "closed": "▚"}[what]
        pen.write("·" * first, "faint").write(sign * (last - first), colour)
        if what != "closed":
            until = f" {clock_time(end, now, self.quarry.zone)}"
            pen.write(until if self.room - pen.at > len(until) else "", "dim")


def _waiting_words(job: JobView) -> str:
    return f"{job.job} {job.name} of {job.user}, for {format_duration(job.walltime_s)}"
