"""The script in an editor: colours for its language, a lighter background for the header, marks in the margin."""

from rich.style import Style
from rich.text import Text
from textual import events
from textual.reactive import reactive
from textual.strip import Strip
from textual.widgets import TextArea
from textual.widgets.text_area import TextAreaTheme

from lazy_quarry.app.shared.acts import click
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Drawing, Lines
from lazy_quarry.app.shared.theme import Palette
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.header.interpreter import interpreter


def editor_theme(palette: Palette) -> TextAreaTheme:
    """Quiet colours: comments dim, text moss, keywords ochre, variables river."""
    colour = {
        "comment": palette.dim,
        "string": palette.moss,
        "keyword": palette.ochre,
        "keyword.function": palette.ochre,
        "conditional": palette.ochre,
        "repeat": palette.ochre,
        "function": palette.ink,
        "function.call": palette.ink,
        "method": palette.ink,
        "variable": palette.river,
        "number": palette.moss,
        "operator": palette.dim,
        "boolean": palette.moss,
        "type": palette.river,
        "constant": palette.river,
    }
    return TextAreaTheme(
        name=f"quarry-{palette.name}",
        base_style=Style(color=palette.ink, bgcolor=palette.ground),
        gutter_style=Style(color=palette.faint, bgcolor=palette.ground),
        cursor_style=Style(color=palette.ground, bgcolor=palette.ochre),
        cursor_line_style=Style(bgcolor=palette.raised),
        cursor_line_gutter_style=Style(color=palette.ochre, bgcolor=palette.ground),
        bracket_matching_style=Style(bold=True),
        selection_style=Style(bgcolor=palette.faint),
        syntax_styles={name: Style(color=value) for name, value in colour.items()},
    )


class Editor(Drawing, TextArea):
    """The draft's text."""

    DEFAULT_CSS = """
    Editor { border: none; padding: 0; height: 1fr; width: 1fr; background: $ground; }
    Editor:focus { border: none; }
    """

    def __init__(self) -> None:
        super().__init__(id="editor", show_line_numbers=True, tab_behavior="indent", soft_wrap=False)
        self.hits = {}
        self.header: tuple[int, int] | None = None

    def on_mount(self) -> None:
        """Put the colours on."""
        self.dress()

    async def _on_key(self, event: events.Key) -> None:
        """Do at once what a key is bound to. Textual's own way would do it after letters that were typed later."""
        for binding in self._bindings.key_to_bindings.get(event.key, ()):
            event.stop()
            event.prevent_default()
            await self.run_action(binding.action)
            return
        if event.key == "escape":  # Textual's own way is the next widget, where a number would be typed
            event.stop()
            event.prevent_default()
            await self.app.run_action(click("back"))
            return
        await super()._on_key(event)

    def put(self, text: str) -> None:
        """Change the text as one step that can be undone, in the lines that differ; the cursor stays where it can."""
        old, new = self.text.split("\n"), text.split("\n")
        head = 0
        while head < min(len(old), len(new)) and old[head] == new[head]:
            head += 1
        tail = 0
        while tail < min(len(old), len(new)) - head and old[-1 - tail] == new[-1 - tail]:
            tail += 1
        if head == len(old) == len(new):
            return
        self.history.checkpoint()
        if tail:
            lines = new[head : len(new) - tail]
            self.replace("".join(f"{line}\n" for line in lines), (head, 0), (len(old) - tail, 0))
        else:
            self.replace(text, (0, 0), self.document.end)
        self.history.checkpoint()

    def dress(self) -> None:
        """The colours of the palette in use."""
        theme = editor_theme(self.palette)
        self.register_theme(theme)
        self.theme = theme.name

    def line_of_header(self, row: int) -> str:
        """A line of the header, from row 0; empty for lines outside of it."""
        inside = self.header and self.header[0] < row < self.header[1]
        return self.document.get_line(row) if inside else ""

    def look(self) -> None:
        """Find the header and the language anew."""
        block, _ = find_block(self.text)
        header = (block.first_line - 1, block.last_line - 1) if block else None
        if header != self.header:
            self.header = header
            self._line_cache.clear()
        program = interpreter(self.text)
        language = "python" if program.startswith("python") else "bash"
        if language != self.language:
            self.language = language
        self.refresh()

    def _build_highlight_map(self) -> None:
        super()._build_highlight_map()
        block, _ = find_block(self.text)
        if block:
            for line in range(block.first_line - 1, block.last_line):
                self._highlights.pop(line, None)

    def get_line(self, line_index: int) -> Text:
        """A line; those of the header stand on raised ground, its marks and tables in ochre."""
        line = super().get_line(line_index)
        if self.header and self.header[0] <= line_index <= self.header[1]:
            palette, text = self.palette, line.plain
            edge = line_index in self.header or text.startswith("# [")
            line.stylize(Style(color=palette.ochre if edge else palette.ink))
            if text.startswith("# ") and not edge:
                line.stylize(Style(color=palette.dim), 0, 1)
                key, equals, _ = text.partition("=")
                if equals:
                    line.stylize(Style(color=palette.dim), len(key), len(key) + 1)
        return line

    def render_line(self, y: int) -> Strip:
        """A finished line, with the header's ground."""
        strip = super().render_line(y)
        row = y + self.scroll_offset.y
        if self.header and self.header[0] <= row <= self.header[1] and row != self.cursor_location[0]:
            plain = Style(bgcolor=self.palette.ground).bgcolor
            raised = Style(bgcolor=self.palette.raised)
            gutter = self.gutter_width
            head, tail = strip.crop(0, gutter), strip.crop(gutter)
            segments = [
                segment._replace(style=(segment.style or Style()) + raised)
                if segment.style is None or segment.style.bgcolor in (None, plain)
                else segment
                for segment in tail
            ]
            return Strip([*head, *segments], strip.cell_length)
        return strip


class Margin(Lines):
    """A mark at each line that has a check, beside the editor."""

    DEFAULT_CSS = "Margin { width: 2; height: 1fr; }"

    diagnostics: reactive[tuple[Diagnostic, ...]] = reactive(())
    top: reactive[int] = reactive(0)

    def show(self, diagnostics: tuple[Diagnostic, ...]) -> None:
        """Mark the lines of these findings."""
        self.diagnostics = diagnostics

    def scroll_with(self, top: int) -> None:
        """Scroll as the editor does; ``top`` is its first line in sight, from 0."""
        self.top = top

    def draw(self, row: int, pen: Pen) -> None:
        """The worst mark of one line."""
        line = row + self.top + 1
        found = [one for one in self.diagnostics if one.line == line]
        if found:
            worst = min(found, key=lambda one: one.rank)
            sign, colour = {
                Severity.ERROR: ("✕", "rust"),
                Severity.WARNING: ("·", "ochre"),
                Severity.HINT: ("·", "river"),
            }[worst.severity]
            pen.write(f" {sign}", colour, bold=True)
