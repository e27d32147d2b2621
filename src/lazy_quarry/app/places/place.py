"""What every place is."""

from typing import cast

from textual.containers import Container

from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.quarry import Quarry
from lazy_quarry.site.board import Board

WIDE = 130
"""Columns from which two sides stand beside each other."""


class Place(Container):
    """One of the six places. It is told of each new board, and says its note and its keys."""

    DEFAULT_CSS = "Place { height: 1fr; width: 1fr; }"

    board: Board | None = None
    ready = False
    """True once its widgets are there; before that the present is not shown on it."""

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return cast(Quarry, self.app)

    def on_resize(self) -> None:
        """Another size."""
        self.fold()

    def fold(self) -> None:
        """Below 130 columns the right side folds under the left."""
        self.set_class(self.app.size.width < WIDE, "-narrow")

    def prepare(self, board: Board) -> None:
        """From a worker, before the place is shown a board: work out what takes long."""

    def show(self, board: Board) -> None:
        """Draw the present anew."""
        self.board = board
        self.fold()

    def note(self) -> str:
        """A sentence or two on what is under the cursor."""
        return ""

    def keys(self) -> list[KeyHint]:
        """The keys that work here and now, most useful first."""
        return []

    def all_keys(self) -> list[KeyHint]:
        """Every key of the place, whatever is under the cursor."""
        return self.keys()

    def leave(self) -> None:
        """The person leaves the application; what must not be lost is put away."""

    def arrive(self) -> None:
        """The place has come in sight."""
