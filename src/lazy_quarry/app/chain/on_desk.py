"""The chain that is looked at and the file on the desk, which the features of Chain share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from lazy_quarry.app.chain.desk import ChainDesk
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.header.keys import CONDITIONS
from lazy_quarry.views.chain_views import ChainView, PartView


class ShowsChains(Protocol):
    """Acts of the place itself for its features."""

    def read(self) -> object:
        """Read the chains again."""
        ...

    def follow(self) -> None:
        """Show what is under the cursor."""
        ...

    def stop_playing(self) -> None:
        """End a rehearsal that is played."""
        ...


class ChainOnDesk(Feature):
    """The file on the desk, the line that is being drawn in it, and the line in which its place asks."""

    NAME = "chain"

    def __init__(self, place: Place, desk: ChainDesk, shows: ShowsChains) -> None:
        super().__init__(place)
        self.desk = desk
        self.read, self.follow, self.stop_playing = shows.read, shows.follow, shows.stop_playing
        self.begun = ("", "")
        """A line that is being drawn or cut: ``link`` or ``unlink``, and the job where it begins."""
        self.condition = CONDITIONS[0]
        """The condition of the next line."""
        self._typed: Callable[[str], None] | None = None

    def view(self) -> ChainView | None:
        """The chain under the cursor."""
        return self.one(ChainList).current()

    def part(self) -> PartView | None:
        """The job of it under the cursor."""
        return self.one(PartRows).current()

    @property
    def drafting(self) -> bool:
        """True when the chain under the cursor is the one that is open as a file."""
        view = self.view()
        return self.desk.open and (view is None or not view.number)

    @property
    def fixed(self) -> bool:
        """True for one of the site's examples, which stay as they are."""
        examples = self.board.site.examples if self.board else ""
        return bool(examples) and Path(self.desk.path).is_relative_to(examples)

    def ask(self, placeholder: str, value: str, then: Callable[[str], None], *, add: bool = False) -> None:
        """Ask for a line; ``value`` stands there, to be replaced by what is typed, or with ``add`` to be gone on with."""
        line = self.type_in("#chain-path", value, placeholder)
        line.cursor_position, line.select_on_focus, self._typed = len(value), not add, then

    def answered(self, text: str) -> None:
        """Take what was typed, for whatever asked; an empty text is no answer."""
        self.one(Typed, "#chain-path").display = False
        self.focus(self.one(PartRows) if self.desk.open else self.one(ChainList))
        then, self._typed = self._typed, None
        if then is not None and text.strip():
            then(text.strip())
