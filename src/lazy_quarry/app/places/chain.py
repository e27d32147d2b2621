"""Chain: jobs that depend on one another. This place isn't built yet; it says what it will be."""

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.places.place import Place
from lazy_quarry.app.widgets.drawing import Lines


class ChainWords(Lines):
    """A few lines about this place."""

    DEFAULT_CSS = "ChainWords { height: 1fr; }"
    TEXT = (
        ("CHAIN", "ink"),
        ("", "ink"),
        ("Arrays, sweeps, and jobs tied by dependencies, drawn as a graph and rehearsed as a whole.", "ink"),
        ("This place comes next. Until then jobs are submitted one by one, from Draft.", "dim"),
    )

    def draw(self, row: int, pen: Pen) -> None:
        """One of them."""
        if 1 <= row <= len(self.TEXT):
            text, colour = self.TEXT[row - 1]
            pen.write(f" {text}", colour, bold=text.isupper())


class ChainPlace(Place):
    """Not there yet, and says so."""

    def compose(self):  # type: ignore[no-untyped-def]
        """The words."""
        yield ChainWords()

    def note(self) -> str:
        """What can be done instead."""
        return "Nothing can be chained yet. A script with one job goes from Draft to Watch."

    def keys(self) -> list[KeyHint]:
        """Where to go."""
        return [("2", "draft", "app.go('draft')"), ("4", "watch", "app.go('watch')")]
