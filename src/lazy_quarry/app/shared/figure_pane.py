"""A pane for taking a figure along: which one, as what, on which ground, how large, and where to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, cast

from textual import events, work
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.errors import QuarryError

if TYPE_CHECKING:
    from lazy_quarry.draw.values import Figure

_FORMATS = (("svg", "SVG, for web pages and for changing by hand"), ("pdf", "PDF, for papers"))
_GROUNDS = (
    ("print", "white paper, told apart in grey too"),
    ("dusk", "the dark colours of the screen"),
    ("chalk", "the light colours of the screen"),
)
_SIZES = (
    ("page", "as wide as a page, 18 cm"),
    ("column", "as wide as a column of a paper, 9 cm"),
    ("slide", "a slide, 16:9"),
)
CHOICES = ("figure", "format", "ground", "size")


class FigureSaid(Lines):
    """A line: a heading with keys, or what came of it."""

    DEFAULT_CSS = "FigureSaid { height: 1; }"

    def __init__(self, heading: str, words: str, *, id: str) -> None:
        super().__init__(id=id)
        self.told = (heading, words, False)

    def put(self, heading: str, words: str, bad: bool) -> None:
        """Other words."""
        self.told = (heading, words, bad)
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """All of it."""
        heading, words, bad = self.told
        if heading:
            pen.write(f" {heading}", "ink", bold=True).write(f"   {words}", "dim")
            return
        told = wrap(words, self.size.width - 4, 2)
        pen.write(f"  {told[row]}" if row < len(told) else "", "rust" if bad else "dim")


class FigureRows(Rows):
    """The choices, a line each; the arrows turn the one under the cursor."""

    DEFAULT_CSS = "FigureRows { height: 4; }"

    def __init__(self, offers: Sequence[tuple[str, Callable[[], Figure]]]) -> None:
        super().__init__(id="figure-rows")
        self.values: list[list[tuple[str, str]]] = [
            [(str(number), words) for number, (words, _) in enumerate(offers)],
            list(_FORMATS),
            list(_GROUNDS),
            list(_SIZES),
        ]
        self.chosen = [0, 0, 0, 0]

    def value(self, row: int) -> str:
        """The choice in a line."""
        return self.values[row][self.chosen[row]][0]

    def row_count(self) -> int:
        """Four."""
        return len(CHOICES)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Its name, and what is chosen."""
        values, place = self.values[row], self.chosen[row]
        pen.cell(f"  {CHOICES[row]}", 11, "ink", bold=current)
        pen.write("‹ " if place else "  ", "ochre").write(values[place][1], "ink" if current else "dim")
        pen.write(" ›" if place < len(values) - 1 else "  ", "ochre")

    def on_key(self, event: events.Key) -> None:
        """Left and right turn; down from the last one goes to the path."""
        if event.key in ("left", "right"):
            self.turn(self.cursor, 1 if event.key == "right" else -1)
        elif event.key == "down" and self.cursor == self.row_count() - 1:
            self.screen.query_one(FigurePath).focus()
        else:
            super().on_key(event)
            return
        event.stop()
        event.prevent_default()

    def turn(self, row: int, steps: int) -> None:
        """Another value."""
        self.chosen[row] = max(0, min(len(self.values[row]) - 1, self.chosen[row] + steps))
        self.refresh()
        self.screen.query_one(FigurePath).follow()
        if row == 0:
            cast(FigurePane, self.screen).name_it()

    def clicked(self, row: int, column: int) -> None:
        """A click goes there, another one turns."""
        if row == self.cursor:
            last = len(self.values[row]) - 1
            self.turn(row, -last if self.chosen[row] == last else 1)
        self.move(row)


class FigurePath(Typed):
    """Where to; it follows the figure until something is typed."""

    BINDINGS = [Binding("up", "rows", show=False)]

    def __init__(self, folder: Path) -> None:
        super().__init__(id="figure-path")
        self.folder, self.name_of = folder, "figure"
        self.made = ""

    def follow(self) -> None:
        """The ending and the name of what is chosen, unless something else was typed."""
        rows = self.screen.query_one(FigureRows)
        if self.value in ("", self.made):
            self.made = self.value = str(self.folder / f"{self.name_of}.{rows.value(1)}")
        elif Path(self.value).suffix.lower() in (".svg", ".pdf"):
            self.value = str(Path(self.value).with_suffix(f".{rows.value(1)}"))

    def action_rows(self) -> None:
        """Back to the choices."""
        self.screen.query_one(FigureRows).focus()


class FigurePane(Dialog[str]):
    """Dismissed with what was written, or with nothing."""

    DEFAULT_CSS = """
    FigurePane { align: center bottom; background: $ground 30%; }
    FigurePane > Vertical { width: 92; max-width: 98%; height: 10; background: $ground; border: solid $faint; margin-bottom: 2; }
    FigurePane #figure-said { height: 2; }
    """
    BINDINGS = [
        Binding("escape,ctrl+e", "leave", show=False, priority=True),
        Binding("enter", "write", show=False, priority=True),
    ]

    def __init__(self, offers: Sequence[tuple[str, Callable[[], Figure]]], folder: Path) -> None:
        super().__init__()
        self.offers, self.folder = offers, folder
        self.replacing = ""
        """A path that is there already, and was told of."""

    def compose(self):  # type: ignore[no-untyped-def]
        """Heading, choices, path, what is said."""
        with Vertical():
            yield FigureSaid(
                "A FIGURE TO TAKE ALONG", "↑↓ choose   ←→ turn   enter writes it   esc leaves", id="figure-head"
            )
            yield FigureRows(self.offers)
            yield FigurePath(self.folder)
            yield FigureSaid("", "", id="figure-said")

    def on_mount(self) -> None:
        """Keys go to the choices."""
        self.query_one(FigureRows).focus()
        self.name_it()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Another path: what was said of the last one is void."""
        event.stop()
        self.replacing = ""

    @work(thread=True, exclusive=True, group="figure")
    def name_it(self) -> None:
        """Call the file as the figure is called."""
        name = "figure"
        with suppress(QuarryError):
            name = self.offers[int(self.query_one(FigureRows).value(0))][1]().name
        self.quarry.hand_over(self._named, name)

    def _named(self, name: str) -> None:
        path = self.query_one(FigurePath)
        path.name_of = name
        path.follow()

    def action_write(self) -> None:
        """Write it; what is there is replaced only when that was told before."""
        path = Path(self.query_one(FigurePath).value.strip()).expanduser()
        if not path.is_absolute():
            path = self.folder / path
        if path.exists() and self.replacing != str(path):
            self.replacing = str(path)
            self.say(f"{path.name} is there already; enter once more replaces it", bad=True)
            return
        rows = self.query_one(FigureRows)
        self.say("drawing …")
        self._write(self.offers[int(rows.value(0))][1], path, rows.value(2), rows.value(3))

    @work(thread=True, group="figure-file")
    def _write(self, make: Callable[[], Figure], path: Path, ground: str, size: str) -> None:
        from lazy_quarry.draw.paint import draw

        try:
            draw(make(), path, ground, size)
        except QuarryError as fault:
            self.quarry.hand_over(self.say, str(fault), True)
            return
        self.quarry.hand_over(self.finish, f"{path} was written.")

    def say(self, words: str, bad: bool = False) -> None:
        """Below the path."""
        self.query_one("#figure-said", FigureSaid).put("", words, bad)

    def action_leave(self) -> None:
        """Write nothing."""
        self.finish("")
