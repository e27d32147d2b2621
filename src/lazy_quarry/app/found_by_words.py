"""The entries of ctrl+p: all acts of the present place, of the whole, and of the other places, by words that people say."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from lazy_quarry.app.acting import Acting
from lazy_quarry.app.key_table import acts_by_place
from lazy_quarry.app.shared.acts import ACTS, Bound, key_of, shown
from lazy_quarry.app.shared.finder import FinderEntry
from lazy_quarry.app.shared.frame import PLACES
from lazy_quarry.app.shared.place import Place

_PLACES = {
    "survey": "nodes cluster free room software traits storage limits accounts available",
    "draft": "write edit script job new request header template cores walltime",
    "chain": "dependencies workflow pipeline graph order after",
    "watch": "queue jobs running waiting pending status monitor list",
    "review": "past ended results output failed history runs efficiency",
    "ledger": "usage account budget core-hours report who used billing cost",
}
"""Words by which people look for a place."""


def found_by_words(app: Acting, place: Place | None) -> Iterator[FinderEntry]:
    """Every act that can be found. Those of the place that don't apply now have a reason in place of what they do."""
    if place is not None:
        for name, one in place.bound_acts().items():
            reason = place.when(name)
            run = None if reason else partial(app.call_next, app.action_act, name)
            yield FinderEntry(one.tooltip, shown(one.key), run, reason, _also(name))
    for number, name in enumerate(PLACES, 1):
        yield FinderEntry(
            f"go to {name.capitalize()}", str(number), partial(app.call_next, app.action_go, name), "", _PLACES[name]
        )
    yield from _of_the_whole(app, place)
    here = set(place.bound_acts()) if place is not None else set()
    for name, acts in acts_by_place().items():
        for act, one in acts.items():
            if act not in here and act not in ("open", "side", "back", "out"):
                go = partial(app.call_next, app.action_go, name)
                yield FinderEntry(
                    f"{name.capitalize()}: {one.tooltip}", shown(one.key), go, "", f"{_also(act)} {name}", True
                )


def _also(act: str) -> str:
    return f"{ACTS[act].words} {ACTS[act].also}"


def _of_the_whole(app: Acting, place: Place | None) -> Iterator[FinderEntry]:
    """The acts of every place, and what has no key."""
    rehearsed = app.board is not None and app.board.clock.kind == "rehearsal"
    drawn = place is not None and bool(place.figures())
    listed = place is not None and bool(place.tables())
    on_job = place is not None and place.job_in_sight() is not None
    reasons = {
        **dict.fromkeys(
            ("pause", "step", "faster", "slower"), "" if rehearsed else "only a rehearsal's clock can be moved"
        ),
        "figure": "" if drawn else "where something is drawn",
        "table": "" if listed else "where there is a table",
        "ring": "" if on_job else "on a job",
    }
    for one in app.BINDINGS:
        if isinstance(one, Bound) and one.act != "find_act":
            reason = reasons.get(one.act, "")
            run = None if reason else partial(app.call_next, app.action_act, one.act)
            yield FinderEntry(one.tooltip, key_of(one.act), run, reason, _also(one.act))
    for name in app.sites:
        go = partial(app.call_next, app.open_site, name)
        yield FinderEntry(f"open the site {name}", "", go, "", "cluster hosts machine switch another")
    yield FinderEntry(
        "how I am told when a job ends: nothing, a bell, OSC 9, OSC 777", "", app.action_turn_ring, "", "notify"
    )
