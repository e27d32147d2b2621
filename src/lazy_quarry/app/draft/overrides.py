"""Overrides: header keys for this submission only, and the header that results."""

from typing import Any

from textual.containers import Vertical
from textual.widgets import TextArea

from lazy_quarry.app.draft.editor import editor_theme
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Drawing, Lines
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import override_values
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.errors import BadValue

ONCE = ("FOR THIS TIME ONLY", "the file stays as it is")


def with_overrides(text: str, overrides: tuple[str, ...]) -> tuple[str, str]:
    """The script as its header would read with the overrides in it, and what is wrong with them, if anything."""
    for override in overrides:
        values: dict = {}
        if problems := override_values(values, override):
            return text, problems[0].message
        path: list[str] = []
        value: Any = values
        while isinstance(value, dict) and len(value) == 1 and len(path) < override.partition("=")[0].count(".") + 1:
            key, value = next(iter(value.items()))
            path.append(key)
        try:
            text = set_key(text, ".".join(path), value)
        except BadValue as fault:
            return text, str(fault)
    return text, ""


class OverridesEdit(Drawing, TextArea):
    """KEY=VALUE, one in a line."""

    DEFAULT_CSS = """
    OverridesEdit { border: none; padding: 0 1; height: 4; background: $raised; }
    OverridesEdit:focus { border: none; }
    """

    def on_mount(self) -> None:
        """Put the colours on."""
        self.dress()

    def dress(self) -> None:
        """The colours of the palette in use."""
        theme = editor_theme(self.palette)
        self.register_theme(theme)
        self.theme = theme.name


class Preview(Lines):
    """The header as it would be submitted; what an override changes stands out."""

    DEFAULT_CSS = "Preview { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="preview")
        self.lines: list[tuple[str, str]] = []

    def show(self, lines: list[tuple[str, str]]) -> None:
        """Other lines, as (text, colour)."""
        self.lines = lines
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """A line of it."""
        if row < len(self.lines):
            text, colour = self.lines[row]
            pen.write(f"  {text}", colour)


class Overrides(Vertical):
    """A few lines to write in, and the resulting header below."""

    DEFAULT_CSS = """
    Overrides { height: 1fr; display: none; border-top: solid $faint; padding-top: 0; }
    Overrides #overrides-title { height: 1; }
    """

    def compose(self):  # type: ignore[no-untyped-def]
        """Heading, lines, preview."""
        yield Heading()
        yield OverridesEdit(id="overrides-edit", show_line_numbers=False, soft_wrap=False)
        yield Preview()

    @property
    def values(self) -> tuple[str, ...]:
        """The overrides as they stand."""
        text = self.query_one(OverridesEdit).text
        return tuple(line.strip() for line in text.splitlines() if line.strip())

    def put(self, overrides: tuple[str, ...]) -> None:
        """Replace the overrides by these."""
        self.query_one(OverridesEdit).load_text("\n".join(overrides))

    def told(self, title: str = ONCE[0], words: str = ONCE[1]) -> None:
        """Words over the lines."""
        heading = self.query_one(Heading)
        heading.title, heading.words = title, words
        heading.refresh()

    def show(self, text: str) -> None:
        """The header of a script with the overrides."""
        changed, problem = with_overrides(text, self.values)
        block, _ = find_block(changed)
        before = set(text.splitlines())
        shown = [(problem, "rust"), ("", "ink")] if problem else []
        if block is not None:
            lines = changed.splitlines()[block.first_line - 1 : block.last_line]
            shown += [(line, "dim" if line in before else "ochre") for line in lines]
        self.query_one(Preview).show(shown)


class Heading(Lines):
    """The heading of this pane, with its use."""

    DEFAULT_CSS = "Heading { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="overrides-title")
        self.title, self.words = ONCE

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        if row == 0:
            pen.write(f"  {self.title}", bold=True).write(f"   KEY=VALUE, one a line; {self.words}", "dim")
