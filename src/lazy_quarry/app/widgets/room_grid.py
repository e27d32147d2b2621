"""Room now, as a grid: how long by what shape, each cell the most that could start this minute."""

from dataclasses import dataclass

from textual import events
from textual.message import Message

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.messages import CursorMoved
from lazy_quarry.app.widgets.drawing import Rows
from lazy_quarry.core.plan.room import KINDS, WALLTIMES_S
from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.site.views import RoomView

CELL = 13
FIRST = 7


@dataclass
class RoomChosen(Message):
    """Draft what fits into a cell."""

    room: RoomView


class RoomGrid(Rows):
    """Five walltimes × four shapes of one queue."""

    DEFAULT_CSS = "RoomGrid { height: 9; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="room")
        self.rooms: dict[tuple[int, str], RoomView] = {}
        self.queue = ""
        self.total = 1
        self.column = 0
        self.cursor = 2

    def show(self, queue: str, rooms: list[RoomView], total: int) -> None:
        """What there is room for in a queue of so many cores."""
        self.queue, self.total = queue, max(1, total)
        self.rooms = {(room.walltime_s, room.kind): room for room in rooms}
        self.refit()
        self.cursor = max(2, self.cursor)

    def row_count(self) -> int:
        """A heading, the shapes, the walltimes."""
        return 2 + len(WALLTIMES_S)

    def under_cursor(self) -> RoomView | None:
        """The room in the cell under the cursor, if there is any."""
        room = self.rooms.get((WALLTIMES_S[max(0, self.cursor - 2)], KINDS[self.column]))
        return room if room and room.cores else None

    def move(self, to: int) -> None:
        """To another walltime."""
        super().move(max(2, to))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, or a walltime."""
        pen.ground = "ground"
        if row == 0:
            pen.write(" ROOM NOW", bold=True).write("  cores that could start this minute, in  ", "dim")
            pen.write(self.queue, "ochre", bold=True)
            return
        if row == 1:
            pen.write("   for ", "dim")
            for kind in KINDS:
                pen.cell(kind, CELL, "dim", right=True)
            return
        walltime = WALLTIMES_S[row - 2]
        pen.write(f"   {format_duration(walltime):<4}", "ink")
        for place, kind in enumerate(KINDS):
            room = self.rooms.get((walltime, kind))
            here = current and self.has_focus and place == self.column
            if room is None:
                words, colour = "over limit", "faint"
            elif not room.cores:
                words, colour = "–", "dim"
            else:
                words, colour = self._words(room), self._shade(room)
            ground = "raised" if here else "ground"
            text = f"{words:>{CELL - 1}}"[-(CELL - 1) :]
            pen.write(" ", ground="ground").write(text, "ochre" if here else colour, ground=ground, bold=here)

    @staticmethod
    def _words(room: RoomView) -> str:
        if room.kind == "GPUs":
            return plural(room.gpus, "GPU")
        if room.kind == "whole nodes":
            return plural(room.nodes, "node")
        return f"{room.cores:,}" if room.kind == "one node" else f"{room.cores:,} on {room.nodes}"

    def _shade(self, room: RoomView) -> str:
        return "moss" if room.cores * 4 >= self.total or (room.kind == "one node" and room.cores >= 16) else "ink"

    def on_key(self, event: events.Key) -> None:
        """Left and right between shapes, enter drafts."""
        if event.key in ("left", "right"):
            self.column = (self.column + (1 if event.key == "right" else -1)) % len(KINDS)
            self.post_message(CursorMoved())
            self.refresh()
        elif event.key == "enter":
            self.choose()
        else:
            super().on_key(event)
            return
        event.stop()
        event.prevent_default()

    def choose(self) -> None:
        """Draft what fits into the cell."""
        if room := self.under_cursor():
            self.post_message(RoomChosen(room))

    def clicked(self, row: int, column: int) -> None:
        """A click on a cell goes there; on the one with the cursor, drafts it."""
        place = (column - FIRST) // CELL
        if row < 2 or not 0 <= place < len(KINDS):
            return
        same = self.has_focus and row == self.cursor and place == self.column
        self.column = place
        self.move(row)
        self.refresh()
        if same:
            self.choose()
