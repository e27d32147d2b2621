"""The graph of a chain, drawn; the slab under the cursor is marked and kept in sight."""

from textual.geometry import Size

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.chain_canvas import WIDE, Canvas, canvas
from lazy_quarry.app.widgets.drawing import Rows
from lazy_quarry.site.chain_views import ChainView


class ChainGraph(Rows):
    """Slabs and lines; it follows the cursor of the list below, and a click on a slab goes there."""

    DEFAULT_CSS = "ChainGraph { height: 1fr; min-height: 7; }"
    has_cursor = False
    can_focus = False

    def __init__(self) -> None:
        super().__init__(id="graph")
        self.drawn = Canvas()
        self.chosen, self.shift = "", 0

    def show(self, view: ChainView | None) -> None:
        """Another chain, or the same at another time."""
        self.drawn = canvas(view, self.quarry.zone) if view is not None else Canvas()
        self.choose(self.chosen)

    def choose(self, name: str) -> None:
        """Mark a job and bring it in sight."""
        self.chosen = name
        if name in self.drawn.places and self.room:
            x, y = self.drawn.places[name]
            if x < self.shift or x + WIDE > self.shift + self.room - 2:
                self.shift = max(0, min(x - 8, len(self.drawn.rows[0]) - self.room + 2))
            top, height = self.scroll_offset.y, max(1, self.size.height)
            if y < top or y + 2 > top + height:
                self.scroll_to(y=max(0, y - 1), animate=False)
        self.virtual_size = Size(self.room, self.row_count())
        self.refresh()

    def row_count(self) -> int:
        """Rows of the drawing."""
        return len(self.drawn.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One row of cells; neighbours alike are written at once."""
        cells = self.drawn.rows[row][self.shift : self.shift + max(0, self.room - 2)]
        pen.write(" " if not self.shift else "‹", "faint")
        begin = 0
        for at in range(1, len(cells) + 1):
            if at < len(cells) and _like(cells[at]) == _like(cells[begin]):
                continue
            one, text = cells[begin], "".join(cell.sign for cell in cells[begin:at])
            chosen = bool(one.part) and one.part == self.chosen
            colour = "ground" if chosen else one.colour
            pen.write(text, colour, ground="ochre" if chosen else "raised" if one.raised else "ground", bold=one.bold)
            begin = at

    def clicked(self, row: int, column: int) -> None:
        """Go to the job whose slab it is."""
        at = column - 1 + self.shift
        cells = self.drawn.rows[row]
        if 0 <= at < len(cells) and cells[at].part:
            place = self.screen.query_one("ChainPlace")
            place.choose(cells[at].part)  # type: ignore[attr-defined]


def _like(cell: object) -> tuple[object, ...]:
    return tuple(getattr(cell, name) for name in ("colour", "raised", "bold", "part"))
