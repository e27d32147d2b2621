"""Taking another script into Draft: from a template, a file, commands, or a job. What is not saved is asked about."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Protocol

from lazy_quarry.app.draft.beginning import script_of, script_of_commands
from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.draft.starting_points import Begin
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.script_file import decode_script
from lazy_quarry.errors import BadValue
from lazy_quarry.files import given

Keeper = Callable[[str], str]
"""Saves a script in place of a file, and says what went wrong, if anything."""


class PutText(Protocol):
    """A function that opens a script, as :meth:`DraftDocument.put` does."""

    def __call__(self, text: str, path: str, edited: bool, overrides: tuple[str, ...] = (), origin: str = "") -> None:
        """Text, path, whether edited, overrides, and where it comes from."""
        ...


class DraftOpening(Feature):
    """Reads what a draft begins from; ``put`` takes it up."""

    NAME = "opening"

    def __init__(self, place: Place, document: DraftDocument, put: PutText) -> None:
        super().__init__(place)
        self.document, self._put = document, put

    def unless_lost(self, then: Callable[[], None]) -> None:
        """Do something that replaces the script, after a question when something not saved would be lost."""
        if self.document.would_be_lost:
            what = self.document.path or "this script"
            self.quarry.ask(f"Discard unsaved changes to {what}?", then, yes="Discard", no="Keep editing")
        else:
            then()

    def take_new(self, text: str) -> None:
        """Begin from a text."""
        self.unless_lost(lambda: self._put(text, "", True))

    def take_script(self, text: str, name: str, path: str, overrides: tuple[str, ...], keeper: Keeper | None) -> None:
        """Begin from a script that was submitted once, or from one that ``keeper`` saves; with a path, from that file."""
        self.unless_lost(lambda: self._take_script(text, name, path, overrides, keeper))

    def _take_script(self, text: str, name: str, path: str, overrides: tuple[str, ...], keeper: Keeper | None) -> None:
        kept = bool(path) or keeper is not None
        self._put(text, path, not kept, overrides, name if kept else f"from {name}")
        if keeper is not None:
            self.document.belongs_to(keeper)

    def begin(self, begin: Begin) -> None:
        """Begin from a starting point."""
        self.unless_lost(lambda: self._begin(begin))

    def _begin(self, begin: Begin) -> None:
        text = script_of(begin, self.board)
        if text is not None:
            self._put(text, "", True)
        elif begin.path is not None:
            self.open_file(begin.path)
        elif begin.job is not None:
            self._take_job(begin.job)

    @apart("begin")
    def _take_job(self, job: int) -> None:
        detail = self.client.detail(job)
        origin = f"from {job} {detail.view.name}"
        self.quarry.hand_over(self._put, detail.script, "", True, detail.overrides, origin)

    def take_commands(self, path: Path) -> None:
        """Begin from a file of commands."""
        board = self.board
        self.quarry.aside(lambda: script_of_commands(path, board), self.take_new)

    def open_file(self, path: Path) -> None:
        """Open a script."""

        def read() -> str:
            try:
                return decode_script(given.read_whole(path))
            except BadValue as fault:
                raise BadValue(f"{path}: {fault}") from None
            except OSError as fault:
                raise BadValue(f"{path} cannot be opened: {fault.strerror}") from None

        self.quarry.aside(read, partial(self._opened, path))

    def _opened(self, path: Path, text: str) -> None:
        self._put(text, str(path), False)
        self.document.keep()
        self.say(f"Opened {path}.")
