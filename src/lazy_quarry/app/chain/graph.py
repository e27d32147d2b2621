"""The graph of a chain, drawn; the slab under the cursor is marked and kept in sight."""

from textual import events
from textual.geometry import Size
from textual.message import Message

from lazy_quarry.app.chain.canvas import Canvas, Cell, canvas
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.views.chain_views import ChainView


class SlabChosen(Message):
    """A slab was clicked; ``again`` when it had the cursor already."""

    def __init__(self, name: str, again: bool) -> None:
        super().__init__()
        self.name, self.again = name, again


class SlabsTied(Message):
    """A line was drawn with the mouse, from a job to one that comes after it."""

    def __init__(self, before: str, after: str) -> None:
        super().__init__()
        self.before, self.after = before, after


class EdgeChosen(Message):
    """The end of a line was clicked: of a job, and of what it waits for."""

    def __init__(self, name: str, other: str) -> None:
        super().__init__()
        self.name, self.other = name, other


class ChainGraph(Rows):
    """Slabs and lines; it follows the cursor of the list below. Slabs are clicked, and tied by dragging."""

    DEFAULT_CSS = "ChainGraph { height: 1fr; min-height: 7; }"
    has_cursor = False
    can_focus = False

    def __init__(self) -> None:
        super().__init__(id="graph")
        self.view: ChainView | None = None
        self.drawn = Canvas()
        self.chosen, self.begun, self.shift = "", "", 0
        self.fold = True
        self._pressed = ""
        self.supposed: dict[str, str] = {}
        """Suppositions about jobs, in words."""

    def show(self, view: ChainView | None) -> None:
        """Another chain, or the same at another time."""
        self.view = view
        room = (self.room - 2, self.size.height) if self.room and self.size.height else None
        self.drawn = canvas(view, self.quarry.zone, room, self.fold, self.supposed) if view is not None else Canvas()
        width = len(self.drawn.rows[0]) if self.drawn.rows else 0
        self.shift = max(0, min(self.shift, width - self.room + 2))
        self.choose(self.chosen)

    def on_resize(self) -> None:
        """Fit to the new size."""
        self.show(self.view)

    def choose(self, name: str, begun: str = "") -> None:
        """Mark a job and bring it in sight. ``begun``: a line is being drawn from this other one."""
        self.chosen, self.begun = name, begun
        if name in self.drawn.places and self.room:
            x, y = self.drawn.places[name]
            if x < self.shift or x + self.drawn.wide > self.shift + self.room - 2:
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
        marked = {self._slab_of(self.chosen): "river" if self.begun else "ochre"} if self.chosen else {}
        if self.begun:
            marked[self._slab_of(self.begun)] = "ochre"
        cells = self.drawn.rows[row][self.shift : self.shift + max(0, self.room - 2)]
        pen.write(" " if not self.shift else "‹", "faint")
        begin = 0
        for at in range(1, len(cells) + 1):
            if at < len(cells) and _like(cells[at]) == _like(cells[begin]):
                continue
            one, text = cells[begin], "".join(cell.sign for cell in cells[begin:at])
            ground = marked.get(one.part, "") if one.part else ""
            colour = "ground" if ground else one.colour
            pen.write(text, colour, ground=ground or ("raised" if one.raised else "ground"), bold=one.bold)
            begin = at
        if self.shift + self.room - 2 < len(self.drawn.rows[row]):
            pen.write("›", "faint")

    def _slab_of(self, name: str) -> str:
        """The job whose name the slab of this one goes by."""
        return next((slab for slab, names in self.drawn.folded.items() if name in names), name)

    # -- the mouse ---------------------------------------------------------------------------------

    def _cell(self, event: events.MouseEvent) -> Cell | None:
        row, at = event.y + self.scroll_offset.y, event.x - 1 + self.shift
        if not 0 <= row < len(self.drawn.rows) or not 0 <= at < len(self.drawn.rows[row]):
            return None
        return self.drawn.rows[row][at]

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """A line may begin here."""
        cell = self._cell(event)
        self._pressed = cell.part if cell is not None else ""

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """It ends on another slab."""
        cell = self._cell(event)
        if cell is not None and cell.part and self._pressed and cell.part != self._pressed:
            self.post_message(SlabsTied(self._pressed, cell.part))
        self._pressed = ""

    def on_click(self, event: events.Click) -> None:
        """Go to the job whose slab it is, or turn what its line means."""
        event.prevent_default()
        cell = self._cell(event)
        if cell is not None and cell.part:
            self.post_message(SlabChosen(cell.part, cell.part == self._slab_of(self.chosen)))
        elif cell is not None and cell.edge is not None:
            self.post_message(EdgeChosen(*cell.edge))


def _like(cell: object) -> tuple[object, ...]:
    return tuple(getattr(cell, name) for name in ("colour", "raised", "bold", "part"))
