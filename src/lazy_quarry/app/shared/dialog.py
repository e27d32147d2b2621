"""Dialogs: screens over a place, each of which ends once, and never through one that lies over it."""

from __future__ import annotations

from typing import TypeVar, cast

from textual.screen import ModalScreen

from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.app.textual_fixes.readings_in_order import BeginsInOrder

_Result = TypeVar("_Result")


class Dialog(BeginsInOrder, ModalScreen[_Result]):
    """A dialog ends with :meth:`finish`, also when a worker says so while something else lies over it, or after it has ended."""

    _result: tuple[_Result | None] | None = None
    """The result of one that is to end as soon as nothing lies over it."""
    _over = False

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return cast(Quarry, self.app)

    def finish(self, result: _Result | None = None) -> None:
        """End with a result. The first one counts."""
        if self._over or not self.is_attached:
            return
        if self.app.screen is not self:
            self._result = self._result or (result,)
            return
        self._over = True
        self.dismiss(result)

    def on_screen_resume(self) -> None:
        """Nothing lies over it any more."""
        if self._result is not None:
            self.finish(self._result[0])
