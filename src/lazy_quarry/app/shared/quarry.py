"""The services of the application for places and widgets."""

from __future__ import annotations

from collections.abc import Callable
from datetime import tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

if TYPE_CHECKING:
    from lazy_quarry.app.shared.draft_shelf import DraftShelf
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.board import Board
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.expanded import Expanded
    from lazy_quarry.views.outcomes import RoomView


T = TypeVar("T")


class Quarry(Protocol):
    """The application, as its places and widgets know it. Its client is None until the site is open."""

    client: SiteClient | None
    board: Board | None
    """The present, once it is known."""
    folder: Path
    """Where the person's scripts are."""
    shelf: DraftShelf
    zone: tzinfo
    looked_at: int | None
    """The job that the next visit to Watch begins at."""

    def hand_over(self, then: Callable[..., object], *arguments: Any) -> None:
        """From a worker: have the interface do something with what was found."""
        ...

    def aside(self, work: Callable[[], T], then: Callable[[T], object], keys_wait: bool = True) -> None:
        """Do what reads or writes files, apart from the interface, then go on with what came of it.

        One thing is done after the other. Keys typed meanwhile come after it, unless ``keys_wait`` is off. A
        :class:`QuarryError` or an :class:`OSError` is told, and nothing follows.
        """
        ...

    def read_board(self) -> object:
        """Read the present now."""
        ...

    def tell(self) -> None:
        """Update the note and the keys for what the cursor is on now."""
        ...

    def ask(self, question: str, then: Callable[[], object], *, yes: str, no: str) -> None:
        """Do something only when the person says so. ``no`` is the safe answer, which is chosen at first."""
        ...

    def weekday_time(self, at_ms: int) -> str:
        """An instant in the site's zone: ``Mon 09:42``."""
        ...

    def open_shell(self, report: DraftReport | None) -> None:
        """Give the terminal to a shell on cores of this machine until it ends."""
        ...

    def show_expansion(self, expanded: Expanded) -> object:
        """Show the tasks of an array."""
        ...

    def draft_script(
        self,
        script: str,
        name: str,
        path: str = "",
        overrides: tuple[str, ...] = (),
        keeper: Callable[[str], str] | None = None,
    ) -> object:
        """Take a script to Draft: one that was submitted, or with a ``path`` its file.

        ``keeper`` saves it in place of a file, and says what went wrong, if anything.
        """
        ...

    def draft_job(self, job: int) -> object:
        """Take the script of a job to Draft, as it was submitted."""
        ...

    def draft_room(self, room: RoomView) -> object:
        """Take a room to Draft, as a script that asks for just that."""
        ...

    def draft_module(self, module: str) -> object:
        """Add a module to the draft."""
        ...
