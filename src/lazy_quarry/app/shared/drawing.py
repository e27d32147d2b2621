"""Widgets that draw their own lines; only visible lines cost time."""

from typing import Self, cast

from textual import events
from textual.geometry import Size
from textual.scroll_view import ScrollView
from textual.strip import Strip
from textual.widget import Widget

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.app.shared.theme import PALETTES, Palette


class Drawing:
    """The base of both kinds of drawn widgets: the palette, and finding what was clicked."""

    hits: dict[int, list[tuple[int, int, str]]]

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return cast(Quarry, self.app)  # type: ignore[attr-defined]

    @property
    def palette(self) -> Palette:
        """The colours in use."""
        return PALETTES.get(self.app.theme, PALETTES["dusk"])  # type: ignore[attr-defined]

    def focus(self, scroll_visible: bool = True) -> Self:
        """Have the keys from now on; where it can't yet, as soon as it can.

        Textual's own waits always, and a key that is typed at once goes astray.
        """
        if self.focusable:  # type: ignore[attr-defined]
            self.screen.set_focus(self, scroll_visible)  # type: ignore[attr-defined]
            return self
        return super().focus(scroll_visible)  # type: ignore[misc,no-any-return]

    def keep(self, row: int, pen: Pen) -> None:
        """Remember what of a drawn line can be clicked."""
        self.hits[row] = pen.hits

    def hit_at(self, row: int, column: int) -> str:
        """The action at this place of a line, or empty."""
        return next((what for begin, end, what in self.hits.get(row, ()) if begin <= column < end), "")


class Lines(Drawing, Widget):
    """A few lines, drawn by :meth:`draw`."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.hits = {}

    def draw(self, row: int, pen: Pen) -> None:
        """Draw one line."""

    def render_line(self, y: int) -> Strip:
        """One finished line."""
        pen = Pen(self.palette)
        self.draw(y, pen)
        self.keep(y, pen)
        return pen.strip(self.size.width)

    async def on_click(self, event: events.Click) -> None:
        """Do what stands where the click was."""
        if action := self.hit_at(event.y, event.x):
            await self.app.run_action(action)


class Rows(Drawing, ScrollView, can_focus=True):
    """A list of any length with a cursor; only the rows in sight are drawn, by :meth:`draw_row`."""

    DEFAULT_CSS = "Rows { overflow-x: hidden; overflow-y: auto; scrollbar-size-vertical: 1; }"

    has_cursor = True
    """False for lists that are only read; the arrows then just scroll them."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.hits = {}
        self.cursor = 0

    def row_count(self) -> int:
        """Number of rows."""
        return 0

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Draw one row."""

    def cursor_changed(self) -> None:
        """The cursor is on another row."""
        self.post_message(CursorMoved())

    def on_focus(self) -> None:
        """The cursor shows."""
        self.refresh()

    def on_blur(self) -> None:
        """The cursor goes."""
        self.refresh()

    @property
    def room(self) -> int:
        """Cells that a row has, beside the scrollbar if there is one."""
        return self.scrollable_content_region.width

    def refit(self) -> None:
        """The number of rows may have changed."""
        self.virtual_size = Size(self.room, self.row_count())
        self.cursor = max(0, min(self.cursor, self.row_count() - 1))
        self.refresh()

    def render_line(self, y: int) -> Strip:
        """The row at this height, wherever it is scrolled to."""
        row = y + self.scroll_offset.y
        current = self.has_cursor and row == self.cursor and row < self.row_count()
        pen = Pen(self.palette, "raised" if current else "ground")
        if row < self.row_count():
            self.draw_row(row, pen, current)
        self.keep(row, pen)
        return pen.strip(self.room)

    def move(self, to: int) -> None:
        """Put the cursor on a row and bring it in sight."""
        to = max(0, min(to, self.row_count() - 1))
        if to != self.cursor:
            self.cursor = to
            self.cursor_changed()
        height = self.size.height
        if not height:
            pass  # it has no place on the screen yet
        elif to < self.scroll_offset.y:
            self.scroll_to(y=to, animate=False, force=True)
        elif to >= self.scroll_offset.y + height:
            # By force: else it is left out where the scrollbar doesn't show yet.
            self.scroll_to(y=to - height + 1, animate=False, force=True)
        self.refresh()

    def on_resize(self) -> None:
        """Fit to the new size."""
        self.refit()

    def on_key(self, event: events.Key) -> None:
        """Move the cursor."""
        page = max(1, self.size.height - 1)
        if not self.has_cursor:
            self.cursor = self.scroll_offset.y if "up" in event.key else self.scroll_offset.y + self.size.height - 1
        steps = {"up": -1, "k": -1, "down": 1, "j": 1, "pageup": -page, "pagedown": page}
        if event.key in steps:
            self.move(self.cursor + steps[event.key])
        elif event.key == "home":
            self.move(0)
        elif event.key == "end":
            self.move(self.row_count() - 1)
        else:
            return
        event.stop()
        event.prevent_default()

    def clicked(self, row: int, column: int) -> None:
        """A row was clicked; by default the cursor goes there."""
        self.move(row)

    def on_click(self, event: events.Click) -> None:
        """Take the click to its row."""
        row = event.y + self.scroll_offset.y
        if row < self.row_count():
            self.clicked(row, event.x)
