"""What every place is."""

from typing import ClassVar, cast

from textual.containers import Container
from textual.widget import Widget

from lazy_quarry.app.figures_of import Offer
from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.messages import Say
from lazy_quarry.app.quarry import Quarry
from lazy_quarry.site.board import Board
from lazy_quarry.site.job_view import JobView

WIDE = 130
"""Columns from which two sides stand beside each other."""


class Place(Container):
    """One of the six places. It is told of each new board, and says its note and its keys."""

    DEFAULT_CSS = "Place { height: 1fr; width: 1fr; }"

    WHY_NOT: ClassVar[dict[str, str]] = {}
    """Keys that work only at times, each with when: what is said while the place doesn't name them among its keys."""
    board: Board | None = None
    ready = False
    """True once its widgets are there; before that the present is not shown on it."""

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return cast(Quarry, self.app)

    def _say(self, words: str, bad: bool = False) -> None:
        self.post_message(Say(words, bad=bad))

    def goes_to(self, widget: Widget) -> bool:
        """Whether keys go to a widget. Its own ``has_focus`` is true a little later, and quick fingers type before that."""
        return self.screen.focused is widget

    def on_resize(self) -> None:
        """Another size."""
        self.fold()

    def fold(self) -> None:
        """Below 130 columns the right side moves under the left."""
        self.set_class(self.app.size.width < WIDE, "-narrow")

    def prepare(self, board: Board) -> None:
        """Called from a worker before the place shows a board: compute what takes long."""

    def sight(self) -> list[int]:
        """The jobs in sight, of which everything should be up to date; called from a worker."""
        return []

    def show(self, board: Board) -> None:
        """Show a new board."""
        self.board = board
        self.fold()

    def job_in_sight(self) -> JobView | None:
        """The job under the cursor, if there is one."""
        return None

    def note(self) -> str:
        """A sentence or two on what is under the cursor."""
        return ""

    def keys(self) -> list[KeyHint]:
        """The keys that work here and now, most useful first."""
        return []

    def all_keys(self) -> list[KeyHint]:
        """Every key of the place, whatever is under the cursor."""
        return self.keys()

    def figures(self) -> list[Offer]:
        """What can be drawn of what is seen here, for taking along."""
        return []

    def leave(self) -> None:
        """The person leaves the application: save what must not be lost."""

    def arrive(self) -> None:
        """The place is shown now."""
