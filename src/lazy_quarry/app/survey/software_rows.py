"""The modules of a site, as a search finds them."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.site import Software


class SoftwareRows(Rows):
    """The modules that the search finds."""

    DEFAULT_CSS = "SoftwareRows { height: 1fr; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="software")
        self.found: list[Software] = []
        self.total = 0

    def show(self, software: tuple[Software, ...], search: str) -> None:
        """Show modules whose name, programs or note have all the words."""
        words = search.lower().split()
        self.total = len(software)
        self.found = [
            one
            for one in software
            if all(word in f"{one.name} {' '.join(one.programs)} {one.note}".lower() for word in words)
        ]
        self.refit()

    def row_count(self) -> int:
        """Number of modules found."""
        return max(1, len(self.found))

    def chosen(self) -> Software | None:
        """The module under the cursor."""
        return self.found[self.cursor] if self.cursor < len(self.found) else None

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A module, what it is, and its programs."""
        if not self.found:
            pen.ground = "ground"
            pen.write("   this site offers no modules" if not self.total else "   no module has these words", "dim")
            return
        one = self.found[row]
        pen.cell(f"   {one.name}", 16, "ink", bold=current).cell(one.note, max(0, self.room - 16), "dim")
