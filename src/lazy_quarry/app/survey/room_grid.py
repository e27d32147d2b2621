"""Room now, as a grid: how long by what shape, each cell the most that could start this minute."""

from dataclasses import dataclass

from textual import events
from textual.message import Message

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.core.plan.room import KINDS, WALLTIMES_S
from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.views.outcomes import RoomView

CELL, FIRST = 7, 22


@dataclass
class RoomChosen(Message):
    """Draft what fits into a cell."""

    room: RoomView


class RoomGrid(Rows):
    """The most that could start in each queue, by its shape, for five walltimes."""

    DEFAULT_CSS = "RoomGrid { height: auto; max-height: 16; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="room")
        self.rooms: dict[tuple[str, str, int], RoomView] = {}
        self.rows: list[tuple[str, str]] = []
        """Queue and shape of each row."""
        self.totals: dict[str, int] = {}
        self.column = 1
        self.cursor = 2

    def show(self, rooms: list[RoomView], totals: dict[str, int], with_gpus: frozenset[str]) -> None:
        """Show the room in queues of so many cores; GPUs only of queues that have some."""
        self.rooms, self.totals = {(one.queue, one.kind, one.walltime_s): one for one in rooms}, totals
        possible = {(one.queue, one.kind) for one in rooms if one.kind != "GPUs" or one.queue in with_gpus}
        some = {one.queue for one in rooms if one.cores}
        rows = list[tuple[str, str]]()
        for queue in totals:
            rows += [(queue, kind) for kind in KINDS if (queue, kind) in possible] if queue in some else [(queue, "")]
        if rows != self.rows:
            self.rows = rows
            self.refresh(layout=True)
        self.refit()
        self.cursor = max(2, self.cursor)

    def get_content_height(self, container, viewport, width) -> int:  # type: ignore[no-untyped-def]
        """As many rows as there are."""
        return self.row_count()

    def row_count(self) -> int:
        """A heading, the walltimes, the shapes of each queue."""
        return 2 + len(self.rows)

    def under_cursor(self) -> RoomView | None:
        """The room in the cell under the cursor, if there is any."""
        if not 2 <= self.cursor < self.row_count():
            return None
        room = self.rooms.get((*self.rows[self.cursor - 2], WALLTIMES_S[self.column]))
        return room if room and room.cores else None

    def move(self, to: int) -> None:
        """To another shape."""
        super().move(max(2, to))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, the walltimes, or a shape."""
        pen.ground = "ground"
        if row == 0:
            pen.write(" ROOM NOW", bold=True).write("   cores that could start this minute, for", "dim")
            return
        if row == 1:
            pen.cell("", FIRST)
            for walltime in WALLTIMES_S:
                pen.cell(f"{format_duration(walltime)}", CELL, "dim", right=True)
            return
        queue, kind = self.rows[row - 2]
        first = row == 2 or self.rows[row - 3][0] != queue
        pen.cell(f" {queue}" if first else "", 9, "ink", bold=first)
        if not kind:
            pen.write(" nothing could start now", "dim")
            return
        pen.cell(f" {kind}", FIRST - 9, "dim")
        for place, walltime in enumerate(WALLTIMES_S):
            room = self.rooms.get((queue, kind, walltime))
            here = current and self.has_focus and place == self.column
            if room is None:
                words, colour = "limit", "faint"
            elif not room.cores:
                words, colour = "–", "dim"
            else:
                words, colour = self._words(room), self._shade(room)
            ground = "raised" if here else "ground"
            text = f"{words:>{CELL - 1}}"[-(CELL - 1) :]
            pen.write(" ", ground="ground").write(text, "ochre" if here else colour, ground=ground, bold=here)

    @staticmethod
    def _words(room: RoomView) -> str:
        return plural(room.gpus, "GPU") if room.kind == "GPUs" else f"{room.cores:,}"

    def _shade(self, room: RoomView) -> str:
        total = max(1, self.totals.get(room.queue, 1))
        return "moss" if room.cores * 4 >= total or (room.kind == "one node" and room.cores >= 16) else "ink"

    def on_key(self, event: events.Key) -> None:
        """Left and right between walltimes, enter drafts."""
        if event.key in ("left", "right"):
            self.column = (self.column + (1 if event.key == "right" else -1)) % len(WALLTIMES_S)
            self.post_message(CursorMoved())
            self.refresh()
        elif event.key == "enter" and self.under_cursor() is not None:
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
        if row < 2 or not 0 <= place < len(WALLTIMES_S):
            return
        same = self.has_focus and row == self.cursor and place == self.column
        self.column = place
        self.move(row)
        self.refresh()
        if same:
            self.choose()
