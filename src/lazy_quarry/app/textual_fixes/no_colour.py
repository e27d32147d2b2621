"""A terminal without colour (NO_COLOR, https://no-color.org): no line that is drawn sets one.

Textual answers NO_COLOR with greys, which are colours of the terminal's all the same. Here weight and reversal alone are left:
what stands on a bright ground, as the cursor does, is reversed.
"""

from rich.segment import Segment
from rich.style import Style
from textual.color import Color
from textual.filter import LineFilter


def rgb_of(colour: str) -> tuple[int, int, int]:
    """The parts of a colour that is written as ``#rrggbb``."""
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


class NoColour(LineFilter):
    """Takes the colours out of each line. ``grounds`` are those on which nothing is reversed, as triplets."""

    def __init__(self, grounds: frozenset[tuple[int, int, int]]) -> None:
        super().__init__()
        self.grounds = grounds
        self._known: dict[Style, Style] = {}

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """The line in weights alone."""
        return [
            Segment(text, self._plain(style) if style is not None else None, control)
            for text, style, control in segments
        ]

    def _plain(self, style: Style) -> Style:
        known = self._known.get(style)
        if known is None:
            ground = style.bgcolor.triplet if style.bgcolor is not None else None
            raised = ground is not None and tuple(ground) not in self.grounds
            known = self._known[style] = Style(
                bold=style.bold, underline=style.underline, reverse=bool(style.reverse) or raised, meta=style.meta
            )
        return known
