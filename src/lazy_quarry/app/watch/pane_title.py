"""The rule and the heading of a pane."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines


class PaneTitle(Lines):
    """The rule and the heading of a pane."""

    DEFAULT_CSS = "PaneTitle { height: 2; }"
    words, more = "", ""

    def draw(self, row: int, pen: Pen) -> None:
        """Rule, heading."""
        if row == 0:
            pen.write("─" * self.size.width, "faint")
        else:
            pen.write(f" {self.words}", bold=True).write(f"   {self.more}", "dim")

    def say(self, words: str, more: str) -> None:
        """Another heading."""
        self.words, self.more = words, more
        self.refresh()
