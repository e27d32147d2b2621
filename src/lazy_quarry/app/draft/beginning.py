"""The beginnings of a draft, shown in the script's place."""

from functools import partial
from pathlib import Path

from lazy_quarry.app.draft.dial_rows import DialRows
from lazy_quarry.app.draft.report import ReportRows
from lazy_quarry.app.draft.starting_points import Begin, BeginPreview, BeginRows
from lazy_quarry.app.draft.templates import fill, from_commands, from_file
from lazy_quarry.app.draft.things_there import ScriptsThere, ThingsThere, things_there
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.errors import BadValue
from lazy_quarry.files import given
from lazy_quarry.views.board import Board

SHELL_COMMANDS = "shell-commands.json"


class DraftBeginning(Feature):
    """The list of starting points with the script that the cursor's one would give; it hides the script and its request."""

    NAME = "beginning"
    BOUND = (
        bound_of(
            NAME, "begin", "show", "what a script can begin from: shapes, earlier runs, a command, files", priority=True
        ),
    )

    def __init__(self, place: Place) -> None:
        super().__init__(place)
        self.rows, self.preview = self.one(BeginRows), self.one(BeginPreview)
        self._there: ThingsThere | None = None
        """The things that were there the last time."""

    @property
    def shown(self) -> bool:
        """True while the list is in sight."""
        return bool(self.rows.display)

    def show(self) -> None:
        """Show what there is to begin from."""
        board, folder = self.board, self.quarry.folder
        self.rows.show(board, self._there or ThingsThere(ScriptsThere(str(folder))))  # keys may be typed ahead
        self._switch(True)
        self.rows.start()
        self.rows.focus()
        self.show_preview()
        self.post(CursorMoved())
        commands = self.quarry.shelf.kept.folder / SHELL_COMMANDS
        examples = board.site.examples if board is not None else ""
        self.quarry.aside(lambda: things_there(folder, examples, commands), partial(self._show, board), keys_wait=False)

    def _show(self, board: Board | None, there: ThingsThere) -> None:
        self._there, on = there, self.rows.under_cursor()
        self.rows.show(board, there)
        self.rows.return_to(on)
        if self.shown:
            self.show_preview()

    def leave(self) -> None:
        """Back to the script."""
        self._switch(False)

    def _switch(self, beginning: bool) -> None:
        self.rows.display = self.preview.display = beginning
        for hidden in ("#page", DialRows, ReportRows):
            self.place.query_one(hidden).display = not beginning

    def show_preview(self) -> None:
        """The script of what the cursor is on, as it would be taken."""
        begin, board = self.rows.under_cursor(), self.board
        if begin is None:
            self.preview.show("", "")
        elif begin.template is not None:
            self.preview.show("enter takes this", fill(begin.template, board))
        elif begin.commands:
            self.preview.show("enter takes this", from_commands(begin.commands, board))
        elif begin.path is not None:
            path = begin.path
            self.quarry.aside(lambda: _beginning_of(path), partial(self._show_script, path))
        elif begin.job is not None:
            self.preview.show(f"enter takes the script of {begin.job}, as it was submitted", "")
        else:
            self.preview.show("enter asks for it in a line above", "")

    def _show_script(self, path: Path, text: str) -> None:
        begin = self.rows.under_cursor()
        if begin is not None and begin.path == path:  # the cursor is still there
            self.preview.show(str(path), text)


def script_of(begin: Begin, board: Board | None) -> str | None:
    """The script of a starting point that is a template or a list of commands; None for others."""
    if begin.template is not None:
        return fill(begin.template, board)
    return from_commands(begin.commands, board) if begin.commands else None


def _beginning_of(path: Path) -> str:
    """The first part of a script, or what is wrong with it."""
    try:
        return decode_script(given.read(path, 20_000))
    except (OSError, BadValue) as fault:
        return f"{path}: {fault}"


def script_of_commands(path: Path, board: Board | None) -> str:
    """A script that runs the commands of a file. Raises :class:`BadValue` for a file that has none."""
    try:
        lines = decode_script(given.read_whole(path)).splitlines()
    except OSError as fault:
        raise BadValue(f"{path}: {fault.strerror}") from None
    except BadValue as fault:
        raise BadValue(f"{path}: {fault}") from None
    commands = [line for line in lines if line.strip() and not line.lstrip().startswith("#")]
    if not commands:
        raise BadValue(f"{path} has no commands in it, only empty lines and comments")
    return from_file(path, len(commands), board)
