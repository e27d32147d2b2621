"""Figures of a draft: the cores that it would get, and when it would start as it is and otherwise."""

from collections.abc import Iterator
from datetime import UTC, tzinfo

from lazy_quarry.core.units import HOUR_MS, clock_time, format_duration, plural
from lazy_quarry.draw.time_scale import source_words, time_scale
from lazy_quarry.draw.values import Bar, Cell, Field, Figure, Lane, Lanes
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.draft_view import DraftReport, PlacedNode, Rung


def placement_figure(report: DraftReport, site: str, zone: tzinfo = UTC) -> Figure:
    """A row a node, a cell a core; ranks beside one another alternate. Raises :class:`QuarryError` where it has no place."""
    place, threads = report.place, max(1, report.shape.threads)
    if not place.nodes:
        raise QuarryError("this draft has no place on the site, so there is nothing to draw")
    cells: list[Cell] = []
    rank = 0
    for row, node in enumerate(place.nodes):
        cells += _cells(row, node, threads, rank)
        rank += node.ranks
    most = max(node.cores for node in place.nodes)
    start = "now" if place.start_ms == report.now_ms else clock_time(place.start_ms or 0, report.now_ms, zone)
    ranks = f"{plural(report.shape.ranks, 'rank')} of {plural(threads, 'thread')}"
    note = f"{ranks} on {plural(place.node_count, 'node')} of {place.queue}, starting {start}"
    if place.node_count > len(place.nodes):
        note += f"; the first {plural(len(place.nodes), 'node')}"
    return Figure(
        name="placement",
        title=f"Where {report.name or 'the draft'} would run",
        note=note,
        panel=Field(
            tuple(node.node for node in place.nodes),
            tuple(str(core) if core % 4 == 0 else "" for core in range(most)),
            tuple(cells),
            "node",
            "core",
        ),
        source=source_words(site, report.now_ms, zone),
        legend=(
            ("rank-a", "one rank"),
            ("rank-b", "the next"),
            ("taken", "others'"),
            ("free", "free"),
        ),
    )


def _cells(row: int, node: PlacedNode, threads: int, first: int) -> Iterator[Cell]:
    taken, own = set(node.taken), {core: place for place, core in enumerate(node.own)}
    for core in range(node.cores):
        if core in own:
            rank = first + own[core] // threads
            yield Cell(row, core, "rank-b" if rank % 2 else "rank-a", str(rank))
        else:
            yield Cell(row, core, "taken" if core in taken else "free")


def ladder_figure(report: DraftReport, site: str, zone: tzinfo = UTC) -> Figure:
    """When it would start with other walltimes and fewer nodes. Raises :class:`QuarryError` where that isn't known."""
    starts, now = report.starts, report.now_ms
    rungs = [(format_duration(one.walltime_s), one) for one in starts.ladder]
    fewer = [(f"{plural(one.nodes, 'node')}, {plural(one.ranks, 'rank')}", one) for one in starts.fewer]
    if not rungs and not fewer:
        raise QuarryError("nothing is known of its start, so there is nothing to draw")
    lanes = [Lane("walltime", heading=True), *(_rung(words, one, now, zone) for words, one in rungs)]
    if fewer:
        lanes += [Lane("fewer nodes", heading=True), *(_rung(words, one, now, zone) for words, one in fewer)]
    for one in starts.finish:
        if one.last_ms is not None:
            words = "as many as fit" if one.at_once is None else f"{one.at_once:,} at once"
            if all(lane.label != "all tasks over" for lane in lanes):
                lanes.append(Lane("all tasks over", heading=True))
            bar = Bar(now, one.last_ms, "asked" if one.asked else "start")
            lanes.append(Lane(words, (bar,), clock_time(one.last_ms, now, zone), one.asked))
    ends = [bar.end for lane in lanes for bar in lane.bars]
    return Figure(
        name="ladder",
        title=f"When {report.name or 'the draft'} would start",
        panel=Lanes(time_scale(now, round(max([now + HOUR_MS, *ends])), now, zone), tuple(lanes)),
        source=source_words(site, now, zone),
        legend=(("waited", "waits"), ("asked", "runs, as requested"), ("start", "runs, requested otherwise")),
    )


def _rung(words: str, one: Rung, now: int, zone: tzinfo) -> Lane:
    if one.start_ms is None:
        return Lane(words, (), one.refused or "never", one.asked)
    bars = (
        Bar(now, one.start_ms, "waited", 0.44, 0.12),
        Bar(one.start_ms, one.start_ms + one.walltime_s * 1000, "asked" if one.asked else "start"),
    )
    told = "now" if one.start_ms <= now else clock_time(one.start_ms, now, zone)
    return Lane(words, bars, told, one.asked)
