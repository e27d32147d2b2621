"""A question before what can't be undone, worded with what will happen; its safe answer is chosen."""

from textual import events
from textual.containers import Vertical

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Lines


class QuestionLines(Lines):
    """The question and its two answers."""

    DEFAULT_CSS = "QuestionLines { width: 72; height: 7; background: $raised; }"

    def __init__(self, question: str, *, yes: str, no: str) -> None:
        super().__init__(id="question")
        self.question, self.answers = question, ((no, False), (yes, True))
        self.yes = False
        """The answer that is chosen now; the safe one at first."""

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        pen.ground = "raised"
        told = wrap(self.question, self.size.width - 4, 3)
        if 1 <= row <= len(told):
            pen.write(f"  {told[row - 1]}", bold=row == 1)
        elif row == 5:
            pen.write("  ")
            for words, yes in self.answers:
                chosen = yes == self.yes
                action = f"screen.answer({yes})"
                pen.write(
                    f" {words} ", "ground" if chosen else "ink", ground="ochre" if chosen else "raised", hit=action
                )
                pen.write("   ")
            pen.write("arrows and enter, or y and n", "dim")


class Question(Dialog[bool]):
    """Dismissed with True only when the answer is yes."""

    DEFAULT_CSS = (
        "Question { align: center middle; background: $ground 60%; } Question Vertical { width: 72; height: 7; }"
    )

    def __init__(self, question: str, *, yes: str, no: str) -> None:
        super().__init__()
        self.lines = QuestionLines(question, yes=yes, no=no)

    def compose(self):  # type: ignore[no-untyped-def]
        """Just the lines."""
        with Vertical():
            yield self.lines

    def on_key(self, event: events.Key) -> None:
        """Choose or answer."""
        lines = self.lines
        if event.key in ("left", "right", "tab", "up", "down"):
            lines.yes = not lines.yes
            lines.refresh()
        elif event.key == "enter":
            self.finish(lines.yes)
        elif event.key == "y":
            self.finish(True)
        elif event.key in ("n", "escape"):
            self.finish(False)
        event.stop()

    def action_answer(self, yes: bool) -> None:
        """An answer was clicked."""
        self.finish(yes)
