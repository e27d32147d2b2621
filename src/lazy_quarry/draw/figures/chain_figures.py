"""Figures of a chain: its jobs as a graph from left to right, and as lanes over time with the critical ones heavier."""

from datetime import UTC, tzinfo

from lazy_quarry.core.chain.graph import layers
from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.units import MINUTE_MS, clock_time, format_duration, plural
from lazy_quarry.draw.time_scale import source_words, time_scale
from lazy_quarry.draw.values import Bar, Edge, Figure, Graph, Lane, Lanes, Slab
from lazy_quarry.views.chain_views import ChainView, PartView
from lazy_quarry.wording.sentences import all_done_words

LINES = {"succeeds": "solid", "fails": "broken", "finishes": "double", "begins": "dotted", "each-succeeds": "ribbon"}
_WIDE, _HIGH, _GAP, _BELOW = 1.7, 0.62, 0.8, 0.28
_LEGEND = (
    ("mine", "running"),
    ("done", "done"),
    ("failed", "failed"),
    ("expected", "not started"),
    ("held", "held, skipped or cancelled"),
)


def role_of(one: PartView) -> str:
    """The role that stands for how a job of a chain stands."""
    if one.phase is None:
        return "expected" if one.ends_ms is not None else "held"
    if one.phase is Phase.RUNNING:
        return "mine"
    if one.phase is Phase.DONE:
        return "done"
    if one.phase in FAILING:
        return "failed"
    return "held" if one.phase in (Phase.HELD, Phase.SKIPPED, Phase.CANCELLED) else "expected"


def chain_figure(view: ChainView, site: str, zone: tzinfo = UTC) -> Figure:
    """The graph: a slab a job, arrays as stacks with their progress, edges by the line of their condition."""
    waits = {one.name: tuple(each for each in one.after if not each[0].isdecimal()) for one in view.parts}
    found = layers(waits)
    tallest = max((len(layer) for layer in found), default=1)
    places: dict[str, tuple[float, float]] = {}
    for level, layer in enumerate(found):
        top = (tallest - len(layer)) * (_HIGH + _BELOW) / 2
        for at, name in enumerate(layer):
            places[name] = 0.1 + _WIDE / 2 + level * (_WIDE + _GAP), 0.2 + _HIGH / 2 + top + at * (_HIGH + _BELOW)
    by_name = {one.name: one for one in view.parts}
    slabs, edges = [], []
    for name, (x, y) in places.items():
        one = by_name[name]
        part = one.done_tasks / one.tasks if one.tasks else 1.0 if one.phase is Phase.DONE else 0.0
        slabs.append(
            Slab(x, y, _WIDE, _HIGH, role_of(one), _words(one, view, zone), 3 if one.tasks else 1, part, one.critical)
        )
        for other, condition in waits[name]:
            begin, end = (places[other][0] + _WIDE / 2, places[other][1]), (x - _WIDE / 2, y)
            middle = end[0] - _GAP / 2
            strong = one.critical and by_name[other].critical
            points = (
                (begin, (begin[0] + _GAP / 4, begin[1]), (middle, end[1]), end) if begin[1] != end[1] else (begin, end)
            )
            edges.append(Edge(points, LINES[condition], strong))
    used = {slab.role for slab in slabs}
    told = {LINES[condition]: condition for after in waits.values() for _, condition in after}
    legend = [(role, words) for role, words in _LEGEND if role in used]
    legend += [(f"line-{line}", condition) for condition, line in LINES.items() if line in told]
    width = 0.2 + len(found) * _WIDE + max(0, len(found) - 1) * _GAP
    return Figure(
        name=f"chain-{view.name}",
        title=f"Chain {view.number} {view.name}" if view.number else f"Chain {view.name}",
        note=_note(view, zone),
        panel=Graph(width, 0.4 + tallest * (_HIGH + _BELOW), tuple(slabs), tuple(edges)),
        source=source_words(site, view.now_ms, zone),
        legend=tuple(legend),
    )


def _words(one: PartView, view: ChainView, zone: tzinfo) -> tuple[str, ...]:
    what = one.phase.value if one.phase else ""
    if one.tasks:
        what = f"{one.done_tasks} of {plural(one.tasks, 'task')}" if one.phase else plural(one.tasks, "task")
    elif one.phase is None and one.starts_ms is not None:
        what = clock_time(one.starts_ms, view.now_ms, zone)
    elif one.phase is None:
        what = "doesn't run"
    return (one.name, what) if what else (one.name,)


def _note(view: ChainView, zone: tzinfo) -> str:
    told = plural(len(view.parts), "job")
    if view.left and view.ends_ms is not None:
        told += f", {all_done_words(view, zone)}"
    return told + (f"; {view.state}" if view.number else "")


def chain_lanes_figure(view: ChainView, site: str, zone: tzinfo = UTC) -> Figure:
    """When each job runs, at the latest; by how much it may slip is drawn thin, and what may not at all is heavy."""
    lanes, ends = [], [view.now_ms + 10 * MINUTE_MS]
    begins = [one.starts_ms for one in view.parts if one.starts_ms is not None]
    for one in view.parts:
        bars = []
        if one.starts_ms is not None and one.ends_ms is not None:
            role = "critical" if one.critical else role_of(one)
            bars.append(
                Bar(one.starts_ms, one.ends_ms, role, 0.1 if one.critical else 0.2, 0.8 if one.critical else 0.6)
            )
            slip = one.ends_ms + (one.slack_ms or 0)
            if one.slack_ms:
                bars.append(Bar(one.ends_ms, slip, "waited", 0.46, 0.08))
            ends.append(slip)
        note = (
            "critical"
            if one.critical
            else f"may slip {format_duration(one.slack_ms / 1000)}"
            if one.slack_ms
            else one.reason
        )
        lanes.append(Lane(one.name, tuple(bars), note, one.critical))
    used = {bar.role for lane in lanes for bar in lane.bars}
    legend = (("critical", "critical: nothing may slip"), *_LEGEND, ("waited", "may slip"))
    return Figure(
        name=f"chain-{view.name}-lanes",
        title=f"Chain {view.name} over time",
        note=_note(view, zone),
        panel=Lanes(time_scale(min([view.now_ms, *begins]), max(ends), view.now_ms, zone), tuple(lanes)),
        source=source_words(site, view.now_ms, zone),
        legend=tuple((role, words) for role, words in legend if role in used),
    )
