"""Lines about what a run used over its time: cores and memory as graphs on one scale with what it asked for."""

from collections.abc import Sequence
from datetime import tzinfo

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.units import clock_time, format_size
from lazy_quarry.views.job_view import JobView

LEVELS = " ▁▂▃▄▅▆▇█"
HIGH = 2
"""Rows of a graph."""
BEFORE, AFTER = 13, 10


def spread_over(samples: Sequence[Sample], begin_ms: int, end_ms: int, width: int) -> list[tuple[float, int]]:
    """Cores and memory of each cell of a time: what was measured nearest to it; the most, where there was more than once."""
    if not samples or width <= 0:
        return []
    found: list[list[Sample]] = [[] for _ in range(width)]
    span = max(1, end_ms - begin_ms)
    for sample in samples:
        found[max(0, min(width - 1, (sample[0] - begin_ms) * width // span))].append(sample)
    cells, last = list[tuple[float, int]](), (samples[0][1], samples[0][2])
    for some in found:
        if some:
            last = sum(one[1] for one in some) / len(some), max(one[2] for one in some)
        cells.append(last)
    return cells


def columns_of(values: Sequence[float], top: float, high: int) -> list[str]:
    """Values as columns of blocks in so many rows, the topmost row first; what is there is seen, however little."""
    rows = [""] * high
    for value in values:
        eighths = max(int(value > 0), round(min(1.0, value / top) * 8 * high)) if top > 0 else 0
        for row in range(high):
            rows[high - 1 - row] += LEVELS[max(0, min(8, eighths - 8 * row))]
    return rows


class UsageLines:
    """The lines of one run in so many cells; none where it was measured less than twice."""

    def __init__(self, view: JobView, samples: Sequence[Sample], now_ms: int, width: int, zone: tzinfo) -> None:
        self.view, self.samples, self.width, self.zone, self.now_ms = view, samples, width, zone, now_ms
        self.begin = view.started_ms if view.started_ms is not None else (samples[0][0] if samples else 0)
        self.end = view.ended_ms or now_ms
        room = max(8, width - BEFORE - AFTER)
        self.cells = spread_over(samples, self.begin, self.end, room) if len(samples) > 1 else []
        self.cores_top = max([view.cores, *(cores for cores, _ in self.cells)])
        self.memory_top = max([view.memory_mib, *(memory for _, memory in self.cells)])

    @property
    def count(self) -> int:
        """Number of lines."""
        return 2 * HIGH + 2 if self.cells else 0

    def draw(self, row: int, pen: Pen) -> None:
        """One of them."""
        if row == 0:
            pen.write(" OVER TIME", bold=True).write("   of what was requested", "dim")
        elif row <= HIGH:
            values = columns_of([cores for cores, _ in self.cells], self.cores_top, HIGH)
            self._line(
                pen, "cores" if row == 1 else "", values[row - 1], "ochre", f"{self.view.cores}" if row == 1 else ""
            )
        elif row <= 2 * HIGH:
            row -= HIGH
            values = columns_of([memory for _, memory in self.cells], self.memory_top, HIGH)
            self._line(
                pen,
                "memory" if row == 1 else "",
                values[row - 1],
                "ochre",
                format_size(self.view.memory_mib) if row == 1 else "",
            )
        else:
            first, last = (clock_time(at, self.now_ms, self.zone) for at in (self.begin, self.end))
            room = len(self.cells)
            pen.write(" " * BEFORE).write(first, "dim").write(" " * max(1, room - len(first) - len(last)))
            pen.write(last, "dim")

    @staticmethod
    def _line(pen: Pen, name: str, blocks: str, colour: str, words: str) -> None:
        pen.cell(f"   {name}", BEFORE, "dim").write(blocks, colour).write(f" {words}", "dim")
