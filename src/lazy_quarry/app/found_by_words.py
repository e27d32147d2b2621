"""What ctrl+p finds: the places, every action of the present one, and those of the whole."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

from textual.binding import Binding

from lazy_quarry.app.places.place import Place
from lazy_quarry.app.widgets.finder import Entry
from lazy_quarry.app.widgets.frame import PLACES

if TYPE_CHECKING:
    from lazy_quarry.app.app import QuarryApp

_SHOWN = {
    "slash": "/",
    "shift+up": "⇧↑",
    "shift+down": "⇧↓",
    "left_square_bracket": "[",
    "right_square_bracket": "]",
    "left": "←",
    "right": "→",
    "escape": "esc",
    "question_mark": "?",
}


def found_by_words(app: QuarryApp, place: Place | None) -> Iterator[Entry]:
    """Every action that can be found. Those of the place that don't apply now have a reason in place of what they do."""
    if place is not None:
        hints = place.keys()
        now = {key for keys, _, _ in hints for key in keys.split()}
        kinds = [kind for kind in type(place).__mro__ if issubclass(kind, Place)]
        for binding in (one for kind in kinds for one in vars(kind).get("BINDINGS", ())):
            if not isinstance(binding, Binding) or not binding.description:
                continue
            key = _SHOWN.get(binding.key, binding.key)
            reason = "" if key in now else place.WHY_NOT.get(key, "")
            run = None if reason else partial(app.call_next, app.action_place_action, binding.action)
            yield Entry(binding.description, key, run, reason)
    for number, name in enumerate(PLACES, 1):
        yield Entry(f"go to {name.capitalize()}", str(number), partial(app.call_next, app.action_go, name))
    rehearsed = app.board is not None and app.board.clock.kind == "rehearsal"
    reason = "" if rehearsed else "only a rehearsal's clock can be moved"
    for words, key, action in (
        ("clock: pause or go on", "space", app.action_stand),
        ("clock: faster", "+", partial(app.action_faster, 1)),
        ("clock: slower", "−", partial(app.action_faster, -1)),
        ("clock: to the next thing that happens", ".", app.action_step),
    ):
        yield Entry(words, key, partial(app.call_next, action) if rehearsed else None, reason)
    drawn = place is not None and bool(place.figures())
    run = partial(app.call_next, app.action_figure) if drawn else None
    yield Entry("a figure to take along: SVG or PDF", "ctrl+e", run, "" if drawn else "where something is drawn")
    yield Entry("notices when a marked job ends: off, bell, OSC 9, OSC 777", "", app.action_turn_ring)
    marks = place is not None and place.job_in_sight() is not None
    yield Entry("tell me when this job ends", "B", app.action_ring if marks else None, "" if marks else "on a job")
    yield Entry("dusk or chalk: dark or light", "ctrl+t", app.action_ground)
    yield Entry("draw all again, if something else wrote on the terminal", "ctrl+l", app.action_draw_again)
    yield Entry("all keys of this place", "?", app.action_keys)
    yield Entry("leave; drafts are kept, jobs go on", "ctrl+q", partial(app.call_next, app.action_quit))
