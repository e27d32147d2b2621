"""The table of keys, made from the bindings: each act with its key, and in which of the six places it works."""

from collections.abc import Iterator
from functools import cache
from importlib import import_module

from lazy_quarry.app.shared.acts import ACTS, Bound, shown
from lazy_quarry.app.shared.frame import PLACES


@cache
def acts_by_place() -> dict[str, dict[str, Bound]]:
    """The acts of each place, by its name. All places are imported for it."""
    found = dict[str, dict[str, Bound]]()
    for name in PLACES:
        place = getattr(import_module(f"lazy_quarry.app.{name}.{name}"), f"{name.capitalize()}Place")
        found[name] = place.bound_acts()
    return found


def table_lines() -> Iterator[str]:
    """The table in Markdown: a row an act; ``!`` marks those that change something that lasts."""
    yield f"| key | act | {' | '.join(name.capitalize() for name in PLACES)} |"
    yield f"| --- | --- | {' | '.join('---' for _ in PLACES)} |"
    places = acts_by_place()
    for name, act in ACTS.items():
        if any(name in acts for acts in places.values()):
            keys = " or ".join(f"`{shown(one)}`" for one in act.key.split(","))
            marks = ("x" if name in acts else "" for acts in places.values())
            yield f"| {keys} | {act.words}{' !' if act.changes else ''} | {' | '.join(marks)} |"


def sentence_lines() -> Iterator[str]:
    """The effect of each key in each place, in Markdown."""
    for place, acts in acts_by_place().items():
        yield f"**{place.capitalize()}**"
        yield ""
        yield "| key | what it does |"
        yield "| --- | --- |"
        for one in acts.values():
            keys = " or ".join(f"`{shown(key)}`" for key in one.key.split(","))
            yield f"| {keys} | {one.tooltip} |"
        yield ""
