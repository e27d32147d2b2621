"""What ctrl+p finds: the places, the frame's own actions, and the keys that work now."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from textual.app import SystemCommand

from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.widgets.frame import PLACES

if TYPE_CHECKING:
    from lazy_quarry.app.app import QuarryApp


def found_by_words(app: QuarryApp, keys: Iterable[KeyHint]) -> Iterable[SystemCommand]:
    """Every action that can be found; ``keys`` are those of the present place."""
    for place in PLACES:
        yield SystemCommand(
            f"Go to {place.capitalize()}",
            f"The place {place}",
            lambda place=place: app.call_next(app.action_go, place),
        )
    yield SystemCommand("Dusk or chalk", "The dark or the light theme", app.action_ground)
    yield SystemCommand("All keys", "The keys of this place", app.action_keys)
    yield SystemCommand("Clock: pause or go on", "Of the rehearsal", app.action_stand)
    yield SystemCommand("Clock: faster", "Of the rehearsal", lambda: app.action_faster(1))
    yield SystemCommand("Clock: slower", "Of the rehearsal", lambda: app.action_faster(-1))
    for key, words, action in keys:
        if action:
            yield SystemCommand(
                words.capitalize(), f"Key {key}", lambda action=action: app.call_next(app.run_action, action)
            )
    yield SystemCommand("Leave", "Drafts are kept, jobs go on", app.action_quit)
