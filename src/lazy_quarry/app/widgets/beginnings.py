"""What a draft can begin from: shapes as pictures, and the scripts in the person's folder."""

from dataclasses import dataclass
from pathlib import Path

from textual.message import Message

from lazy_quarry.app.pen import Pen
from lazy_quarry.app.templates import TEMPLATES, Template
from lazy_quarry.app.widgets.drawn import Rows


@dataclass
class Begin(Message):
    """Begin a draft from a shape, or open a script."""

    template: Template | None = None
    path: Path | None = None


class BeginRows(Rows):
    """Shapes first, scripts below them."""

    DEFAULT_CSS = "BeginRows { height: 1fr; width: 1fr; display: none; }"

    def __init__(self) -> None:
        super().__init__(id="beginnings")
        self.scripts: list[Path] = []
        self.folder = Path()

    def show(self, folder: Path) -> None:
        """List what is in a folder."""
        self.folder = folder
        try:
            found = [path for path in folder.iterdir() if path.suffix in (".sh", ".bash", ".py", ".R", ".jl", ".pl")]
        except OSError:
            found = []
        self.scripts = sorted(path for path in found if path.is_file())[:500]
        self.refit()

    def row_count(self) -> int:
        """A heading, three rows a shape, a heading, a row a script."""
        return 2 + 3 * len(TEMPLATES) + 2 + max(1, len(self.scripts))

    def _at(self, row: int) -> Template | Path | None:
        shapes = 2 + 3 * len(TEMPLATES)
        if 2 <= row < shapes:
            return TEMPLATES[(row - 2) // 3]
        if row >= shapes + 2 and row - shapes - 2 < len(self.scripts):
            return self.scripts[row - shapes - 2]
        return None

    def move(self, to: int) -> None:
        """Over headings and the lower lines of a picture."""
        step = 1 if to >= self.cursor else -1
        shapes = 2 + 3 * len(TEMPLATES)
        if 2 <= to < shapes and (to - 2) % 3:
            to = to - (to - 2) % 3 + (3 if step > 0 else 0)
        if shapes <= to < shapes + 2:
            to = shapes + 2 if step > 0 and self.scripts else shapes - 3
        super().move(max(2, to))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A line of it."""
        shapes = 2 + 3 * len(TEMPLATES)
        if row == 0:
            pen.ground = "ground"
            pen.write(" BEGIN FROM A SHAPE", bold=True).write("   enter takes it, esc goes back to the script", "dim")
        elif 2 <= row < shapes:
            template, line = TEMPLATES[(row - 2) // 3], (row - 2) % 3
            pen.write("   ").cell(template.picture[line], 12, "ochre")
            if line == 0:
                pen.cell(template.name, 24, bold=current).write(template.words, "dim")
        elif row == shapes + 1:
            pen.ground = "ground"
            pen.write(" OR OPEN A SCRIPT", bold=True).write(f"   in {self.folder}", "dim")
        elif row >= shapes + 2:
            if not self.scripts:
                pen.write("   no scripts in this folder; ctrl+o opens one by its path", "dim")
            else:
                pen.write(f"   {self.scripts[row - shapes - 2].name}", bold=current)

    def choose(self) -> None:
        """Take what the cursor is on."""
        match self._at(self.cursor):
            case Template() as template:
                self.post_message(Begin(template=template))
            case Path() as path:
                self.post_message(Begin(path=path))

    def clicked(self, row: int, column: int) -> None:
        """A click takes it at once."""
        shapes = 2 + 3 * len(TEMPLATES)
        self.move(row - (row - 2) % 3 if 2 <= row < shapes else row)
        self.choose()
