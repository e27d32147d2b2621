"""The name of the draft, above it."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines


class DraftTitle(Lines):
    """The file's name, and whether it is saved."""

    DEFAULT_CSS = "DraftTitle { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="title")
        self.name_words = "new script"
        self.state_words = ""

    def draw(self, row: int, pen: Pen) -> None:
        """The one line."""
        if row == 0:
            pen.write(f"  {self.name_words}", bold=True).write(f"   {self.state_words}", "dim")
