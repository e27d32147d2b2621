"""All the keys of a place, each with what it does in a sentence."""

from textual import events
from textual.containers import VerticalScroll

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Lines

KEY = 14
"""Cells of a key."""
BESIDE = 130
"""Columns from which the two lists stand beside each other."""
Told = list[tuple[str, str]]


def _lines(heading: str, keys: Told, width: int) -> list[tuple[str, str]]:
    """A heading and its keys, each sentence over as many lines as it needs."""
    found = [("", ""), (heading, ""), ("", "")]
    for key, words in keys:
        first, *more = wrap(words, max(20, width - KEY - 2), 3) or [""]
        found += [(f"  {key}", first), *(("", line) for line in more)]
    return found


class HelpLines(Lines):
    """Two lists of keys, beside each other where there is room."""

    DEFAULT_CSS = "HelpLines { width: 1fr; height: auto; background: $raised; }"

    def __init__(self, place: str, keys: Told, whole: Told) -> None:
        super().__init__()
        self.lists = (
            (place.upper(), keys),
            ("EVERYWHERE", [("1…6", "the six places; while typing alt with the number"), *whole]),
        )

    def columns(self, width: int) -> list[list[tuple[str, str]]]:
        """The lists as lines, one or two columns of them."""
        if width < BESIDE:
            return [[line for heading, keys in self.lists for line in _lines(heading, keys, width)]]
        half = width // 2
        (place, keys), (whole, more) = self.lists
        left, right = _lines(place, keys, half), _lines(whole, more, half)
        if len(left) > len(right) + 6:  # the longer one goes on above the shorter
            cut = (len(left) + len(right) + 1) // 2
            left, right = left[:cut], [("", ""), ("", ""), ("", ""), *left[cut:], *right]
        return [left, right]

    def get_content_height(self, container, viewport, width: int) -> int:  # type: ignore[no-untyped-def]
        """As many lines as the longer list has."""
        return max(map(len, self.columns(width))) + 2

    def draw(self, row: int, pen: Pen) -> None:
        """A line of each."""
        pen.ground = "raised"
        columns = self.columns(self.size.width)
        each = self.size.width // len(columns)
        for place, lines in enumerate(columns):
            pen.to(place * each)
            if row < len(lines):
                key, words = lines[row]
                if key.isupper() and not words:
                    pen.write(f"  {key}", bold=True)
                else:
                    pen.cell(key, KEY, "ochre").write(words)
        if row == max(map(len, columns)) + 1:
            pen.to(0)
            pen.write("  any key closes this; ↑ ↓ where there is more", "dim")


class Help(Dialog[None]):
    """Closed by any key but those that scroll."""

    DEFAULT_CSS = """
    Help { align: center middle; background: $ground 60%; }
    Help VerticalScroll { width: 152; max-width: 98%; height: auto; max-height: 96%; background: $raised; }
    """

    def __init__(self, place: str, keys: Told, whole: Told) -> None:
        super().__init__()
        self.lines = HelpLines(place, keys, whole)

    def compose(self):  # type: ignore[no-untyped-def]
        """The lines, which scroll where they are too many."""
        with VerticalScroll():
            yield self.lines

    def on_key(self, event: events.Key) -> None:
        """Scroll, or close."""
        event.stop()
        event.prevent_default()
        pane = self.query_one(VerticalScroll)
        steps = {"down": 1, "up": -1, "pagedown": 20, "pageup": -20}
        if event.key in steps:
            pane.scroll_relative(y=steps[event.key], animate=False)
        else:
            self.finish(None)

    def on_click(self) -> None:
        """A click too."""
        self.finish(None)
