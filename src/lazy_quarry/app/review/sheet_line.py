"""The sheets of Review's right side, the present one marked; each opens by its key or a click."""

from lazy_quarry.app.shared.acts import click_of, key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines

SHEETS = {
    "output": (key_of("output"), "output"),
    "made": (key_of("files"), "files"),
    "tasks": (key_of("tasks"), "tasks"),
    "results": (key_of("results"), "results"),
    "differences": (key_of("differs"), "differs"),
    "letters": (key_of("mail"), "mail"),
}
"""By name: key and heading."""


class SheetLine(Lines):
    """One line."""

    DEFAULT_CSS = "SheetLine { height: 1; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="sheets")
        self.shown, self.array = "output", False

    def show(self, shown: str, array: bool) -> None:
        """This sheet is in sight; of no array there are no tasks."""
        self.shown, self.array = shown, array
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """The headings."""
        pen.write(" ")
        for name, (key, heading) in SHEETS.items():
            if name == "tasks" and not self.array:
                continue
            here = name == self.shown
            pen.write(key, "ochre", bold=here).write(" ")
            action = click_of("sheets", "turn_to", name)
            pen.write(heading, "ink" if here else "dim", bold=here, hit=action).write(" " if self.array else "  ")
