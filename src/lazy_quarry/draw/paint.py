"""Figures painted by Matplotlib, as SVG or PDF: text stays text, and all of it lies on the page."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from lazy_quarry.draw.figure import save
from lazy_quarry.draw.graph_panel import graph_on
from lazy_quarry.draw.grounds import GROUNDS, Ground, Tone, against, blended
from lazy_quarry.draw.plot_panel import curve_mark, plots_on
from lazy_quarry.draw.sheet import Sheet, fill
from lazy_quarry.draw.values import Field, Figure, Lanes, Plots

MOST_ROWS = 400
"""Rows of one figure; what is beyond is told in its note by whoever makes it."""
_TALLEST = 0.5
"""Inches of a row at most, where a page has more room than rows."""


def draw(figure: Figure, path: Path, ground: str = "print", size: str = "page") -> None:
    """Write a figure. The same figure gives the same bytes.

    Raises :class:`QuarryError` for an ending that isn't known, or a file that can't be written.
    """
    save(painted(figure, GROUNDS[ground], size), path)


def painted(figure: Figure, ground: Ground, size: str) -> Any:
    """The figure as Matplotlib's."""
    return Page(figure, ground, size).painted()


class Page(Sheet):
    """One figure on its page. Places are in inches from the left and from the top."""

    title_part = 1.25
    """The size of a figure's title, in parts of the type's."""

    def __init__(self, figure: Figure, ground: Ground, size: str) -> None:
        rows = len(figure.panel.lanes if isinstance(figure.panel, Lanes) else getattr(figure.panel, "rows", ()))
        super().__init__(ground, size, rows)
        self.figure = figure

    # -- the page ----------------------------------------------------------------------------------

    def painted(self) -> Any:
        """Title, note, panel, legend, source."""
        top, below = self.margins()
        self.height = top + self.panel_height(top + below) + below
        self.paper.set_size_inches(self.width, self.height)
        self.figure_between(0.0, self.height)
        return self.paper

    def margins(self) -> tuple[float, float]:
        """Inches of the figure's words above and below its panel."""
        titles = self.wrapped(self.figure.title, self.title_part, bold=True)
        notes = self.wrapped(self.figure.note, 1.0) if self.figure.note else []
        sources = self.wrapped(self.figure.source, 0.85) if self.figure.source else []
        top = 0.16 + self.line * (self.title_part * len(titles) + len(notes)) + 0.1
        return top, 0.1 + self.line * (1.25 * len(self._legend_lines()) + len(sources)) + 0.14

    def figure_between(self, begin: float, end: float) -> None:
        """Paint the figure between these heights of the page."""
        top, below = self.margins()
        y = begin + 0.16 + self.line * 0.5
        for words in self.wrapped(self.figure.title, self.title_part, bold=True):
            self.text(self.left, y, words, part=self.title_part, fontweight="bold")
            y += self.line * self.title_part
        for words in self.wrapped(self.figure.note, 1.0) if self.figure.note else ():
            self.text(self.left, y, words, color=self.ground.dim)
            y += self.line
        top, bottom = begin + top, end - below
        panel = self.figure.panel
        if isinstance(panel, Lanes):
            self._lanes(panel, top, bottom)
        elif isinstance(panel, Field):
            self._field(panel, top, bottom)
        elif isinstance(panel, Plots):
            plots_on(self, panel, top, bottom)
        else:
            graph_on(self, panel, top, bottom)
        y = bottom + 0.1 + self.line * 0.6
        for entries in self._legend_lines():
            self._legend(entries, y)
            y += self.line * 1.25
        for words in self.wrapped(self.figure.source, 0.85) if self.figure.source else ():
            self.text(self.left, y, words, part=0.85, color=self.ground.dim)
            y += self.line

    def panel_height(self, rest: float) -> float:
        """The best height of the panel, beside so much for its words."""
        panel, slide = self.figure.panel, self.width * 9 / 16
        if isinstance(panel, Lanes):
            rows = sum(1.35 if lane.heading else 1.0 for lane in panel.lanes)
            wanted = max(1.0, rows) * self.line * 1.25 + 2.4 * self.line
        elif isinstance(panel, Field):
            wanted = (len(panel.rows) + 3) * self.line * 1.25
        elif isinstance(panel, Plots):
            wanted = len(panel.plots) * 1.55 + 2.6 * self.line
        else:
            wanted = min(8.0, max(1.0, panel.height * (self.right - self.left) / max(panel.width, 1.0)))
        if self.size == "slide":
            return max(1.2, slide - rest)
        return min(wanted, 9.4 - rest) if len(getattr(panel, "lanes", ())) < 60 else min(wanted, 40.0)

    def _legend_lines(self) -> list[list[tuple[str, str, float]]]:
        lines: list[list[tuple[str, str, float]]] = []
        at = self.right
        for role, words in self.figure.legend:
            words = self.fitted(words, self.right - self.left - 0.4, 0.9)
            width = self.measure(words, 0.9) + 0.42
            if at + width > self.right:
                lines.append([])
                at = self.left
            lines[-1].append((role, words, at))
            at += width
        return lines

    def _legend(self, entries: Sequence[tuple[str, str, float]], y: float) -> None:
        from matplotlib.patches import Rectangle

        for role, words, at in entries:
            if role.startswith(("line-", "curve-")):
                axes = self.axes(at, y - 0.05, at + 0.22, y + 0.05)
                axes.axis("off")
                axes.set_xlim(0, 1)
                axes.set_ylim(-1, 1)
                if role.startswith("curve-"):
                    curve_mark(self, axes, role)
                else:
                    self.line_of(axes, [(0.0, 0.0), (1.0, 0.0)], role.removeprefix("line-"), False)
            else:
                tone = self.ground.tone(role)
                high = self.line * 0.5
                spot = (at / self.width, 1 - (y + high / 2) / self.height)
                patch = Rectangle(
                    spot, 0.2 / self.width, high / self.height, **fill(tone), transform=self.paper.transFigure
                )
                self.paper.add_artist(patch)
            self.text(at + 0.27, y, words, part=0.9, color=self.ground.dim)

    # -- panels ------------------------------------------------------------------------------------

    def _lanes(self, panel: Lanes, top: float, bottom: float) -> None:
        from matplotlib.patches import Rectangle

        lanes = panel.lanes[:MOST_ROWS]
        share = (self.right - self.left) * 0.42
        widths = [self.measure(lane.label, 1.0, lane.strong) for lane in lanes if not lane.heading]
        label_room = min(share, max(widths, default=0.3))
        note_room = min(share * 0.6, max([self.measure(lane.note, 0.85) for lane in lanes], default=0.0))
        left = self.left + label_room + 0.08
        right = self.right - (note_room + 0.06 if note_room else 0.0)
        heights = [1.35 if lane.heading else 1.0 for lane in lanes]
        total = sum(heights) or 1.0
        foot = min(bottom - (2.1 if panel.scale.label else 1.1) * self.line, top + total * _TALLEST)
        axes = self.axes(left, top, right, foot)
        self.scale(axes, panel.scale, left, right - left)
        axes.set_ylim(total, 0)
        axes.set_yticks([])
        unit = (foot - top) / total
        every = max(1, round(self.line * 0.92 / unit)) if unit < self.line * 0.92 else 1
        span = max(panel.scale.high - panel.scale.low, 1e-9)
        at = 0.0
        for number, (lane, height) in enumerate(zip(lanes, heights, strict=True)):
            y = top + (at + height / 2) * unit
            if lane.heading:
                words = self.fitted(lane.label, self.right - self.left, 0.9, True)
                y = top + (at + height * 0.62) * unit
                self.text(self.left, y, words, part=0.9, fontweight="bold", color=self.ground.dim)
                at += height
                continue
            if number % every == 0:
                words = self.fitted(lane.label, label_room, 1.0, lane.strong)
                self.text(left - 0.07, y, words, ha="right", fontweight="bold" if lane.strong else "normal")
                if lane.note:
                    self.text(
                        right + 0.06, y, self.fitted(lane.note, note_room, 0.85), part=0.85, color=self.ground.dim
                    )
            for bar in lane.bars:
                begin, end = max(bar.begin, panel.scale.low), min(bar.end, panel.scale.high)
                if end < begin or (end == begin and bar.end > bar.begin):
                    continue
                spot = (begin, at + height * (1 - bar.base - bar.height))
                tone = self.ground.tone(bar.role)
                axes.add_patch(Rectangle(spot, max(end - begin, span / 2000), height * bar.height, **fill(tone)))
                inside = self.fitted(bar.words, (end - begin) / span * (right - left) - 0.05, 0.8) if bar.words else ""
                if inside and "…" not in inside[:2] and unit >= self.line * 0.8:
                    middle = left + ((begin + end) / 2 - panel.scale.low) / span * (right - left)
                    colour = self.ground.ink if tone.outlined else against(tone.colour)
                    self.text(middle, y, inside, part=0.8, ha="center", color=colour, **self._clear(tone))
            at += height

    def _clear(self, tone: Tone) -> dict[str, Any]:
        """Words on hatching stand on a ground of their own."""
        return {"bbox": {"facecolor": self.ground.paper, "edgecolor": "none", "pad": 0.8}} if tone.hatch else {}

    def _field(self, panel: Field, top: float, bottom: float) -> None:
        from matplotlib.patches import Rectangle

        rows, columns = max(1, len(panel.rows)), max(1, len(panel.columns))
        widest = max([self.measure(one) for one in (*panel.rows, panel.rows_are)], default=0.2)
        label_room = min((self.right - self.left) * 0.35, widest)
        left, right, head = self.left + label_room + 0.08, self.right, top + 2.2 * self.line
        wide, high = (right - left) / columns, (bottom - head) / rows
        wide = min(wide, max(high * 2.5, 0.5))
        right = left + wide * columns
        axes = self.axes(left, head, right, bottom)
        axes.set_xlim(0, columns)
        axes.set_ylim(rows, 0)
        axes.set_xticks([])
        axes.set_yticks([])
        if panel.columns_are:
            words = self.fitted(panel.columns_are, self.right - left, 0.9)
            self.text(left, top + 0.5 * self.line, words, part=0.9, color=self.ground.dim)
        if panel.rows_are:
            words = self.fitted(panel.rows_are, label_room, 0.9)
            self.text(left - 0.07, head - 0.6 * self.line, words, part=0.9, ha="right", color=self.ground.dim)
        every = max(1, -(-len(panel.rows) * self.line * 0.95 // max(bottom - head, 0.01)))
        for number, words in enumerate(panel.rows):
            if number % every == 0:
                self.text(left - 0.07, head + (number + 0.5) * high, self.fitted(words, label_room), ha="right")
        longest = max([self.measure(words) for words in panel.columns], default=0.0)
        skip = max(1, int(-(-longest // max(wide, 0.01)))) if longest > wide - 0.04 else 1
        for number, words in enumerate(panel.columns):
            if number % skip == 0:
                middle = left + (number + 0.5) * wide
                told = self.fitted(words, min(wide * skip - 0.04, 2 * (self.right - middle), 2 * (middle - self.left)))
                self.text(middle, head - 0.6 * self.line, told, ha="center")
        for cell in panel.cells:
            tone = self.ground.tone(cell.role)
            if cell.strength < 1:
                tone = Tone(blended(tone.colour, self.ground.paper, cell.strength))
            axes.add_patch(Rectangle((cell.column + 0.04, cell.row + 0.08), 0.92, 0.84, **fill(tone)))
            words = self.fitted(cell.words, wide * 0.85, 0.8) if cell.words and high > self.line * 0.7 else ""
            if words and words[0] != "…":
                colour = self.ground.ink if tone.outlined else against(tone.colour)
                spot = left + (cell.column + 0.5) * wide, head + (cell.row + 0.5) * high
                self.text(*spot, words, part=0.8, ha="center", color=colour, **self._clear(tone))
