"""A document laid out on A4 pages and written as PDF: text stays text, fonts are embedded, pages are numbered."""

import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from lazy_quarry.core.values import replace
from lazy_quarry.draw.figure import manner
from lazy_quarry.draw.grounds import PRINT
from lazy_quarry.draw.pages.printed import Block, Drawn, Heading, Paragraph, Printed, Table
from lazy_quarry.draw.paint import Page
from lazy_quarry.draw.values import Figure, Plots, Scale
from lazy_quarry.errors import QuarryError

WIDTH, HEIGHT = 8.27, 11.69
"""A4 in inches."""
EDGE, TOP, FOOT = 0.9, 0.85, 10.75
_EMPTY = Figure(name="", title="", panel=Plots(Scale(0, 1), ()), source="")
Placed = tuple[Block, float, float]
"""A block, or a part of it, with where it begins on its page and how high it is."""


def write_pages(printed: Printed, path: Path) -> int:
    """Write a document; returns how many pages it has. Raises :class:`QuarryError` where it can't be written."""
    from matplotlib.backends.backend_pdf import PdfPages

    pages = _Sheet().pages(printed)
    part = path.with_name(f".{path.name}.part")
    try:
        with warnings.catch_warnings(), PdfPages(part, metadata={"Title": printed.title, "CreationDate": None}) as out:
            warnings.filterwarnings("ignore", message="Glyph")  # a sign that the font lacks is drawn as a box
            for number, placed in enumerate(pages, 1):
                out.savefig(_Sheet().painted_page(printed, placed, number, len(pages)))
        part.replace(path)
    except OSError as fault:
        part.unlink(missing_ok=True)
        raise QuarryError(f"{path} cannot be written: {fault.strerror}") from None
    return len(pages)


class _Sheet(Page):
    """One page of a document."""

    title_part = 1.05

    def __init__(self) -> None:
        from matplotlib.figure import Figure as Paper

        super().__init__(_EMPTY, PRINT, "page")
        manner()
        self.width, self.height, self.points = WIDTH, HEIGHT, 9.0
        self.line = self.points * 1.4 / 72
        self.left, self.right = EDGE, WIDTH - EDGE
        self.paper: Any = Paper(figsize=(WIDTH, HEIGHT), facecolor=PRINT.paper)

    # -- laying out --------------------------------------------------------------------------------

    def pages(self, printed: Printed) -> list[list[Placed]]:
        """The blocks by pages. A table goes on on the next page under its head; a heading stays with what follows."""
        found, y = [list[Placed]()], TOP + 3.4 * self.line
        for number, block in enumerate(printed.blocks):
            following = printed.blocks[number + 1] if number + 1 < len(printed.blocks) else None
            for part, height in self._parts(block, FOOT - y):
                needed = height
                if isinstance(block, Heading) and following is not None:
                    needed += self._least(following)
                if y + needed > FOOT and found[-1]:
                    found.append([])
                    y = TOP
                found[-1].append((part, y, height))
                y += height
        return found

    def _parts(self, block: Block, room: float) -> Iterator[tuple[Block, float]]:
        if not isinstance(block, Table):
            yield block, self._high(block)
            return
        rows = list(block.rows)
        while rows:
            most = int((room - 1.4 * self.line) / (1.25 * self.line)) - 1
            if most < min(4, len(rows)):  # no use to begin it here
                most = int((FOOT - TOP) / (1.25 * self.line)) - 3
            here, rows = rows[:most], rows[most:]
            part = replace(block, rows=tuple(here), sums=0 if rows else min(block.sums, len(here)))
            yield part, self._high(part)
            room = 0.0

    def _least(self, block: Block) -> float:
        return 4 * self.line if isinstance(block, Table | Paragraph) else self._high(block)

    def _high(self, block: Block) -> float:
        match block:
            case Heading():
                return 2.4 * self.line
            case Paragraph():
                part = 0.85 if block.quiet else 1.0
                return (len(self.wrapped(block.words, part)) * part + 0.5) * self.line
            case Table():
                return (1.25 * (len(block.rows) + 1) + 0.9) * self.line
            case Drawn():
                self.figure = block.figure
                above, below = self.margins()
                return above + min(3.0, self.panel_height(above + below)) + below + 0.1
        raise AssertionError(block)

    # -- painting ----------------------------------------------------------------------------------

    def painted_page(self, printed: Printed, placed: list[Placed], number: int, count: int) -> Any:
        """A page, with its foot; the first one under the title."""
        if number == 1:
            self.text(self.left, TOP, printed.title, part=1.9, fontweight="bold")
            self.text(self.left, TOP + 1.7 * self.line, printed.subtitle, color=self.ground.dim)
        for block, y, height in placed:
            match block:
                case Heading():
                    self.text(self.left, y + 1.3 * self.line, block.words, part=1.25, fontweight="bold")
                case Paragraph():
                    self._paragraph(block, y)
                case Table():
                    self._table(block, y)
                case Drawn():
                    self.figure = block.figure
                    self.figure_between(y, y + height - 0.1)
        y = FOOT + 0.35
        self._rule(y - 0.14)
        self.text(self.left, y, self.fitted(printed.foot, 5.0, 0.85), part=0.85, color=self.ground.dim)
        self.text(self.right, y, f"page {number} of {count}", part=0.85, color=self.ground.dim, ha="right")
        return self.paper

    def _paragraph(self, block: Paragraph, y: float) -> None:
        part, colour = (0.85, self.ground.dim) if block.quiet else (1.0, self.ground.ink)
        for words in self.wrapped(block.words, part):
            self.text(self.left, y + 0.5 * self.line * part, words, part=part, color=colour)
            y += self.line * part

    def _rule(self, y: float, strong: bool = False) -> None:
        from matplotlib.lines import Line2D

        line = Line2D(
            [self.left / self.width, self.right / self.width],
            [1 - y / self.height] * 2,
            color=self.ground.dim if strong else self.ground.faint,
            linewidth=0.7 if strong else 0.4,
            transform=self.paper.transFigure,
        )
        self.paper.add_artist(line)

    def _table(self, table: Table, y: float) -> None:
        columns = list(zip(table.head, *table.rows, strict=True))
        wanted = [max(self.measure(words, 0.9) for words in column) + 0.16 for column in columns]
        room, figures = self.right - self.left, sum(wanted[table.left :])
        words = sum(wanted[: table.left])
        if words + figures > room:  # words are cut, figures never
            wanted[: table.left] = [wide * max(0.3, (room - figures) / words) for wide in wanted[: table.left]]
        spare = max(0.0, room - sum(wanted)) / max(1, len(columns))
        edges, at = [], self.left
        for number, wide in enumerate(wanted):
            edges.append(at if number < table.left else at + wide + spare)
            at += wide + spare
        for number, row in enumerate((table.head, *table.rows)):
            middle = y + (0.6 + 1.25 * number) * self.line
            if number == len(table.rows) - table.sums + 1 and table.sums:
                self._rule(middle - 0.62 * self.line, True)
            for place, value in enumerate(row):
                told = self.fitted(value, wanted[place] + spare - 0.06, 0.9)
                side = "left" if place < table.left else "right"
                colour = self.ground.dim if not number else self.ground.ink
                self.text(edges[place], middle, told, part=0.9, ha=side, color=colour)
            if not number:
                self._rule(middle + 0.65 * self.line, True)
