"""A page that words, axes and lines are put on; places are in inches from the left and from the top."""

import re
from collections.abc import Sequence
from functools import cache
from typing import Any

from lazy_quarry.core.plain_text import plain as plain_line
from lazy_quarry.draw.figure import manner
from lazy_quarry.draw.grounds import SIZES, Ground
from lazy_quarry.draw.values import Scale

POINT = 72.0
_LINES = {"solid": "solid", "broken": (0, (5, 2.5)), "dotted": (0, (1.2, 2)), "double": "solid", "ribbon": "solid"}
_NOT_XML = re.compile("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""Characters that XML 1.0 has no place for, and so SVG has none."""
_EDGE_IN = 0.12
_LACKING = 1.3
"""Supposed width of a sign that the font lacks, in parts of the type's size."""
_SLIDE_ROWS = 14
"""Rows that a slide holds in its usual type."""


class Sheet:
    """An empty page of a size, on a ground, in a type for so many rows."""

    height: float

    def __init__(self, ground: Ground, size: str, rows: int) -> None:
        from matplotlib.figure import Figure as Paper

        manner()
        self.ground, self.size = ground, size
        self.width, self.points = SIZES[size]
        self.line = self.points * 1.35 / POINT
        self.paper: Any = Paper(figsize=(self.width, 1.0), facecolor=ground.paper)
        self.left, self.right = _EDGE_IN, self.width - _EDGE_IN
        if size == "slide" and rows > _SLIDE_ROWS:  # smaller type before labels are left out
            self.points *= max(0.5, _SLIDE_ROWS / rows)
            self.line = self.points * 1.35 / POINT

    def measure(self, words: str, part: float = 1.0, bold: bool = False) -> float:
        """Width of words in inches."""
        return _width(plain(words), bold) * self.points * part if words.strip() else 0.0

    def fitted(self, words: str, room: float, part: float = 1.0, bold: bool = False) -> str:
        """Words cut to so many inches, with an ellipsis where something is gone; empty where nothing fits."""
        words = plain(words)
        if self.measure(words, part, bold) <= room:
            return words
        low, high = 0, len(words)
        while low < high:
            middle = (low + high + 1) // 2
            if self.measure(words[:middle].rstrip() + "…", part, bold) <= room:
                low = middle
            else:
                high = middle - 1
        return words[:low].rstrip() + "…" if low else ""

    def wrapped(self, words: str, part: float, bold: bool = False) -> list[str]:
        """Words in lines that fit between the edges."""
        lines = [""]
        for word in plain(" ".join(words.split())).split():
            longer = f"{lines[-1]} {word}".strip()
            if self.measure(longer, part, bold) <= self.right - self.left:
                lines[-1] = longer
            else:
                lines.append(self.fitted(word, self.right - self.left, part, bold))
        return [line for line in lines if line]

    def text(self, x: float, y: float, words: str, **how: Any) -> None:
        """Words at a place on the page; ``y`` is their middle."""
        colour, part = how.pop("color", self.ground.ink), how.pop("part", 1.0)
        self.paper.text(
            x / self.width,
            1 - y / self.height,
            plain(words),
            color=colour,
            fontsize=self.points * part,
            parse_math=False,
            va=how.pop("va", "center"),
            **how,
        )

    def solid(self, role: str) -> dict[str, Any]:
        """A role as the fill of a patch that hides what is behind it."""
        style = fill(self.ground.tone(role))
        return style | ({"facecolor": self.ground.paper} if style["facecolor"] == "none" else {})

    def axes(self, left: float, top: float, right: float, bottom: float) -> Any:
        """Axes between these places, without a frame."""
        spot = (
            left / self.width,
            1 - bottom / self.height,
            max(0.01, (right - left) / self.width),
            max(0.001, (bottom - top) / self.height),
        )
        axes = self.paper.add_axes(spot, facecolor="none")
        axes.tick_params(colors=self.ground.dim, labelsize=self.points * 0.9, length=2, width=0.5, pad=2)
        for spine in axes.spines.values():
            spine.set_visible(False)
        return axes

    def scale(self, axes: Any, scale: Scale, left: float, room: float) -> None:
        """The scale along the foot: marks that have room, its label, the present."""
        axes.set_xlim(scale.low, max(scale.high, scale.low + 1e-9))
        placed, last = [], -9.0
        for at, words in scale.ticks:
            x = (at - scale.low) / max(scale.high - scale.low, 1e-9) * room
            half = self.measure(words, 0.9) / 2
            if x - half < last + 0.06 or left + x - half < 0.02 or left + x + half > self.width - 0.02:
                continue
            placed.append((at, plain(words)))
            last = x + half
        axes.set_xticks([at for at, _ in placed], [words for _, words in placed])
        for label in (*axes.get_xticklabels(), axes.xaxis.label):
            label.set_parse_math(False)
        axes.set_axisbelow(True)
        axes.grid(axis="x", color=self.ground.faint, linewidth=0.4)
        if scale.label:
            axes.set_xlabel(
                self.fitted(scale.label, room, 0.9),
                fontsize=self.points * 0.9,
                color=self.ground.dim,
                labelpad=2,
            )
        if scale.now is not None and scale.low <= scale.now <= scale.high:
            axes.axvline(scale.now, color=self.ground.ink, linewidth=0.9)

    def line_of(self, axes: Any, points: Sequence[tuple[float, float]], line: str, strong: bool) -> None:
        """An edge or a mark of the legend: solid, broken, double, dotted, ribbon."""
        xs, ys = [x for x, _ in points], [y for _, y in points]
        colour = self.ground.tone("critical").colour if strong else self.ground.dim
        width = 1.8 if strong else 0.8
        style: Any = _LINES[line]
        if line == "ribbon":
            axes.plot(xs, ys, color=self.ground.faint, linewidth=width * 4.5, solid_capstyle="butt", zorder=0.9)
        if line == "double":
            axes.plot(xs, ys, color=colour, linewidth=width * 3.2, zorder=0.9)
            axes.plot(xs, ys, color=self.ground.paper, linewidth=width * 1.6, zorder=0.95)
            return
        axes.plot(xs, ys, color=colour, linewidth=width, linestyle=style, zorder=1)


@cache
def _width(words: str, bold: bool) -> float:
    """Width of words in inches for each point of type."""
    from matplotlib.font_manager import FontProperties, findfont, get_font
    from matplotlib.ft2font import LoadFlags

    face = get_font(findfont(FontProperties(family="DejaVu Sans", weight="bold" if bold else "normal")))
    face.set_size(100, POINT)
    has = face.get_charmap()
    face.set_text("".join(sign for sign in words if ord(sign) in has), 0, flags=LoadFlags.NO_HINTING)
    lacking = sum(ord(sign) not in has for sign in words) * _LACKING
    return (float(face.get_width_height()[0]) / 64 / 100 * 1.02 + lacking) / POINT


def plain(words: str) -> str:
    """Words on one line, of characters that may stand in a file."""
    return _NOT_XML.sub("\ufffd", plain_line(words))


def fill(tone: Any) -> dict[str, Any]:
    """A tone as the settings of a Matplotlib patch."""
    if tone.outlined:
        return {"facecolor": "none", "edgecolor": tone.colour, "hatch": tone.hatch, "linewidth": 0.6}
    return {"facecolor": tone.colour, "edgecolor": tone.colour, "hatch": tone.hatch, "linewidth": 0.0}
