"""A sweep read before it runs: its tasks with parameters, commands and files; found, sorted, taken along."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from textual import events
from textual.binding import Binding
from textual.screen import Screen
from textual.widgets import Input

from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.table_catalogue import Table
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.units import plural

if TYPE_CHECKING:
    from lazy_quarry.core.job.expansion import Clash
    from lazy_quarry.draw.values import Figure
    from lazy_quarry.views.expanded import Expanded

MOST_WIDE = 26


class ExpansionHead(Lines):
    """The head over the tasks: their number, what clashes, and the headings."""

    DEFAULT_CSS = "ExpansionHead { height: 5; }"

    def __init__(self) -> None:
        super().__init__(id="expansion-head")

    def draw(self, row: int, pen: Pen) -> None:
        """Title, clashes, headings."""
        screen = self.screen
        assert isinstance(screen, ExpansionScreen)
        found = screen.found
        if row == 1:
            pen.write(f" THE TASKS OF {found.request.name.upper()}", "ink", bold=True)
            shown = f"{len(found):,} of " if len(found) < found.array.count else ""
            pen.write(f"   {shown}{plural(found.array.count, 'task')}", "dim")
            if found.array.at_once:
                pen.write(f", {found.array.at_once:,} at once", "dim")
            if found.sorted_by:
                pen.write(f", by {found.sorted_by}", "river")
        elif row == 2:
            pen.write(f" {screen.said}", "rust" if screen.clashes or screen.bad else "dim")
        elif row == 4:
            columns = screen.columns
            pen.cell(" task", columns[0][1], "dim")
            for name, width in columns[1:]:
                pen.cell(name, width, "river" if name == found.sorted_by else "dim")
            room = max(10, self.size.width - pen.at)
            pen.cell("command", min(screen.command_width, room * 11 // 20), "dim").write("→ files", "dim")


class ExpansionRows(Rows):
    """A row a task."""

    DEFAULT_CSS = "ExpansionRows { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="tasks")

    def row_count(self) -> int:
        """All that are found."""
        return len(self._screen().found)

    def _screen(self) -> ExpansionScreen:
        screen = self.screen
        assert isinstance(screen, ExpansionScreen)
        return screen

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Number, parameters, command, files."""
        screen = self._screen()
        task = screen.found.task(row)
        bad = task.number in screen.clashing
        columns = screen.columns
        pen.cell(f"{'✕' if bad else ' '}{task.number}", columns[0][1], "rust" if bad else "ink", bold=current)
        for (_, width), (_, value) in zip(columns[1:], task.parameters, strict=True):
            pen.cell(value, width, "ink")
        room = max(10, self.room - pen.at)
        pen.cell(task.command, min(screen.command_width, room * 11 // 20), "ink")
        pen.write("→ ", "faint").cell("  ".join((task.output, *task.writes)), max(0, self.room - pen.at), "dim")


class ExpansionNote(Lines):
    """The task under the cursor in full, and the keys."""

    DEFAULT_CSS = "ExpansionNote { height: 7; border-top: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="expansion-note")

    def draw(self, row: int, pen: Pen) -> None:
        """Command, output, files; keys."""
        screen = self.screen
        assert isinstance(screen, ExpansionScreen)
        rows, found = screen.query_one(ExpansionRows), screen.found
        if row == 5:
            for key, words in (
                (key_of("find"), "find"), (key_of("sort"), "sort"), (key_of("turn"), "other way round"),
                (key_of("table"), "save as CSV"), (key_of("figure"), "figure"), ("esc", "back"),
            ):  # fmt: skip
                pen.write(f" {key} ", "ochre").write(f"{words}  ", "dim")
            return
        if rows.cursor >= len(found):
            pen.write(" No task has all of these words." if row == 0 else "", "dim")
            return
        task = found.task(rows.cursor)
        values = ", ".join(f"{name}={value}" for name, value in task.parameters)
        lines = (
            ("task", f"{task.number}{f': {values}' if values else ''}"),
            ("runs", task.command or "what its script says, whatever the task"),
            ("output", task.output if task.errors == task.output else f"{task.output}, errors {task.errors}"),
            ("writes", ", ".join(task.writes) or "no other file that its script shows"),
        )
        if row < len(lines):
            pen.cell(f" {lines[row][0]}", 9, "dim").write(lines[row][1], "ink")


class ExpansionScreen(Screen[None]):
    """All tasks of one array."""

    DEFAULT_CSS = "ExpansionScreen { background: $ground; } ExpansionScreen #expansion-find { display: none; }"
    BINDINGS = [
        Binding("escape", "leave", show=False, priority=True),
        bound("find", "find", "only tasks that have these words"),
        bound("sort", "sort", "sort by another parameter"),
        bound("turn", "backwards", "sort the other way round"),
    ]

    def __init__(self, expanded: Expanded, folder: Path) -> None:
        super().__init__()
        self.found = Expansion(expanded.request, expanded.commands, expanded.written, expanded.job)
        self.folder = folder
        self.clashes: list[Clash] = self.found.clashes()
        self.clashing = self.found.clashing()
        self.command_width = max([len("command"), *(len(task.command) for task in self.found.rows(0, 200))]) + 2
        self.find, self.sort, self.back, self.bad = "", "", False, False
        self.said = "No two tasks write one file."
        if self.clashes:
            one = self.clashes[0]
            more = f", and {plural(len(self.clashes) - 1, 'file')} more" if len(self.clashes) > 1 else ""
            self.said = f"✕ tasks {one.tasks[0]} and {one.tasks[1]} would both write {one.path}{more}"
        self.columns = self._columns()

    def _columns(self) -> list[tuple[str, int]]:
        """Number and parameters with their widths."""
        array = self.found.array
        columns = [("task", max(6, len(str(array.number(array.count - 1))) + 2))]
        for group in array.groups:
            for one in group:
                longest = max(len(one.name), *(len(value) for value in one.values[:1000]))
                columns.append((one.name, min(MOST_WIDE, longest) + 2))
        return columns

    def compose(self):  # type: ignore[no-untyped-def]
        """Head, rows, what is under the cursor."""
        yield ExpansionHead()
        yield Typed(placeholder="tasks with all of these words: coarse level=0.5", id="expansion-find")
        yield ExpansionRows()
        yield ExpansionNote()

    def on_mount(self) -> None:
        """Keys go to the rows."""
        self.query_one(ExpansionRows).focus()

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another task."""
        message.stop()
        self.query_one(ExpansionNote).refresh()

    def figures(self) -> list[tuple[str, Callable[[], Figure]]]:
        """The tasks as a field."""
        from lazy_quarry.draw.figures.sweep_figures import expansion_figure

        board = self.app.board  # type: ignore[attr-defined]
        zone = self.app.zone  # type: ignore[attr-defined]
        return [("the tasks as a field", lambda: expansion_figure(self.found, board.site.name, board.now_ms, zone))]

    def on_input_changed(self, event: Input.Changed) -> None:
        """Each letter narrows."""
        event.stop()
        self.find = event.value
        self._show()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Back to the rows."""
        event.stop()
        self.query_one(ExpansionRows).focus()

    def _show(self) -> None:
        self.found.show(self.find, self.sort, self.back)
        rows = self.query_one(ExpansionRows)
        rows.move(0)
        rows.refit()
        for widget in (self.query_one(ExpansionHead), self.query_one(ExpansionNote)):
            widget.refresh()

    def action_find(self) -> None:
        """Look for words."""
        line = self.query_one("#expansion-find", Typed)
        line.display = True
        line.focus()

    def action_sort(self) -> None:
        """By the next parameter, then by number again."""
        names = ["", *self.found.names]
        self.sort = names[(names.index(self.sort) + 1) % len(names)]
        self._show()

    def action_backwards(self) -> None:
        """The other way round."""
        self.back = not self.back
        self._show()

    def tables(self) -> list[Table]:
        """The tasks that are shown, in this order."""
        names = self.found.names

        def rows() -> Iterator[dict[str, object]]:
            for task in self.found.rows(0, None):
                values = {name: value for name, (_, value) in zip(names, task.parameters, strict=True)}
                files = {"output": task.output, "errors": task.errors, "writes": " ".join(task.writes)}
                yield {"task": task.number, **values, "command": task.command, **files}

        return [Table(f"tasks-{self.found.request.name}", rows)]

    def said_of_table(self, words: str) -> None:
        """Say what came of saving it, above the rows."""
        self.said, self.bad, self.clashes = words, False, []
        self.query_one(ExpansionHead).refresh()

    def on_key(self, event: events.Key) -> None:
        """Down from the line goes to the rows."""
        if event.key == "down" and self.focused is self.query_one("#expansion-find", Typed):
            self.query_one(ExpansionRows).focus()
            event.stop()

    def action_leave(self) -> None:
        """End a search, or go back."""
        line = self.query_one("#expansion-find", Typed)
        if line.display:
            line.display, line.value = False, ""
            self.query_one(ExpansionRows).focus()
        else:
            self.dismiss(None)
