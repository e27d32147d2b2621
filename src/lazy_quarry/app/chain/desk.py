"""The chain file that is open: its text, what was changed of it and can be taken back, and whether it is saved."""

import threading
import tomllib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from lazy_quarry.app.shared.draft_shelf import Draft, DraftShelf, save
from lazy_quarry.core.chain.chain_file import read_chain
from lazy_quarry.errors import BadValue, QuarryError
from lazy_quarry.site.chain_source import read_source
from lazy_quarry.views.chain_views import ChainSource

_LOOPS = ("chain-cycle", "chain-never")
MOST_BACK = 200
"""Changes that can be taken back."""


class ChainDesk:
    """Keeps one chain. What is not saved lies on the shelf after each change."""

    def __init__(self, folder: Path, shelf: DraftShelf) -> None:
        self.folder, self.shelf = folder, shelf
        self.path, self.text, self.saved = "", "", ""
        self._back: list[str] = []
        self._ahead: list[str] = []
        self._lock = threading.RLock()
        """Held while the text is replaced: its file is read again by a worker, while a person changes it."""

    @property
    def open(self) -> bool:
        """True when there is one."""
        return bool(self.text)

    @property
    def edited(self) -> bool:
        """True when there is something to save."""
        return self.text != self.saved

    @property
    def name(self) -> str:
        """The chain's name, as far as its text can be read; else that of its file."""
        with suppress(tomllib.TOMLDecodeError):
            return str(tomllib.loads(self.text).get("name") or Path(self.path).stem)
        return Path(self.path).stem

    @property
    def worth_keeping(self) -> bool:
        """True when something would be lost with it: changes, and not merely a beginning without a job."""
        if not self.edited:
            return False
        with suppress(tomllib.TOMLDecodeError):
            return bool(self.saved or self._back or set(tomllib.loads(self.text)) - {"name"})
        return True

    def source(self) -> ChainSource:
        """The chain on its way to the site."""
        return read_source(self.path, (), str(self.folder), self.text)

    def put(self, text: str, path: str, saved: str | None = None) -> None:
        """Work on this chain; ``saved`` is what its file has, where that is another text."""
        with self._lock:
            self.text, self.path, self.saved = text, path, text if saved is None else saved
            self._back, self._ahead = [], []
            self.keep()

    def take_up(self) -> bool:
        """Take up what was not saved when the application was left."""
        draft = self.shelf.take()
        if draft is None or not draft.text.strip() or not draft.edited:
            return False
        self.put(draft.text, draft.path, "")
        if not self.worth_keeping:
            self.put("", "")
        return self.open

    def keep(self) -> str:
        """Put it on the shelf."""
        return self.shelf.keep(Draft(self.text, self.path, self.edited))

    def read_again(self) -> bool:
        """Follow its file, which may be written elsewhere, while nothing is unsaved here; True when it has changed."""
        before = self.text, self.path
        if not self.path or self.edited:
            return False
        try:
            text = read_source(self.path).text
        except QuarryError:
            return False
        with self._lock:
            if self.edited or (self.text, self.path) != before:  # somebody has changed it while its file was read
                return False
            if text == self.text or not text.strip():
                return False
            self.put(text, self.path)
            return True

    def change(self, edit: Callable[[str], str]) -> None:
        """Change it. Raises :class:`BadValue` for what can't be, jobs that would wait for one another among it.

        It reads the scripts of the chain, so it is for a thread.
        """
        with self._lock:
            self._change(edit)

    def _change(self, edit: Callable[[str], str]) -> None:
        text = edit(self.text)
        scripts = self.source().scripts
        known, found = (
            [one.message for one in read_chain(each, scripts).findings if one.code in _LOOPS]
            for each in (self.text, text)
        )
        if fresh := [words for words in found if words not in known]:
            raise BadValue(fresh[0])
        if text == self.text:
            return
        self._back = [*self._back[-MOST_BACK:], self.text]
        self._ahead = []
        self.text = text
        self.keep()

    def undo(self) -> bool:
        """Take the last change back."""
        return self._turn(self._back, self._ahead)

    def redo(self) -> bool:
        """Make it again."""
        return self._turn(self._ahead, self._back)

    def _turn(self, source: list[str], other: list[str]) -> bool:
        with self._lock:
            if not source:
                return False
            other.append(self.text)
            self.text = source.pop()
            self.keep()
            return True

    def save_to(self, path: Path, replace: bool = True) -> str:
        """Write it to a file, to which it belongs from then on; returns why that could not be done, or nothing. For a thread."""
        text = self.text
        problem = save(path, text, 0o644, replace)
        if not problem:
            with self._lock:
                self.path, self.saved = str(path), text
                self.keep()
        return problem
