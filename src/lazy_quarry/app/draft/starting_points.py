"""The beginnings of a draft: shapes as pictures, commands, earlier jobs, the site's examples, one's own scripts."""

from dataclasses import dataclass
from pathlib import Path

from msgspec import Struct
from textual.message import Message

from lazy_quarry.app.draft.templates import Template, offered
from lazy_quarry.app.draft.things_there import ScriptsThere, ThingsThere
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.core.units import clock_time
from lazy_quarry.core.values import replace
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import state_words

EARLIER = 8


@dataclass
class Begin(Message):
    """Begin a draft: from a shape, a script, an earlier job, commands of a shell, or what is asked for next."""

    template: Template | None = None
    path: Path | None = None
    job: int | None = None
    ask: str = ""
    commands: tuple[str, ...] = ()


class BeginEntry(Struct, frozen=True):
    """A row: what it draws as (text, colour) pieces, and what it begins; None for headings and second lines."""

    pieces: tuple[tuple[str, str], ...]
    begin: Begin | None = None


class BeginRows(Rows):
    """One thing to begin from in a row, two for a picture."""

    DEFAULT_CSS = "BeginRows { height: 1fr; width: 1fr; display: none; }"

    def __init__(self) -> None:
        super().__init__(id="beginnings")
        self.entries: list[BeginEntry] = []

    def show(self, board: Board | None, there: ThingsThere) -> None:
        """List what there is: shapes for the site, ways to make one, and what is in folders."""
        self.entries = [_heading("BEGIN FROM A SHAPE", "enter takes it, esc goes back to the script")]
        for template in offered(board):
            begin = Begin(template=template)
            first, second = template.picture
            self.entries.append(
                BeginEntry(
                    ((f"   {first:<11}", "ochre"), (f"{template.name:<23}", "ink"), (template.words, "dim")), begin
                )
            )
            if second:
                self.entries.append(BeginEntry(((f"   {second:<11}", "ochre"),)))
        self._make(there.worked)
        self._scripts(there.own, "YOUR SCRIPTS")
        if board is not None:
            self._earlier(board)
            if there.examples is not None:
                self._scripts(there.examples, f"EXAMPLES OF {board.site.name.upper()}")
        self.refit()

    def _make(self, worked: tuple[str, ...]) -> None:
        self.entries += [BeginEntry(()), _heading("MAKE ONE", "from what you have")]
        self._add("a command line", "what you would type, as a job", Begin(ask="line"))
        self._add(
            "a file of commands", "each line of it a command, side by side; it stays as it is", Begin(ask="commands")
        )
        if worked:
            words = f"{len(worked)} that worked, the last: {worked[-1][:60]}"
            self._add("the interactive shell", words, Begin(commands=worked))

    def _earlier(self, board: Board) -> None:
        newest: dict[str, JobView] = {}
        for job in sorted(board.jobs, key=lambda one: -one.submitted_ms):
            if job.user == board.person.user:
                newest.setdefault(job.name, job)
        if not newest:
            return
        self.entries += [
            BeginEntry(()),
            _heading("AN EARLIER JOB", "its script as it was, with what it was given besides"),
        ]
        for job in list(newest.values())[:EARLIER]:
            when = clock_time(job.submitted_ms, board.now_ms, self.quarry.zone)
            words = f"{job.job}, {when}: {state_words(job, board.now_ms, self.quarry.zone)}"
            self._add(job.name, words, Begin(job=job.job))

    def _scripts(self, there: ScriptsThere, title: str) -> None:
        """The scripts of a folder."""
        where, shown = there.folder, len(there.scripts)
        if there.count > shown:
            where += f", the newest {shown} of {there.count}; ctrl+o opens others"
        self.entries += [BeginEntry(()), _heading(title, where)]
        if not shown:
            self.entries.append(BeginEntry((("   no scripts there; ctrl+o opens one by its path", "dim"),)))
        for path, words in there.scripts:
            self._add(path.name, words, Begin(path=path))

    def _add(self, name: str, words: str, begin: Begin) -> None:
        self.entries.append(BeginEntry(((f"   {name:<20} ", "ink"), (words, "dim")), begin))

    def return_to(self, begin: Begin | None) -> None:
        """Put the cursor on what it was on before the list was made anew, if that is still there."""
        at = next((at for at, entry in enumerate(self.entries) if begin is not None and entry.begin == begin), None)
        if at is None:
            self.start()
        elif at != self.cursor:
            self.move(at)

    def row_count(self) -> int:
        """All rows."""
        return len(self.entries)

    def move(self, to: int) -> None:
        """To the next row that begins something, in the direction of the move."""
        step = 1 if to >= self.cursor else -1
        while 0 <= to < len(self.entries) and self.entries[to].begin is None:
            to += step
        if 0 <= to < len(self.entries):
            super().move(to)
        elif step < 0:
            self.scroll_to(y=0, animate=False)

    def under_cursor(self) -> Begin | None:
        """The beginning under the cursor."""
        return self.entries[self.cursor].begin if self.cursor < len(self.entries) else None

    def start(self) -> None:
        """The cursor to the first thing."""
        self.cursor = 0
        self.move(1)
        self.scroll_to(y=0, animate=False)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A line of it."""
        entry = self.entries[row]
        if entry.begin is None:
            pen.ground = "ground"
        for text, colour in entry.pieces:
            bold = (current and colour == "ink") or (colour == "ink" and entry.begin is None)
            pen.cell(text, min(len(text), max(0, self.room - pen.at)), colour, bold=bold)

    def choose(self) -> None:
        """Take what the cursor is on."""
        if self.cursor < len(self.entries) and (begin := self.entries[self.cursor].begin):
            self.post_message(replace(begin))  # a message is sent only once

    def clicked(self, row: int, column: int) -> None:
        """A click takes it at once."""
        if self.entries[row].begin is None and row:
            row -= 1  # the second line of a picture
        if self.entries[row].begin is not None:
            self.move(row)
            self.choose()


class BeginPreview(Lines):
    """The script that would be taken, beside the list."""

    DEFAULT_CSS = "BeginPreview { display: none; width: 1fr; height: 1fr; padding: 0 1; }"

    def __init__(self) -> None:
        super().__init__(id="begin-preview")
        self.title_words = ""
        self.lines: list[str] = []

    def show(self, title: str, text: str) -> None:
        """Another script."""
        self.title_words, self.lines = title, text.splitlines()
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Its title, then its lines; the header's in ink, comments dim."""
        if row == 0:
            pen.write(f" {self.title_words}", "dim")
        elif 2 <= row < len(self.lines) + 2:
            line = self.lines[row - 2]
            end = next((at for at, each in enumerate(self.lines) if each == "# ///"), -1)
            inside = row - 2 <= end
            edge = line.startswith("# ///") or (inside and line.startswith("# ["))
            colour = "ochre" if edge else "ink" if inside or not line.startswith("#") else "dim"
            pen.cell(f"  {line}", max(0, self.size.width), colour)


def _heading(title: str, words: str) -> BeginEntry:
    return BeginEntry(((f" {title}", "ink"), (f"   {words}", "dim")))
