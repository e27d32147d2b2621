"""The request as dials: arrows or the wheel turn one, typing sets it, and the header follows."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from textual import events
from textual.message import Message

from lazy_quarry.app.draft.header_dials import Dial, HeaderEdit, dials, follows
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.check import overridden_keys, override_values
from lazy_quarry.errors import BadValue
from lazy_quarry.views.board import Board
from lazy_quarry.views.draft_view import DraftReport

NAME_WIDTH, VALUE_WIDTH, NARROW_VALUE = 16, 20, 17


@dataclass
class DialTurned(Message):
    """Set these keys of the header."""

    change: HeaderEdit


class DialRows(Rows):
    """A heading, a row a dial, and the traits below them."""

    DEFAULT_CSS = "DialRows { height: auto; max-height: 24; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="dials")
        self.dials: list[Dial] = []
        self.report: DraftReport | None = None
        self.stale = False
        self.problem = ""
        self.overridden = frozenset[str]()
        self.typing: str | None = None
        """Text typed so far for the dial under the cursor, or None."""
        self.cursor = 1

    def show_script(self, text: str, board: Board, overrides: tuple[str, ...] = ()) -> None:
        """The dials of a script, or why its header cannot be read; what holds for this time only stands out."""
        block, problems = find_block(text)
        broken = next((one for one in problems if one.code in ("toml", "header-unclosed")), None)
        words = f"the header cannot be read: line {broken.line}" if broken else ""
        values = None if broken else dict(block.values) if block else {}
        if values is not None:
            for override in overrides:
                override_values(values, override)
        self.overridden = overridden_keys(overrides)
        self.show(values, board, words)

    def show(self, values: Mapping[str, Any] | None, board: Board, problem: str = "") -> None:
        """The dials as the header stands; ``values`` None when it cannot be read."""
        self.problem = problem
        if values is not None:
            self.dials = dials(values, board)
        self.refit()

    def grow_stale(self) -> None:
        """The draft has changed, so what follows from the dials may be wrong until the next report."""
        self.stale = True

    def show_report(self, report: DraftReport) -> None:
        """Show what follows from the dials, according to the site."""
        self.report, self.stale = report, False
        self.refresh()

    def get_content_height(self, container, viewport, width) -> int:  # type: ignore[no-untyped-def]
        """As many rows as there are dials."""
        return self.row_count()

    def refit(self) -> None:
        """Set the height that the dials need."""
        if self.styles.height is None or self.row_count() != self._rows:
            self._rows = self.row_count()
            self.refresh(layout=True)
        super().refit()
        self.cursor = max(1, self.cursor)

    _rows = -1

    def row_count(self) -> int:
        """The heading and all dials."""
        return 1 + len(self.dials)

    def under_cursor(self) -> Dial | None:
        """The dial that the cursor is on."""
        return self.dials[self.cursor - 1] if 1 <= self.cursor <= len(self.dials) else None

    def move(self, to: int) -> None:
        """To another dial; what was being typed is left."""
        self.typing = None
        super().move(max(1, to))

    def on_blur(self) -> None:
        """The cursor goes, and what was being typed with it."""
        self.typing = None
        self.refresh()

    # -- drawing -----------------------------------------------------------------------------------

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, or a dial."""
        if row == 0:
            pen.ground = "ground"
            pen.write(" REQUEST", bold=True)
            pen.write(f"   {self.problem or self._hint()}", "rust" if self.problem else "dim")
            return
        here = current and self.has_focus
        if not here:
            pen.ground = "ground"
        dial = self.dials[row - 1]
        name = f"   {'· ' if dial.trait else ''}{dial.name}"
        width = VALUE_WIDTH if self.room >= 60 else NARROW_VALUE
        pen.cell(name, NAME_WIDTH, "ochre" if here else "dim")
        if here and self.typing is not None:
            pen.cell(f"  {self.typing}▏", width, "ochre", bold=True)
        else:
            pen.write("‹ " if here else "  ", "ochre", hit=f"turn(-1,{row})" if here else "")
            once = dial.key in self.overridden and not dial.trait
            pen.cell(dial.words, width - 4, "ochre" if once else "ink" if dial.given else "dim", bold=here)
            pen.write("› " if here else "  ", "ochre", hit=f"turn(1,{row})" if here else "")
        if self.report is not None and not self.problem:
            told = f" {follows(dial, self.report)}"
            if dial.key in self.overridden and not dial.trait:
                pen.write(" this time only", "ochre")
            pen.cell(told, min(len(told), max(0, self.room - pen.at)), "faint" if self.stale else "dim")

    def _hint(self) -> str:
        if self.typing is not None:
            return "enter sets it, esc leaves it"
        return "←→ turn, type to set, backspace: default" if self.has_focus else "f6 goes here; dim is a default"

    # -- turning -----------------------------------------------------------------------------------

    def turn(self, by: int) -> None:
        """Turn the dial under the cursor."""
        dial = self.under_cursor()
        if dial is not None and (change := dial.turned(by)):
            self.post_message(DialTurned(change))

    def on_key(self, event: events.Key) -> None:
        """Turn, type, set."""
        dial = self.under_cursor()
        if dial is None or self.problem:
            super().on_key(event)
            return
        if self.typing is not None:
            self._type(event, dial)
        elif event.key in ("left", "right"):
            self.turn(-1 if event.key == "left" else 1)
        elif event.key == "space":
            self.turn(1)
        elif event.key in ("backspace", "delete"):
            self.post_message(DialTurned(((dial.key, None),)))
        elif event.key == "enter":
            self.typing = dial.words if dial.given and not dial.trait else ""
        elif event.character and event.is_printable and event.character not in "?" and not dial.trait:
            self.typing = event.character
        else:
            super().on_key(event)
            return
        event.stop()
        event.prevent_default()
        self.refresh()

    def _type(self, event: events.Key, dial: Dial) -> None:
        if event.key == "escape":
            self.typing = None
        elif event.key in ("enter", "up", "down"):
            self._set(dial)
        elif event.key == "backspace":
            self.typing = (self.typing or "")[:-1]
        elif event.key == "ctrl+u":
            self.typing = ""
        elif event.character and event.is_printable:
            self.typing = (self.typing or "") + event.character

    def _set(self, dial: Dial) -> None:
        try:
            change = dial.typed(self.typing or "")
        except BadValue as fault:
            self.post_message(Say(f"{dial.name}: {fault}", bad=True))
            return
        self.typing = None
        self.post_message(DialTurned(change))

    def clicked(self, row: int, column: int) -> None:
        """To the dial; on one of its arrows, a turn."""
        hit = self.hit_at(row, column)
        self.move(row)
        if hit.startswith("turn("):
            self.turn(-1 if "-1" in hit else 1)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """The wheel turns what it is over."""
        self._wheel(event, 1)

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """The wheel turns what it is over."""
        self._wheel(event, -1)

    def _wheel(self, event: events.MouseEvent, by: int) -> None:
        row = event.y + self.scroll_offset.y
        if 1 <= row <= len(self.dials):
            event.stop()
            event.prevent_default()
            self.move(row)
            self.turn(by)
