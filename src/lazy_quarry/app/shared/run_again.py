"""Running again: what it would come to, with settings that may be changed before anything runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.foretold import foretold_words

if TYPE_CHECKING:
    from lazy_quarry.views.foretold import Foretold

Look = Callable[[list[str]], "Foretold"]
"""Rehearses an act with settings, each as ``KEY=VALUE``."""
TOLD = 3
"""Lines for what it would come to."""


def settings_in(text: str) -> list[str]:
    """Settings in a line, which semicolons part."""
    return [part.strip() for part in text.split(";") if part.strip()]


class AgainHead(Lines):
    """The question."""

    DEFAULT_CSS = "AgainHead { height: 4; background: $raised; }"

    def __init__(self, question: str, reason: str) -> None:
        super().__init__(id="again-head")
        self.question, self.reason = question, reason

    def draw(self, row: int, pen: Pen) -> None:
        """The question, and where the settings come from."""
        pen.ground = "raised"
        lines = wrap(self.question, self.size.width - 4, 2)
        if row < len(lines):
            pen.write(f"  {lines[row]}", bold=True)
        elif row >= 2:
            reason = wrap(
                self.reason or "With these settings besides, if any; a semicolon parts them.", self.size.width - 4, 2
            )
            pen.write(f"  {reason[row - 2]}" if row - 2 < len(reason) else "", "dim")


class AgainFoot(Lines):
    """The outcome, and the two answers, the safe one chosen."""

    DEFAULT_CSS = f"AgainFoot {{ height: {TOLD + 2}; background: $raised; }}"

    def __init__(self) -> None:
        super().__init__(id="again-foot")
        self.told, self.bad, self.yes = "looking what that would come to …", False, False

    def draw(self, row: int, pen: Pen) -> None:
        """Told, then the answers."""
        pen.ground = "raised"
        if row < TOLD:
            lines = wrap(self.told, self.size.width - 4, TOLD)
            pen.write(f"  {lines[row]}" if row < len(lines) else "", "rust" if self.bad else "ink")
        elif row == TOLD + 1:
            pen.write("  ")
            for words, yes in (("Leave it", False), ("Run again", True)):
                chosen = yes == self.yes
                ink, ground = ("ground", "ochre") if chosen else ("ink", "ground")
                pen.write(f" {words} ", ink, ground=ground, hit=f"screen.answer({yes})").write("   ")
            pen.write("tab chooses, enter answers; what is typed changes the settings", "dim")


class RunAgain(Dialog[list[str] | None]):
    """Gives the settings to run it again with, or nothing."""

    DEFAULT_CSS = """
    RunAgain { align: center middle; background: $ground 60%; }
    RunAgain > Vertical { width: 92; max-width: 96%; height: 12; background: $raised; padding: 1 0; }
    RunAgain Typed { background: $ground; margin: 0 2; padding: 0 1; }
    """

    BINDINGS = [
        Binding("tab,shift+tab,up,down", "choose", show=False, priority=True),
        Binding("escape", "leave", show=False, priority=True),
    ]

    def __init__(self, question: str, settings: list[str], reason: str, look: Look) -> None:
        super().__init__()
        self.question, self.settings, self.reason, self.look = question, settings, reason, look

    def compose(self):  # type: ignore[no-untyped-def]
        """Question, settings, what it would come to."""
        with Vertical():
            yield AgainHead(self.question, self.reason)
            yield Typed("; ".join(self.settings), placeholder="KEY=VALUE; KEY=VALUE", id="again-settings")
            yield AgainFoot()

    def on_mount(self) -> None:
        """Let what is typed go into the line."""
        line = self.query_one(Typed)
        line.cursor_position = len(line.value)
        self.screen.set_focus(line)
        self._look(self.settings)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Other settings come to something else."""
        event.stop()
        self._look(settings_in(event.value))

    @work(thread=True, exclusive=True, group="again-look")
    def _look(self, settings: list[str]) -> None:
        try:
            found = self.look(settings)
        except QuarryError as fault:
            self.quarry.hand_over(self._show, str(fault), True)
            return
        self.quarry.hand_over(self._show, f"{foretold_words(found, self.quarry.zone)}.", bool(found.refused))

    def _show(self, words: str, bad: bool) -> None:
        if self.is_attached:
            foot = self.query_one(AgainFoot)
            foot.told, foot.bad = words, bad
            foot.refresh()

    def action_choose(self) -> None:
        """The other answer."""
        foot = self.query_one(AgainFoot)
        foot.yes = not foot.yes
        foot.refresh()

    def action_leave(self) -> None:
        """Run nothing."""
        self.finish(None)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Enter gives the answer that is chosen."""
        event.stop()
        self.action_answer(self.query_one(AgainFoot).yes)

    def action_answer(self, yes: bool) -> None:
        """Answer."""
        self.finish(settings_in(self.query_one(Typed).value) if yes else None)
