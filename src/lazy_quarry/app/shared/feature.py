"""Features of places: each keeps what it needs, and does the acts that its place binds to it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import wraps
from typing import TYPE_CHECKING, ClassVar, Concatenate, ParamSpec, TypeVar, cast

from textual.message import Message
from textual.widget import Widget

from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.errors import QuarryError

if TYPE_CHECKING:
    from lazy_quarry.app.shared.acts import Bound
    from lazy_quarry.app.shared.place import Place
    from lazy_quarry.app.shared.quarry import Quarry
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.board import Board

W = TypeVar("W", bound=Widget)
P = ParamSpec("P")
F = TypeVar("F", bound="Feature")


class Feature:
    """One thing that can be done in a place, or several that belong together.

    A place binds an act to a method of a feature with :func:`~lazy_quarry.app.shared.acts.bound_of`. A feature reaches the widgets
    of its place, never another place; what it needs of the place itself it is given when it is made.
    """

    NAME: ClassVar[str]
    """By which bindings name it."""
    BOUND: ClassVar[Sequence[Bound]] = ()
    """Bindings that are the same in each place that has it."""

    def __init__(self, place: Place) -> None:
        self.place = place

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return self.place.quarry

    @property
    def client(self) -> SiteClient:
        """The site, to ask and to tell; it blocks. Raises :class:`QuarryError` until it is open."""
        if self.quarry.client is None:
            raise QuarryError("The site is not open yet.")
        return self.quarry.client

    @property
    def board(self) -> Board | None:
        """The present, as the place shows it."""
        return self.place.board

    @property
    def now_ms(self) -> int:
        """The present instant; 0 before it is known."""
        return self.place.now_ms

    def one(self, kind: type[W], selector: str = "") -> W:
        """The place's widget of a kind; with a selector the one that it finds."""
        return self.place.query_one(selector, kind) if selector else self.place.query_one(kind)

    def say(self, words: str, bad: bool = False) -> None:
        """Say a sentence in the line of notes."""
        self.post(Say(words, bad=bad))

    def post(self, message: Message) -> None:
        """Send a message up from the place."""
        self.place.post_message(message)

    def focus(self, widget: Widget) -> None:
        """Give the keys to a widget at once, so that what is typed ahead gets there."""
        self.place.screen.set_focus(widget)

    def type_in(self, selector: str, value: str | None = None, placeholder: str = "") -> Typed:
        """Show a line to type in and give it the keys; a value of None leaves what stands there."""
        line = self.one(Typed, selector)
        line.placeholder = placeholder or line.placeholder
        line.value = line.value if value is None else value
        line.display = True
        self.focus(line)
        return line

    def goes_to(self, widget: Widget) -> bool:
        """True when keys go to a widget."""
        return self.place.goes_to(widget)


def apart(
    group: str, exclusive: bool = True, refused: str = ""
) -> Callable[[Callable[Concatenate[F, P], None]], Callable[Concatenate[F, P], None]]:
    """Run a feature's method in a thread of its place, and say what :class:`QuarryError` it ends with.

    Args:
        group: Threads of the same group replace one another: what an earlier one finds is not shown after that.
        exclusive: False where they don't, as where something is done, not read.
        refused: Words before those of the error, such as "Not submitted: ".
    """

    def decorate(method: Callable[Concatenate[F, P], None]) -> Callable[Concatenate[F, P], None]:
        @wraps(method)
        def begin(self: F, *arguments: P.args, **named: P.kwargs) -> None:
            def work() -> None:
                try:
                    method(self, *arguments, **named)
                except QuarryError as fault:
                    self.quarry.hand_over(self.say, f"{refused}{fault}", True)

            self.place.run_worker(work, thread=True, exclusive=exclusive, group=group, name=method.__name__)

        return cast("Callable[Concatenate[F, P], None]", begin)

    return decorate
