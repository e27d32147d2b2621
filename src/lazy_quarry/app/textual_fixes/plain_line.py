"""The last look at every line that the application draws: nothing in it acts on the terminal."""

from rich.segment import Segment
from textual.color import Color
from textual.filter import LineFilter

from lazy_quarry.core.plain_text import MOVING, in_plain_signs


class PlainLine(LineFilter):
    """Puts a dot in place of every control character, whatever widget wrote it and wherever it came from.

    With ``signs`` it also puts plain signs in place of ours, for fonts that lack these.
    """

    def __init__(self, signs: bool = False) -> None:
        super().__init__()
        self.signs = signs

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        """The line with nothing in it but what is printed."""
        if not all(text.isprintable() or not MOVING.search(text) for text, _, _ in segments):
            segments = [Segment(MOVING.sub("·", text), style, control) for text, style, control in segments]
        if self.signs:
            segments = [Segment(in_plain_signs(text), style, control) for text, style, control in segments]
        return segments
