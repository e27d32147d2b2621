"""The base of every place."""

from collections.abc import Iterable
from functools import cache
from typing import ClassVar, TypeVar, cast

from textual.containers import Container
from textual.widget import Widget

from lazy_quarry.app.shared.acts import ACTS, Bound, key_of, shown
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.figure_catalogue import Offer
from lazy_quarry.app.shared.key_hint import KeyHint
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.quarry import Quarry
from lazy_quarry.app.shared.table_catalogue import Table
from lazy_quarry.app.textual_fixes.readings_in_order import BeginsInOrder
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView

F = TypeVar("F", bound=Feature)
WIDE = 130
"""Columns from which two sides stand beside each other."""


Hint = str | tuple[str, str] | KeyHint
"""An act; an act with other words than its usual ones; or a key that is no act, with its words and what a click runs."""


def hints(acts: Iterable[Hint]) -> Iterable[KeyHint]:
    """Acts as keys with words, each with what a click on it runs."""
    for one in acts:
        if isinstance(one, tuple) and len(one) == 3:
            yield one
        else:
            act, words = (one, ACTS[one].words) if isinstance(one, str) else one
            yield key_of(act), words, f"app.click('{act}')"


class Place(BeginsInOrder, Container):
    """One of the six places. It is told of each new board, and says its note and its keys."""

    DEFAULT_CSS = "Place { height: 1fr; width: 1fr; }"

    WHY_NOT: ClassVar[dict[str, str]] = {}
    """Acts that work only at times, each with when: what is said of them while the place doesn't name them among :meth:`acts`."""
    keeps_focus = True
    """True when the keys go back to where they were when it was left; else :meth:`arrive` says where to."""
    had: Widget | None = None
    """The widget that had the keys when it was left."""
    board: Board | None = None
    ready = False
    """True once its widgets are there; before that the present is not shown on it."""

    def __init__(self, **arguments: str) -> None:
        super().__init__(**arguments)  # type: ignore[arg-type]
        self.features: dict[str, Feature] = {}
        """Features of this place, by the names that bindings use; filled by :meth:`has`."""

    def has(self, feature: F) -> F:
        """Take a feature, so that keys reach it; it is returned."""
        self.features[feature.NAME] = feature
        return feature

    def action_have(self, feature: str, method: str, *arguments: object) -> None:
        """Have a feature do an act."""
        getattr(self.features[feature], method)(*arguments)

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return cast(Quarry, self.app)

    @property
    def now_ms(self) -> int:
        """The present instant; 0 before it is known."""
        return self.board.now_ms if self.board is not None else 0

    def _say(self, words: str, bad: bool = False) -> None:
        self.post_message(Say(words, bad=bad))

    def goes_to(self, widget: Widget) -> bool:
        """True when keys go to a widget. Its own ``has_focus`` is true a little later, and quick fingers type before that."""
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

    @classmethod
    @cache
    def bound_acts(cls) -> dict[str, Bound]:
        """The acts of this place by name, in the order of the language of keys."""
        found = {
            one.act: one for kind in cls.__mro__ for one in vars(kind).get("BINDINGS", ()) if isinstance(one, Bound)
        }
        return {name: found[name] for name in ACTS if name in found}

    def acts(self) -> list[Hint]:
        """The acts that can be done here and now, most useful first."""
        return []

    def keys(self) -> list[KeyHint]:
        """The same with their keys."""
        return list(hints(self.acts()))

    def applying(self) -> list[Hint]:
        """All that could be done now, though another thing is under way that has its own keys on the line."""
        return self.acts()

    def when(self, act: str) -> str:
        """When an act works that doesn't apply now, as an end of a sentence; empty for one that applies."""
        if act not in self.WHY_NOT or any(act == (one if isinstance(one, str) else one[0]) for one in self.applying()):
            return ""
        return self.WHY_NOT[act]

    def why_not(self, act: str) -> str:
        """The same as a sentence, for who has pressed its key; empty too where the act itself says more."""
        when = self.when(act)
        return f"{key_of(act)} ({ACTS[act].words}) works {when}." if when else ""

    def why_not_run(self, action: str) -> str:
        """The same of what a binding runs."""
        act = next((name for name, one in self.bound_acts().items() if one.action == action), "")
        return self.why_not(act)

    def costs(self, act: str) -> str:
        """The question before an act that costs and asks nothing when its key is pressed; empty for all others."""
        return ""

    def all_keys(self) -> list[tuple[str, str]]:
        """Every key of the place, whatever is under the cursor, with what it does in a sentence."""
        return [(shown(one.key), one.tooltip) for one in self.bound_acts().values()]

    def figures(self) -> list[Offer]:
        """Figures of what is seen here, for taking along."""
        return []

    def tables(self) -> list[Table]:
        """Tables of what is listed here, for taking along; the list that has the keys first."""
        return []

    def leave(self) -> None:
        """The person leaves the application: save what must not be lost."""

    def arrive(self) -> None:
        """The place is shown now."""
