"""The files of Draft: beginning, opening, saving, and the line in which paths and commands are asked for."""

import json
import os
from pathlib import Path
from typing import TYPE_CHECKING

from textual import on, work
from textual.widgets import Input

from lazy_quarry.app.draft_shelf import Draft, save
from lazy_quarry.app.messages import CursorMoved, Say
from lazy_quarry.app.places.place import Place
from lazy_quarry.app.templates import fill, from_commands, from_file, from_line
from lazy_quarry.app.widgets.dial_rows import DialRows
from lazy_quarry.app.widgets.draft_report import ReportRows
from lazy_quarry.app.widgets.editor import Editor
from lazy_quarry.app.widgets.starting_points import Begin, BeginPreview, BeginRows
from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.errors import BadValue, QuarryError

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

ASKED = {
    "open": "path to open",
    "save": "path to save as",
    "line": "the command line",
    "commands": "path of the file of commands",
    "task": "which task: its number, or values as in  level=0.5 grid=north",
}
SHELL_COMMANDS = "shell-commands.json"


class DraftFiles(Place):
    """What Draft does with files; the place itself adds checks, dials and submitting."""

    path = ""
    edited = False
    _asked = ""

    @property
    def editor(self) -> Editor:
        """Where the script is written."""
        return self.query_one(Editor)

    def put_text(self, text: str, path: str, edited: bool, overrides: tuple[str, ...] = (), words: str = "") -> None:
        """Take up a script."""
        raise NotImplementedError

    def kept(self) -> Draft:
        """The draft as it would be put away."""
        raise NotImplementedError

    # -- beginning ---------------------------------------------------------------------------------

    def action_begin(self) -> None:
        """Show what a draft can begin from."""
        rows = self.query_one(BeginRows)
        rows.show(self.quarry.folder, self.board, self._worked())
        rows.display, self.query_one("#page").display = True, False
        self._show_right(False)
        rows.start()
        rows.focus()
        self.preview()
        self.post_message(CursorMoved())

    def _show_right(self, report: bool) -> None:
        """The dials and the report, or the script that would be taken."""
        self.query_one(DialRows).display = self.query_one(ReportRows).display = report
        self.query_one(BeginPreview).display = not report

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Show what would be taken."""
        if self.query_one(BeginRows).display:
            self.preview()

    def preview(self) -> None:
        """The script of what the cursor is on, as it would be taken."""
        begin, shown = self.query_one(BeginRows).under_cursor(), self.query_one(BeginPreview)
        if begin is None:
            shown.show("", "")
        elif begin.template is not None:
            shown.show("enter takes this", fill(begin.template, self.board))
        elif begin.commands:
            shown.show("enter takes this", from_commands(begin.commands, self.board))
        elif begin.path is not None:
            try:
                shown.show(str(begin.path), decode_script(begin.path.read_bytes()[:20_000]))
            except (OSError, BadValue) as fault:
                shown.show(f"{begin.path}: {fault}", "")
        elif begin.job is not None:
            shown.show(f"enter takes the script of {begin.job}, as it was submitted", "")
        else:
            shown.show("enter asks for it in a line above", "")

    def _worked(self) -> tuple[str, ...]:
        """The commands that worked in the last interactive shell."""
        try:
            found = json.loads((self.quarry.shelf.file.parent / SHELL_COMMANDS).read_text())
        except (OSError, ValueError):
            return ()
        return tuple(str(one) for one in found) if isinstance(found, list) else ()

    def leave_begin(self) -> None:
        """Back to the script."""
        self.query_one(BeginRows).display, self.query_one("#page").display = False, True
        self._show_right(True)
        self.query_one("#path", Input).display = False
        if self.display:
            self.editor.focus()

    def on_begin(self, message: Begin) -> None:
        """Begin, after a question when something not saved would go."""
        if message.ask:
            self.action_ask_path(message.ask)
        elif self.edited and self.editor.text.strip():
            question = "Leave this script, which is not saved? Its text would be lost."
            self.quarry.ask(question, lambda: self._begin(message))
        else:
            self._begin(message)

    def _begin(self, message: Begin) -> None:
        if message.template is not None:
            self.put_text(fill(message.template, self.board), "", True)
        elif message.path is not None:
            self._open(message.path)
        elif message.commands:
            self.put_text(from_commands(message.commands, self.board), "", True)
        elif message.job is not None and self.quarry.client is not None:
            self._from_job(self.quarry.client, message.job)

    @work(thread=True, group="begin", exclusive=True)
    def _from_job(self, client: "SiteClient", job: int) -> None:
        try:
            detail = client.detail(job)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        words = f"from {job} {detail.view.name}"
        self.quarry.hand_over(self.put_text, detail.script, "", True, detail.overrides, words)

    # -- asking for a line -------------------------------------------------------------------------

    def action_ask_path(self, what: str) -> None:
        """Ask for a path, a command or a task in a line above the script."""
        self._asked = what
        line = self.query_one("#path", Input)
        line.placeholder = ASKED[what]
        line.value = self.path or f"{self.quarry.folder}/" if what in ("open", "save") else ""
        if what == "commands":
            line.value = f"{self.quarry.folder}/"
        line.display = True
        line.cursor_position = len(line.value)
        line.focus()

    @on(Input.Submitted, "#path")
    def _line_given(self, event: Input.Submitted) -> None:
        text = event.value.strip()
        path = Path(os.path.expanduser(text))
        path = path if path.is_absolute() else self.quarry.folder / path
        match self._asked:
            case "open":
                self.on_begin(Begin(path=path))
            case "line" if text:
                self.take_new(from_line(text, self.board))
            case "commands":
                self._from_file(path)
            case "task":
                self.query_one("#path", Input).display = False
                self.editor.focus()
                self.try_task(text)
            case "save" if path.exists() and str(path) != self.path:
                self.quarry.ask(f"{path} is there already. Replace it?", lambda: self._save(path))
            case "save":
                self._save(path)

    def try_task(self, words: str) -> None:
        """Try one task."""
        raise NotImplementedError

    def take_new(self, text: str) -> None:
        """Begin from a text, after a question when something not saved would go."""
        if self.edited and self.editor.text.strip():
            question = "Leave this script, which is not saved? Its text would be lost."
            self.quarry.ask(question, lambda: self.put_text(text, "", True))
        else:
            self.put_text(text, "", True)

    def _from_file(self, path: Path) -> None:
        try:
            lines = decode_script(path.read_bytes()).splitlines()
        except (OSError, BadValue) as fault:
            words = fault.strerror if isinstance(fault, OSError) else str(fault)
            self.post_message(Say(f"{path}: {words}", bad=True))
            return
        commands = [line for line in lines if line.strip() and not line.lstrip().startswith("#")]
        if not commands:
            self.post_message(Say(f"{path} has no commands in it, only empty lines and comments", bad=True))
            return
        self.take_new(from_file(path, len(commands), self.board))

    # -- opening and saving ------------------------------------------------------------------------

    def _open(self, path: Path) -> None:
        try:
            text = decode_script(path.read_bytes())
        except BadValue as fault:
            self.post_message(Say(f"{path}: {fault}", bad=True))
        except OSError as fault:
            self.post_message(Say(f"{path} cannot be opened: {fault.strerror}", bad=True))
        else:
            self.put_text(text, str(path), False)
            self.quarry.shelf.keep(Draft(text, str(path), False))
            self.post_message(Say(f"Opened {path}."))

    def action_save(self) -> None:
        """Save to its file, or ask for one."""
        if self.path:
            self._save(Path(self.path))
        else:
            self.action_ask_path("save")

    def _save(self, path: Path) -> None:
        problem = save(path, self.editor.text)
        if problem:
            self.post_message(Say(problem, bad=True))
            return
        self.path = str(path)
        self.saved = self.editor.text
        self.mark(False)
        self.leave_begin()
        self.quarry.shelf.keep(self.kept())
        self.post_message(Say(f"Saved to {path}."))

    saved: str | None = None

    def mark(self, edited: bool) -> None:
        """Say whether it is saved."""
        raise NotImplementedError
