"""All the keys of a place."""

from textual import events

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.widgets.dialog import Dialog
from lazy_quarry.app.widgets.drawing import Lines

EVERYWHERE: list[KeyHint] = [
    ("1…6", "the six places; while typing esc first, or alt with the number", ""),
    ("+ −", "the rehearsal's clock faster, slower", ""),
    ("space", "pause the clock, or go on (rehearsal)", ""),
    (".", "the next thing that happens (rehearsal)", ""),
    ("ctrl+p", "any action by its words", ""),
    ("ctrl+t", "dusk or chalk", ""),
    ("ctrl+l", "draw all again", ""),
    ("ctrl+q", "leave; drafts are kept, jobs go on", ""),
]


class HelpLines(Lines):
    """Two lists of keys."""

    DEFAULT_CSS = "HelpLines { width: 66; height: auto; background: $raised; }"

    def __init__(self, place: str, keys: list[KeyHint]) -> None:
        super().__init__()
        self.rows: list[tuple[str, str]] = [("", ""), (place.upper(), "")]
        self.rows += [(f"  {key}", words) for key, words, _ in keys]
        self.rows += [("", ""), ("EVERYWHERE", "")]
        self.rows += [(f"  {key}", words) for key, words, _ in EVERYWHERE]
        self.rows += [("", ""), ("any key closes this", ""), ("", "")]

    def get_content_height(self, container, viewport, width: int) -> int:  # type: ignore[no-untyped-def]
        """As many lines as there are keys."""
        return len(self.rows)

    def draw(self, row: int, pen: Pen) -> None:
        """One key."""
        pen.ground = "raised"
        if row < len(self.rows):
            key, words = self.rows[row]
            if key.isupper():
                pen.write(f"  {key}", bold=True)
            else:
                pen.write("  ").cell(key, 16, "ochre" if words else "dim").write(words)
            if key == "any key closes this":
                pen.pieces, pen.at = [], 0
                pen.write(f"  {key}", "dim")


class Help(Dialog[None]):
    """Closed by any key."""

    DEFAULT_CSS = "Help { align: center middle; background: $ground 60%; }"

    def __init__(self, place: str, keys: list[KeyHint]) -> None:
        super().__init__()
        self.place, self.place_keys = place, keys

    def compose(self):  # type: ignore[no-untyped-def]
        """The lines."""
        yield HelpLines(self.place, self.place_keys)

    def on_key(self, event: events.Key) -> None:
        """Any key."""
        event.stop()
        self.finish(None)

    def on_click(self) -> None:
        """A click too."""
        self.finish(None)
