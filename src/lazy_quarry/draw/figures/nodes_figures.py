"""Figures of a site's nodes: what each has free now, the hours of one, and all of them over time."""

from collections.abc import Sequence
from datetime import UTC, tzinfo
from itertools import pairwise

from lazy_quarry.core.units import HOUR_MS, fold_names, format_duration, plural
from lazy_quarry.draw.time_scale import source_words, time_scale
from lazy_quarry.draw.values import Bar, Figure, Lane, Lanes, Scale
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.node_use import alike, holders
from lazy_quarry.views.board import Board, NodeView, PersonView

WHOSE = (("mine", "mine"), ("accounts", "my accounts'"), ("others", "others'"))
_WEEK_H = 7 * 24


def nodes_figure(board: Board, zone: tzinfo = UTC) -> Figure:
    """Every node's cores by who has them; nodes that are alike, and alike in use, in one row."""
    most = max((node.cores for node in board.nodes), default=1)
    lanes: list[Lane] = []
    shown = set[str]()
    for queue in board.site.queues:
        nodes = [node for node in board.nodes if queue.name in node.queues]
        free = sum(node.cores - node.cores_used for node in nodes if not node.closed)
        told = f"{free:,} of {plural(sum(node.cores for node in nodes), 'core')} free" if queue.open else "closed"
        if nodes and all(node.name in shown for node in nodes):
            told += f", on {fold_names([node.name for node in nodes])} above"
        lanes.append(Lane(f"{queue.name}: {told}", heading=True))
        lanes += [_node_lane(group, board.person) for group in alike(node for node in nodes if node.name not in shown)]
        shown |= {node.name for node in nodes}
    step = next(one for one in (1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024, 10**6) if most / one <= 8)
    ticks = tuple((float(cores), str(cores)) for cores in range(0, most + 1, step))
    return Figure(
        name="nodes",
        title=f"Nodes of {board.site.name}",
        panel=Lanes(Scale(0, most, "cores", ticks), tuple(lanes)),
        source=source_words(board.site.name, board.now_ms, zone),
        legend=(*WHOSE, ("free", "free"), ("closed", "closed")),
    )


def _node_lane(nodes: Sequence[NodeView], person: PersonView) -> Lane:
    first = nodes[0]
    bars, at = [], 0
    for owner, _ in WHOSE:
        held = sum(len(one.cores) for one in first.occupants if person.owner(one.user, one.account) == owner)
        if held:
            bars.append(Bar(at, at + held, owner))
            at += held
    bars.append(Bar(at, first.cores, "closed" if first.closed else "free"))
    free = first.cores - first.cores_used
    note = first.closed or (f"{free} free" if len(nodes) == 1 else f"{free} free each")
    return Lane(fold_names([node.name for node in nodes]), tuple(bars), note)


def hours_figure(board: Board, node: str, zone: tzinfo = UTC) -> Figure:
    """Who has a node, who is expected there, and when it takes no jobs. Raises :class:`QuarryError` for no such node."""
    found = next((one for one in board.nodes if one.name == node), None)
    if found is None:
        raise QuarryError(f'there is no node "{node}" that runs jobs')
    now, lanes = board.now_ms, []
    ends = [now + HOUR_MS]
    for one in sorted(found.occupants, key=lambda one: one.until_ms):
        ends.append(one.until_ms)
        note = plural(len(one.cores), "core")
        bar = Bar(now, max(now, one.until_ms), board.person.owner(one.user, one.account))
        lanes.append(Lane(f"{one.label} {one.name}", (bar,), f"{note}, {one.user}"))
    coming = [job for job in board.jobs if node in job.forecast_nodes and job.forecast_ms is not None]
    for job in sorted(coming, key=lambda job: job.forecast_ms or 0)[:60]:
        ends.append(job.forecast_end_ms or now)
        bar = Bar(job.forecast_ms or now, job.forecast_end_ms or now, "expected")
        lanes.append(Lane(f"{job.label} {job.name}", (bar,), f"{plural(job.cores, 'core')}, {job.user}"))
    for window in board.site.windows:
        if node in window.nodes:
            ends.append(window.ends_ms)
            lanes.append(Lane("no jobs", (Bar(window.begins_ms, window.ends_ms, "window"),), window.reason))
    end = min(max(ends), now + _WEEK_H * HOUR_MS)
    if found.closed:
        lanes.append(Lane("closed", (Bar(now, end, "closed"),), found.closed))
    free = found.cores - found.cores_used
    return Figure(
        name=f"hours-{node}",
        title=f"The hours of {node}",
        note=f"{free} of {plural(found.cores, 'core')} are free. Jobs that run are drawn to the ends of their walltimes.",
        panel=Lanes(time_scale(now, end, now, zone), tuple(lanes)),
        source=source_words(board.site.name, now, zone),
        legend=(*WHOSE, ("expected", "expected by the plan"), ("window", "reserved")),
    )


def node_lanes_figure(board: Board, names: Sequence[str], begin_ms: int, end_ms: int, zone: tzinfo = UTC) -> Figure:
    """Draw how much of each of these nodes is held over time, and by whom."""
    held, lanes = holders(board), []
    by_name = {node.name: node for node in board.nodes}
    for name in names:
        node = by_name[name]
        bars = list(_stacked([one for one in held.get(name, ()) if one[1] > begin_ms and one[0] < end_ms], node.cores))
        bars += [Bar(w.begins_ms, w.ends_ms, "window", 0.1, 0.8) for w in board.site.windows if name in w.nodes]
        if node.closed:
            bars.append(Bar(board.now_ms, end_ms, "closed", 0.1, 0.8))
        lanes.append(Lane(name, tuple(bars), plural(node.cores, "core")))
    return Figure(
        name="node-lanes",
        title=f"Nodes of {board.site.name} over {format_duration((end_ms - begin_ms) // 1000)}",
        note="The height of a bar is the part of the node's cores.",
        panel=Lanes(time_scale(begin_ms, end_ms, board.now_ms, zone), tuple(lanes)),
        source=source_words(board.site.name, board.now_ms, zone),
        legend=(*WHOSE, ("expected", "expected by the plan"), ("window", "reserved"), ("closed", "closed")),
    )


def _stacked(held: Sequence[tuple[int, int, int, str]], cores: int) -> list[Bar]:
    """Who has how much between each two changes, one above the other."""
    edges = sorted({at for begin, end, _, _ in held for at in (begin, end)})
    bars = []
    for begin, end in pairwise(edges):
        base = 0.05
        for owner in ("mine", "accounts", "others", "expected"):
            amount = sum(one[2] for one in held if one[3] == owner and one[0] <= begin and one[1] >= end)
            if amount:
                height = 0.9 * min(1.0, amount / max(1, cores))
                bars.append(Bar(begin, end, owner, base, height))
                base += height
    return bars
