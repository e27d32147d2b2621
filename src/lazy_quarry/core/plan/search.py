"""Searching a timeline: the earliest start at which enough nodes are free together for long enough."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.plan.placement import CORES, FAR, Slot
from lazy_quarry.core.plan.timeline import Timeline


def _enough(
    timeline: Timeline, nodes: NDArray[np.int64] | slice, need: NDArray[np.int32], width: int
) -> NDArray[np.bool_]:
    """(nodes × width) where a segment has what is needed; entries that aren't used have nothing."""
    enough: NDArray[np.bool_] | None = None
    for kind in range(4):
        wanted = need[kind]
        if wanted.any() if wanted.ndim else wanted:
            there = timeline.free[kind][nodes, :width] >= wanted[..., None]
            enough = there if enough is None else np.logical_and(enough, there, out=enough)
    if enough is None or not need[CORES].all():
        used = timeline.times[nodes, :width] < FAR
        enough = used if enough is None else enough & used
    return enough


def _runs(
    timeline: Timeline, nodes: NDArray[np.int64] | slice, need: NDArray[np.int32], duration_ms: int, not_before_ms: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Intervals with enough for the whole duration: the first and last start of each, and its node's position.

    Two intervals of a node never touch, so a node is counted once at most at any instant.
    """
    width = int(timeline.used.max(initial=1))
    enough = _enough(timeline, nodes, need, width)
    edged = np.zeros((len(enough), width + 2), dtype=bool)  # so that no stretch goes on from one row to the next
    edged[:, 1:-1] = enough
    # One long row in place of many: where enough turns to not enough, an interval ends.
    line = edged.ravel()
    turns = np.flatnonzero(line[1:] != line[:-1])
    begins, ends = turns[0::2], turns[1::2]
    row = begins // (width + 2)
    shift = timeline.table.numbers[nodes][row] * timeline.times.shape[1] - row * (width + 2)
    times = timeline.times.ravel()
    last = times.take(ends + shift) - duration_ms  # the segment behind a stretch, or FAR
    first = np.maximum(times.take(begins + shift), not_before_ms)
    good = np.flatnonzero(last >= first)
    return first.take(good), last.take(good), row.take(good)


def find(
    timeline: Timeline,
    nodes: NDArray[np.int64] | slice,
    parts: Sequence[tuple[int, NDArray[np.int32]]],
    duration_ms: int,
    not_before_ms: int = 0,
    *,
    order: NDArray[np.int64],
) -> Slot | None:
    """The earliest start at which enough of ``nodes`` are free together for the whole duration.

    ``order`` says for each of them how soon it is taken: see :mod:`lazy_quarry.core.plan.node_order`. ``parts`` are
    (number of nodes, amount of each), the greater first; an amount is an array (4,), or (4 × nodes) where it differs by
    node. None when there is no such time.
    """
    # All nodes are asked at once with NumPy, also those that will not be chosen: a loop in Python over fewer would cost
    # more.
    runs = [_runs(timeline, nodes, need, duration_ms, not_before_ms) for _, need in parts]
    start = _first_start(parts, runs)
    if start is None:
        return None
    indices = timeline.table.numbers[nodes]
    taken = np.zeros(len(indices), dtype=bool)
    chosen = []
    for (count, _), (begin, last, row) in zip(parts, runs, strict=True):
        # Larger parts choose first. A node that hosts a larger part could host a smaller one as well, so it is taken
        # out.
        places = row[(begin <= start) & (last >= start)]
        picked = _chosen(places[~taken[places]], order, count)
        taken[picked] = True
        chosen.append(tuple(indices[picked].tolist()))
    return Slot(start, tuple(chosen))


def find_anywhere(
    timeline: Timeline,
    nodes: NDArray[np.int64] | slice,
    levels: Sequence[NDArray[np.int32]],
    ranks: int,
    duration_ms: int,
    not_before_ms: int = 0,
    *,
    order: NDArray[np.int64],
) -> Slot | None:
    """The earliest start at which ``nodes`` together hold so many ranks for the whole duration.

    ``order`` is that of :meth:`find`: each node in turn gets as many ranks as it can host. ``levels`` are what one rank, two
    ranks, … need of a node, as in :meth:`find`. A node hosts as many ranks as there are levels that it meets, so the ranks
    hosted at a time are the sum over levels of the nodes that meet each. In the slot, entry k of ``chosen`` are the nodes
    that get k + 1 ranks.
    """
    width = int(timeline.used.max(initial=1))
    met = _levels_met(timeline, nodes, levels, width)
    start = max(not_before_ms, timeline.now_ms)
    each = _through_window(timeline, nodes, met, start, duration_ms)
    if each.sum() < ranks:
        later = _start_of(timeline, nodes, met, len(levels), ranks, duration_ms, start)
        if later is None:
            return None
        start = later
        each = _through_window(timeline, nodes, met, start, duration_ms)
    indices = timeline.table.numbers[nodes]
    chosen: list[list[int]] = [[] for _ in levels]
    left = ranks
    for place in _chosen(np.flatnonzero(each > 0), order, len(indices)):
        here = min(left, int(each[place]))
        chosen[here - 1].append(int(indices[place]))
        left -= here
        if not left:
            break
    return Slot(start, tuple(tuple(group) for group in chosen))


def _levels_met(
    timeline: Timeline, nodes: NDArray[np.int64] | slice, levels: Sequence[NDArray[np.int32]], width: int
) -> NDArray[np.int32]:
    """(nodes × width): how many of the levels each segment has enough for."""
    first, final, count = levels[0], levels[-1], len(levels)
    grows = final != first
    if first.ndim == 1 and count > 2 and (final[grows] == first[grows] * count).all() and (first[grows] > 0).all():
        met = np.full(timeline.times[nodes, :width].shape, count, dtype=np.int32)
        for kind in np.flatnonzero(grows):  # each level is so many times the first
            np.minimum(met, timeline.free[kind][nodes, :width] // first[kind], out=met)
        alike: NDArray[np.int32] = np.where(grows, 0, first).astype(np.int32)
        return np.where(_enough(timeline, nodes, alike, width), np.maximum(met, 0), 0).astype(np.int32)
    met = _enough(timeline, nodes, first, width).astype(np.int32)
    for need in levels[1:]:
        met += _enough(timeline, nodes, need, width)
    return met


def _through_window(
    timeline: Timeline, nodes: NDArray[np.int64] | slice, met: NDArray[np.int32], start_ms: int, duration_ms: int
) -> NDArray[np.int32]:
    """For each node the least of ``met`` (nodes × width) from a start on, for the whole duration."""
    times = timeline.times[nodes, : met.shape[1]]
    ends = np.concatenate([times[:, 1:], np.full((len(times), 1), FAR, dtype=np.int64)], axis=1)
    inside = (times < start_ms + duration_ms) & (ends > start_ms)
    least: NDArray[np.int32] = np.where(inside, met, np.int32(2**30)).min(axis=1)
    return least


def _start_of(
    timeline: Timeline,
    nodes: NDArray[np.int64] | slice,
    met: NDArray[np.int32],
    most: int,
    ranks: int,
    duration_ms: int,
    not_before_ms: int,
) -> int | None:
    times = timeline.times[nodes, : met.shape[1]]
    used = times < FAR
    flat, depth = times[used], met[used]  # rows are mostly empty: one after another they are much shorter
    ends = np.append(flat[1:], FAR)
    closing = np.cumsum(used.sum(axis=1)) - 1  # the last segment of each node
    ends[closing] = FAR
    place = np.arange(len(flat))
    after = np.repeat(closing, used.sum(axis=1))
    begin = np.maximum(flat, not_before_ms)
    edges = []
    for level in range(1, most + 1):
        enough = depth >= level
        # For each segment, the next one without enough: a running minimum from the right end.
        stop = np.minimum.accumulate(np.where(enough, len(flat), place)[::-1])[::-1]
        until = np.where(stop > after, FAR, flat[np.minimum(stop, len(flat) - 1)])
        last = np.minimum(until - duration_ms, ends - 1)
        good = enough & (last >= begin)
        edges.append((np.sort(begin[good]), np.sort(last[good])))
    candidates = np.unique(np.concatenate([begins for begins, _ in edges]))
    hosted = np.zeros(len(candidates), dtype=np.int64)
    for begins, lasts in edges:
        hosted += begins.searchsorted(candidates, "right") - lasts.searchsorted(candidates, "left")
    where = np.flatnonzero(hosted >= ranks)
    return int(candidates[where[0]]) if len(where) else None


def count_at(
    timeline: Timeline,
    nodes: NDArray[np.int64] | slice,
    amount: NDArray[np.int32],
    most: int,
    duration_ms: int,
    start_ms: int,
    *,
    order: NDArray[np.int64],
) -> list[tuple[int, int]]:
    """Count the jobs of this amount on one node that fit at an instant, and on which nodes, up to ``most``."""
    width = int(timeline.used.max(initial=1))
    wanted = np.flatnonzero(amount)
    free = timeline.free[:, nodes, :width][wanted]
    met = (free // amount[wanted][:, None, None]).min(axis=0)
    each = _through_window(timeline, nodes, met, start_ms, duration_ms)
    indices = timeline.table.numbers[nodes]
    found, left = [], most
    for place in _chosen(np.flatnonzero(each > 0), order, len(indices)):
        here = min(left, int(each[place]))
        found.append((int(indices[place]), here))
        left -= here
        if not left:
            break
    return found


def _first_start(
    parts: Sequence[tuple[int, NDArray[np.int32]]],
    runs: Sequence[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]],
) -> int | None:
    """The first instant at which as many nodes host each part as it and those before it need."""
    if len(parts) == 1 and parts[0][0] == 1:
        begin = runs[0][0]
        return int(begin.min()) if len(begin) else None
    edges = [(np.sort(begin), np.sort(last)) for begin, last, _ in runs]
    # Only the begin of an interval can be the answer: between two begins the number of hosting nodes only falls.
    candidates = edges[0][0] if len(edges) == 1 else np.unique(np.concatenate([begins for begins, _ in edges]))
    enough = np.ones(len(candidates), dtype=bool)
    needed = 0
    for (count, _), (begins, lasts) in zip(parts, edges, strict=True):
        needed += count
        # Counted by two binary searches: intervals that have begun, less those whose last start has passed.
        hosting = begins.searchsorted(candidates, "right") - lasts.searchsorted(candidates, "left")
        enough &= hosting >= needed
    where = int(enough.argmax()) if len(enough) else 0
    return int(candidates[where]) if len(enough) and enough[where] else None


def _chosen(places: NDArray[np.int64], order: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """The ``count`` positions that come first in the order."""
    if count == 1:
        return places[[int(order[places].argmin())]]
    return places[np.argsort(order[places])[:count]]
