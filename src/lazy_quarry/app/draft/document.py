"""The script that is being drafted: its text, the file it belongs to, and whether it is saved."""

import os
from collections.abc import Callable
from pathlib import Path

from lazy_quarry.app.draft.editor import Editor
from lazy_quarry.app.draft.header_dials import HeaderEdit
from lazy_quarry.app.draft.overrides import Overrides
from lazy_quarry.app.draft.title import DraftTitle
from lazy_quarry.app.shared.draft_shelf import Draft
from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.core.header.block import find_block
from lazy_quarry.core.header.edit import set_key
from lazy_quarry.core.header.submission import Submission


class DraftDocument:
    """Keeps editor, title and overrides together. What is not saved is kept on the shelf at every pause."""

    def __init__(self, quarry: Quarry, editor: Editor, title: DraftTitle, overrides: Overrides) -> None:
        self.quarry, self.editor, self.title, self.overrides = quarry, editor, title, overrides
        self.path = ""
        self.edited = False
        self._origin = ""
        """Where a script without a file comes from."""
        self.keeper: Callable[[str], str] | None = None
        """Saves a script that has no file of its own."""
        self._saved: str | None = None
        """The text as its file has it."""

    @property
    def cursor_line(self) -> int:
        """The line of the cursor, from 1."""
        return int(self.editor.cursor_location[0]) + 1

    @property
    def text(self) -> str:
        """The script."""
        return self.editor.text

    @property
    def empty(self) -> bool:
        """True when there is no script."""
        return not self.editor.text.strip()

    @property
    def would_be_lost(self) -> bool:
        """True when another script in its place would lose something."""
        return self.edited and not self.empty

    def once_is_over(self) -> None:
        """Drop what was for one time only: it has gone with a submission, or is taken back."""
        if self.overrides.display:
            self.overrides.put(())
            self.overrides.display = False
            self.editor.focus()

    def put(self, text: str, path: str, edited: bool, overrides: tuple[str, ...] = (), origin: str = "") -> None:
        """Edit this script."""
        self.path, self._origin, self.keeper = path, origin, None
        self._saved = None if edited else text
        self.editor.load_text(text)
        self.editor.look()
        self.overrides.put(overrides)
        self.overrides.told()
        self.overrides.display = bool(overrides)
        self._mark(edited)

    def changed(self) -> None:
        """The text has changed."""
        self.editor.look()
        self._mark(self.editor.text != self._saved)
        if self.overrides.display:
            self.overrides.show(self.editor.text)

    def _mark(self, edited: bool) -> None:
        """Say whether it is saved."""
        self.edited = edited
        saved = "saved" if self.path or self.keeper is not None else ""
        not_saved = "edited, not saved" if self.path else "not saved"
        self.title.name_words = self.path or self._origin or "new script"
        self.title.state_words = not_saved if edited else saved
        self.title.refresh()

    # -- keeping and saving ------------------------------------------------------------------------

    def keep(self) -> str:
        """Save it on the shelf; returns why that could not be done, or nothing."""
        overrides = "\n".join(self.overrides.values)
        return self.quarry.shelf.keep(Draft(self.editor.text, self.path, self.edited, overrides))

    def saved_as(self, path: Path, text: str) -> None:
        """This text of it was written to a file, to which it belongs from then on."""
        self.path, self._saved = str(path), text
        self._mark(self.editor.text != text)
        self.keep()

    def belongs_to(self, keeper: Callable[[str], str]) -> None:
        """It is part of something else, which saves it and says more of it than its text."""
        self.keeper = keeper
        self.overrides.told("SAID BY THE CHAIN", "beside what is written here")
        self.editor.move_cursor(self.editor.document.end)
        self._mark(False)

    def kept_as(self, text: str) -> str:
        """This text of it was saved where it comes from; returns what that is called."""
        self._saved = text
        self._mark(self.editor.text != text)
        return self._origin

    # -- its header, and itself on its way ---------------------------------------------------------

    def modules(self) -> list[str]:
        """The modules that the header loads."""
        block, _ = find_block(self.editor.text)
        return list(block.values.get("modules", [])) if block else []

    def edit_header(self, edit: HeaderEdit) -> None:
        """Set keys of the header. Raises :class:`BadValue` when it is too broken for that."""
        text = self.editor.text
        for key, value in edit:
            text = set_key(text, key, value)
        self.editor.put(text)

    def submission(self) -> Submission:
        """The script as it would be submitted now; what is to be looked up comes later."""
        directory = str(Path(self.path).parent) if self.path else str(self.quarry.folder)
        return Submission(
            script=self.editor.text,
            path=self.path or "script",
            directory=directory,
            overrides=self.overrides.values,
            environment=tuple(os.environ.items()),
        )
