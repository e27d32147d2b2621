"""Drawing a line of characters: pieces with a style, and the parts of it that can be clicked."""

from msgspec import Struct, field
from rich.cells import cell_len, set_cell_size
from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip

from lazy_quarry.app.shared.theme import Palette
from lazy_quarry.core.plain_text import plain

QUIET_SIGN = "╱"
"""The sign of a node that doesn't answer: nobody knows what it does."""
FILLS = ("faint", "stone")
"""Roles for lines and fills: as colours of words they would be hard to read."""
Piece = tuple[str, str] | tuple[str, str, bool]  # words, the role their colour has, and whether they are bold


class Pen(Struct):
    """One line being drawn, left to right. ``hits`` are (from, to, what) of its parts to click."""

    palette: Palette
    ground: str = "ground"
    pieces: list[tuple[str, Style]] = field(default_factory=list)
    hits: list[tuple[int, int, str]] = field(default_factory=list)
    at: int = 0

    def write(self, text: str, colour: str = "ink", *, ground: str = "", bold: bool = False, hit: str = "") -> "Pen":
        """Add text in the colour of a role."""
        if text:
            text = plain(text)
            if colour in FILLS and any(map(str.isalnum, text)):
                colour = "dim"  # words are read, whatever they are beside
            self.pieces.append((text, self.palette.style(colour, ground or self.ground, bold)))
            width = cell_len(text)
            if hit:
                self.hits.append((self.at, self.at + width, hit))
            self.at += width
        return self

    def cell(
        self, text: str, width: int, colour: str = "ink", *, right: bool = False, bold: bool = False, hit: str = ""
    ) -> "Pen":
        """Add text in exactly ``width`` cells; what is cut ends in an ellipsis."""
        text = plain(text)
        size = cell_len(text)
        if size > width:
            text = set_cell_size(text, max(0, width - 1)) + "…" if width > 0 else ""
        elif right:
            text = " " * (width - size) + text
        else:
            text = text + " " * (width - size)
        return self.write(text, colour, bold=bold, hit=hit)

    def to(self, column: int) -> "Pen":
        """Leave space up to a column."""
        return self.write(" " * max(0, column - self.at))

    def strip(self, width: int) -> Strip:
        """The finished line, exactly ``width`` cells wide."""
        segments = [Segment(text, style) for text, style in self.pieces]
        return Strip(segments, self.at).adjust_cell_length(width, self.palette.style("ink", self.ground))


def bar(pen: Pen, parts: list[tuple[float, str, str]], width: int, total: float) -> None:
    """Parts (amount, character, colour) of a total as a bar of ``width`` cells; rounding never loses a cell."""
    drawn, sofar = 0, 0.0
    for amount, character, colour in parts:
        sofar += amount
        until = min(width, round(sofar / total * width)) if total > 0 else 0
        if amount > 0 and until == drawn and drawn < width:
            until = drawn + 1  # what is there is seen, however little
        pen.write(character * (until - drawn), colour)
        drawn = max(drawn, until)


def wrap(text: str, width: int, most: int) -> list[str]:
    """Text in lines of at most ``width`` cells; the last one ends in an ellipsis when not all fits."""
    lines: list[str] = []
    line = ""
    for word in text.split():
        longer = f"{line} {word}".strip()
        if cell_len(longer) <= width or not line:
            line = longer
        else:
            lines.append(line)
            line = word
    if line:
        lines.append(line)
    if len(lines) > most:
        lines = lines[:most]
        lines[-1] = set_cell_size(lines[-1], max(0, min(width, cell_len(lines[-1]) + 1) - 1)).rstrip() + "…"
    return lines
