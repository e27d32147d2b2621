"""Lines about what a job told of itself: its parts as lanes over its time, its spread tasks as a field of cells."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.core.job.inside import Inside, Part, Spread, thinned
from lazy_quarry.core.units import format_size
from lazy_quarry.wording.sentences import spread_told, took_words

MOST_LANES, FIELD_ROWS = 8, 3
WIDE_FROM = 80
"""Cells from which on there is room for what each part had in memory."""
_CELLS = {"d": ("▪", "moss"), "r": ("▰", "ochre"), "f": ("✕", "rust"), "s": ("⊘", "dim"), ".": ("·", "faint")}


class InsideLines:
    """The lines of one job between two instants, in so many cells, and at ``most`` so many.

    ``ended``: the job has, so what was under way was cut short.
    """

    def __init__(
        self, inside: Inside | None, begin_ms: int, end_ms: int, width: int, most: int = 99, ended: bool = False
    ) -> None:
        self.ended = ended
        self.inside, self.begin_ms, self.end_ms, self.width = inside, begin_ms, max(end_ms, begin_ms + 1), width
        parts = inside.parts if inside is not None else ()
        self.spread = inside.spread if inside is not None else None
        lanes = max(0, min(MOST_LANES, most - 1 - (2 if self.spread is not None else 0)))
        self.lanes = parts if len(parts) <= lanes else parts[: max(0, lanes - 1)]
        self.left_out = len(parts) - len(self.lanes) if self.lanes else 0
        self._per_row = max(1, width - 6)
        self.field_rows = 0
        if self.spread is not None:
            room = most - (1 + len(self.lanes) + bool(self.left_out) if self.lanes else 0) - 1
            self.field_rows = max(0, min(FIELD_ROWS, room, -(-len(self.spread.field) // self._per_row)))

    @property
    def count(self) -> int:
        """Number of lines."""
        lanes = len(self.lanes) + bool(self.left_out) + bool(self.lanes)
        return lanes + (1 + self.field_rows if self.spread is not None else 0)

    def draw(self, row: int, pen: Pen) -> None:
        """One of them."""
        if self.lanes:
            if row == 0:
                ranks = all(part.kind == "rank" for part in self.lanes)
                pen.write(" RANKS" if ranks else " PHASES", bold=True)
                return
            row -= 1
            if row < len(self.lanes):
                self._lane(self.lanes[row], pen)
                return
            row -= len(self.lanes)
            if self.left_out:
                if row == 0:
                    pen.write(f"   and {self.left_out} more", "dim")
                    return
                row -= 1
        if self.spread is not None:
            self._field(row, self.spread, pen)

    def _depth(self, part: Part) -> int:
        assert self.inside is not None
        depth = 0
        while part.above >= 0 and depth < 6:
            part, depth = self.inside.parts[part.above], depth + 1
        return depth

    def _lane(self, part: Part, pen: Pen) -> None:
        narrow = self.width < WIDE_FROM
        pen.cell(
            f"   {'  ' * self._depth(part)}{part.name}",
            16 if narrow else 20,
            "ink" if part.over or self.ended else "ochre",
        ).write(" ")
        words = took_words(part.took_ms)
        if part.over:
            words += f", {format_size(part.memory_peak_mib)}" if part.memory_peak_mib and not narrow else ""
            words += f", {part.signal or f'exit {part.exit}'}" if part.exit != 0 else ""
        room = max(6, self.width - pen.at - (18 if narrow else 27))
        span = self.end_ms - self.begin_ms
        begin = max(0, min(room - 1, (part.began_ms - self.begin_ms) * room // span))
        end = max(begin + 1, min(room, -(-(part.began_ms + part.took_ms - self.begin_ms) * room // span)))
        cut = self.ended and not part.over
        words += ", cut short" if cut else ""
        bad = cut or (part.over and part.exit != 0)
        colour = "rust" if bad else "ochre" if not part.over else "moss" if part.kind == "phase" else "stone"
        pen.write("·" * begin, "faint").write("█" * (end - begin), colour).write("·" * (room - end), "faint")
        pen.write(f" {words}", "rust" if bad else "dim")

    def _field(self, row: int, spread: Spread, pen: Pen) -> None:
        if row == 0:
            pen.write(" SPREAD", bold=True).write(f"   {spread_told(spread)}", "rust" if spread.failed else "dim")
            return
        cells = thinned(spread.field, max(1, self.field_rows * self._per_row))
        shown = cells[(row - 1) * self._per_row : row * self._per_row]
        pen.write("   ")
        begin = 0
        for at in range(1, len(shown) + 1):
            if at == len(shown) or shown[at] != shown[begin]:
                sign, colour = _CELLS[shown[begin]]
                pen.write(sign * (at - begin), colour)
                begin = at
