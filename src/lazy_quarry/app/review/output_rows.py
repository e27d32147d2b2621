"""The output of a job by line, wherever in its file one is."""

from textual import events
from textual.message import Message

from lazy_quarry.app.review.output_window import OutputWindow
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.advice.error_lines import is_wrong
from lazy_quarry.core.units import format_bytes
from lazy_quarry.run.runner import OutputChunk

HEAD = 2
"""Rows above the first line."""


class MoreWanted(Message):
    """Another part of the file is wanted: the ``start``, the ``end``, what is ``earlier`` or ``later``."""

    def __init__(self, where: str) -> None:
        super().__init__()
        self.where = where


class OutputRows(Rows):
    """A heading, the path, and lines; the end of the file is followed while the cursor is on it."""

    DEFAULT_CSS = "OutputRows { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="output")
        self.heading = "OUTPUT"
        self.window = OutputWindow()
        self.rows: list[str] = []
        self.sideways = 0
        self.wrapped = False
        self.told = ""

    @property
    def following(self) -> bool:
        """True when what comes is to be shown: the cursor is on the last line of the file."""
        return self.cursor >= self.row_count() - 2 and self.window.at_end

    @property
    def line(self) -> str:
        """The line under the cursor."""
        at = self.cursor - HEAD
        return self.rows[at] if 0 <= at < len(self.rows) else ""

    def row_count(self) -> int:
        """Heading, path, and the lines."""
        return len(self.rows) + HEAD

    def show(self, begin: int, chunk: OutputChunk, which: str, at_end: bool = True) -> None:
        """Another part of this file or another; with ``at_end`` its end is in sight, else its beginning."""
        self.heading = which.upper()
        self.window.put(begin, chunk)
        self._fill()
        self.refit()
        if at_end:
            self.move(self.row_count() - 1)
        else:
            self.move(HEAD)
            self.scroll_to(y=0, animate=False)  # the heading too

    def add_later(self, chunk: OutputChunk) -> None:
        """Add what follows."""
        gone = self.window.later(chunk)
        self._fill()
        self.cursor = max(HEAD, self.cursor - gone)
        if gone:
            self.scroll_to(y=max(0, self.scroll_offset.y - gone), animate=False)
        self.refit()

    def add_earlier(self, begin: int, chunk: OutputChunk) -> None:
        """Add what stands before; the line under the cursor stays where it was on the screen."""
        before, height = len(self.rows), self.cursor - self.scroll_offset.y
        self.window.earlier(begin, chunk)
        self._fill()
        more = max(0, len(self.rows) - before)
        self.cursor += more
        self.refit()
        # once it is known that there are more rows; what was the top is not left at the edge
        height = height if height > HEAD else self.size.height // 3
        self.call_after_refresh(self.scroll_to, y=max(0, self.cursor - height), animate=False)

    def _fill(self) -> None:
        window = self.window
        lines = [line.expandtabs(4) for line in window.lines]
        if window.problem:
            lines = [window.problem]
        elif not lines:
            lines = ["nothing was printed"]
        if self.wrapped:
            width = max(20, self.room - 2)
            lines = [line[at : at + width] for line in lines for at in range(0, max(1, len(line)), width)]
        self.rows = lines

    def wrap(self) -> None:
        """Long lines over several rows, or on one."""
        self.wrapped = not self.wrapped
        self.sideways = 0
        self._fill()
        self.refit()

    def on_key(self, event: events.Key) -> None:
        """The arrows; beyond the edge of what was read more of the file is asked for."""
        if event.key in ("home", "end"):
            self.post_message(MoreWanted("start" if event.key == "home" else "end"))
            event.stop()
            event.prevent_default()
            return
        super().on_key(event)

    def cursor_changed(self) -> None:
        """Near an edge, ask for more."""
        super().cursor_changed()
        self._ask()

    def on_resize(self) -> None:
        """Fit to the new size; the end that is followed stays in sight."""
        following = self.following
        super().on_resize()
        if following:
            self.move(self.row_count() - 1)

    def on_mouse_scroll_up(self) -> None:
        """The wheel comes to the edge too."""
        self._ask(self.scroll_offset.y)

    def _ask(self, row: int | None = None) -> None:
        row = self.cursor if row is None else row
        if row <= HEAD + 5 and self.window.begin > 0:
            self.post_message(MoreWanted("earlier"))
        elif row >= self.row_count() - 5 and not self.window.at_end:
            self.post_message(MoreWanted("later"))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line; long ones go on to the right with the arrows."""
        window = self.window
        if row == 0:
            pen.write(f" {self.heading}", bold=True)
            part = f"from {format_bytes(window.begin)} of {format_bytes(window.size)}" if window.begin else ""
            pen.write(f"   {part or (format_bytes(window.size) if window.size else '')}", "dim")
            pen.write(f"   {self.told}" if self.told else "", "river")
        elif row == 1:
            pen.cell(f" {window.path}", max(0, self.room), "dim")
        else:
            text = self.rows[row - HEAD]
            shown = "".join(sign if sign.isprintable() else "·" for sign in text[self.sideways : self.sideways + 1000])
            pen.write(f" {shown}", "rust" if is_wrong(text) else "ink")

    def shift(self, columns: int) -> None:
        """Look further right or left."""
        self.sideways = max(0, self.sideways + columns)
        self.refresh()
