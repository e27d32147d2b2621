"""Saving the script of Draft: to its file, to one that is asked for, or where it comes from."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.draft.line import DraftLine
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.draft_shelf import THERE, save
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place


class DraftSaving(Feature):
    """Saves the script. ``done`` goes back to it."""

    NAME = "saving"
    BOUND = (bound_of(NAME, "save", "save", "save the script to its file, or ask for one", priority=True),)

    def __init__(self, place: Place, document: DraftDocument, line: DraftLine, done: Callable[[], None]) -> None:
        super().__init__(place)
        self.document, self.line, self._done = document, line, done

    def save(self) -> None:
        """Save to its file, or ask for one."""
        if self.document.path:
            self.save_to(Path(self.document.path))
        elif self.document.keeper is not None:
            self._save_with(self.document.keeper)
        else:
            self.line.ask("save", self.document.path)

    def save_to(self, path: Path, replace: bool = True) -> None:
        """Save to a file; one that is there is replaced only with ``replace``, else after a question."""
        text = self.document.text
        self.quarry.aside(lambda: save(path, text, replace=replace), partial(self._was_saved, path, text))

    def _was_saved(self, path: Path, text: str, problem: str) -> None:
        if problem == THERE:
            question = f"{path} is there already. Replace it?"
            self.quarry.ask(question, lambda: self.save_to(path), yes="Replace", no="Keep it")
        elif problem:
            self.say(problem, bad=True)
        else:
            self.document.saved_as(path, text)
            self._done()
            self.say(f"Saved to {path}.")

    def _save_with(self, keeper: Callable[[str], str]) -> None:
        """Have it saved where it comes from."""
        text = self.document.text

        def saved(problem: str) -> None:
            self.say(problem or f"Saved as {self.document.kept_as(text)}.", bad=bool(problem))

        self.quarry.aside(lambda: keeper(text), saved)
