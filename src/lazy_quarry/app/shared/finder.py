"""Any action by its words: a line to type in, and below it what has them."""

from collections.abc import Callable, Iterable
from typing import Any

from msgspec import Struct
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.typed_line import Typed


class FinderEntry(Struct, frozen=True):
    """An action: what it does, its key, how it is done; or why it can't be now."""

    words: str
    key: str
    run: Callable[[], Any] | None
    reason: str = ""
    also: str = ""
    """Other words by which it is found."""
    elsewhere: bool = False
    """True when it leads to another place."""


class FoundRows(Rows):
    """The actions that have what was typed."""

    DEFAULT_CSS = "FoundRows { height: 1fr; }"

    def __init__(self, entries: Iterable[FinderEntry]) -> None:
        super().__init__(id="found")
        self.every = list(entries)
        self.entries = self.every

    def row_count(self) -> int:
        """One for each; where nothing was found, a line that says so."""
        return max(1, len(self.entries))

    def find(self, text: str) -> None:
        """Show those that have all of these words."""
        self.entries = self.ranked(text)
        self.cursor = 0
        self.refit()

    def ranked(self, text: str) -> list[FinderEntry]:
        """Entries that have all of these words; first those that say them, then those that are also called so."""
        words = text.casefold().split()
        found = [
            one for one in self.every if all(word in f"{one.words} {one.key} {one.also}".casefold() for word in words)
        ]

        def rank(one: FinderEntry) -> tuple[bool, ...]:
            said, called = one.words.casefold().split(), one.also.casefold().split()
            begins = all(any(each.startswith(word) for each in (*said, *called)) for word in words)
            return (
                not begins,
                one.elsewhere,
                one.run is None,
                not all(any(each.startswith(word) for each in said) for word in words),
            )

        return sorted(found, key=rank) if words else found

    def current(self) -> FinderEntry | None:
        """The entry under the cursor."""
        return self.entries[self.cursor] if self.cursor < len(self.entries) else None

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Key, words, and for what can't be done now the reason."""
        if not self.entries:
            pen.write(
                "  Nothing that can be done here is called so. Try another word; ? lists all keys of a place.", "dim"
            )
            return
        one = self.entries[row]
        works = one.run is not None
        reason = f"   {one.reason}" if not works else ""
        pen.cell(f"  {one.key}", 12, "ochre" if works else "dim")
        room = max(20, self.room - 12 - len(reason))
        pen.cell(one.words, min(room, len(one.words)), "ink" if works else "dim", bold=current)
        pen.cell(reason, max(0, self.room - pen.at), "river")

    def clicked(self, row: int, column: int) -> None:
        """A click does it."""
        self.move(row)
        self.screen.query_one(FinderLine).post_message(FinderLine.Submitted(self.screen.query_one(FinderLine), ""))


class FinderLine(Typed):
    """The line for the words; up and down go through what was found."""

    BINDINGS = [
        Binding("up", "through(-1)", show=False),
        Binding("down", "through(1)", show=False),
        Binding("pageup", "through(-10)", show=False),
        Binding("pagedown", "through(10)", show=False),
    ]

    def action_through(self, steps: int) -> None:
        """Another one."""
        rows = self.screen.query_one(FoundRows)
        rows.move(rows.cursor + steps)


class Finder(Dialog[Callable[[], Any] | None]):
    """Gives what is to be done, or nothing."""

    DEFAULT_CSS = """
    Finder { align: center middle; background: $ground 60%; }
    Finder > Vertical { width: 110; max-width: 96%; height: 24; max-height: 90%; background: $ground; border: solid $faint; }
    """
    BINDINGS = [Binding("escape,ctrl+p", "leave", show=False, priority=True)]

    def __init__(self, entries: Iterable[FinderEntry]) -> None:
        super().__init__()
        self.entries = list(entries)

    def compose(self):  # type: ignore[no-untyped-def]
        """The line, and the rows below."""
        with Vertical():
            yield FinderLine(placeholder="what to do, in a word or two", id="finder")
            yield FoundRows(self.entries)

    def on_mount(self) -> None:
        """Keys go to the line."""
        self.query_one(FinderLine).focus()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Each letter narrows it."""
        event.stop()
        self.query_one(FoundRows).find(event.value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Do it, unless it can't be done now."""
        event.stop()
        one = self.query_one(FoundRows).current()
        if one is not None and one.run is not None:
            self.finish(one.run)

    def action_leave(self) -> None:
        """Do nothing."""
        self.finish(None)
