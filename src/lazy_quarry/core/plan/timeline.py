"""What every node has free, from now on.

Each node has a row of breakpoints; between two of them its free cores, memory, GPUs and scratch are
constant. Rows are padded to one width, so a question is asked of all nodes at once with NumPy. Instants
are integer milliseconds; ``FAR`` stands for never.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.site import Site

FAR = 2**61
CORES, MEMORY, GPUS, SCRATCH = range(4)
Amount = tuple[int, int, int, int]
"""Cores, memory in MiB, GPUs, scratch in MiB."""


class NodeTable:
    """A site's nodes as arrays: ``capacity`` (4 × nodes), their names, and how many traits each has."""

    def __init__(self, site: Site) -> None:
        nodes = [node for node in site.nodes if node.runs_jobs]
        self.names = [node.name for node in nodes]
        self.index = {name: number for number, name in enumerate(self.names)}
        self.capacity = np.array(
            [(node.cores, node.memory_mib, node.gpus, node.scratch_mib) for node in nodes], dtype=np.int32
        ).T.reshape(4, len(nodes))
        self.numbers = np.arange(len(self.names))
        self.traits = np.array([len(node.traits) for node in nodes], dtype=np.int64)
        order = sorted(range(len(nodes)), key=lambda number: self.names[number])
        self.rank = np.empty(len(nodes), dtype=np.int64)
        self.rank[order] = np.arange(len(nodes))


@dataclass(frozen=True, slots=True)
class Hold:
    """What a running job takes of one node, by the node's index, until it must have ended."""

    node: int
    until_ms: int
    amount: Amount


@dataclass(frozen=True, slots=True)
class Slot:
    """A place found for a request: its start and, for each part, the indices of the nodes."""

    start_ms: int
    chosen: tuple[tuple[int, ...], ...]


class Timeline:
    """Free amounts of all nodes over time, from ``now`` on.

    ``times`` is (nodes × width), ``free`` (4 × nodes × width); entry k of a row holds from ``times[k]``
    to the next breakpoint, and unused entries have the time ``FAR``.
    """

    def __init__(self, table: NodeTable, now_ms: int, holds: Sequence[Hold] = ()) -> None:
        self.table = table
        self.now_ms = now_ms
        count = len(table.names)
        node = np.array([hold.node for hold in holds], dtype=np.int64)
        until = np.array([hold.until_ms for hold in holds], dtype=np.int64)
        amount = np.array([hold.amount for hold in holds], dtype=np.int32).reshape(len(holds), 4)
        on_each = np.bincount(node, minlength=count) if len(holds) else np.zeros(count, dtype=np.int64)
        self.used = on_each + 1
        width = max(8, int(self.used.max(initial=1)) + 8)
        self.times = np.full((count, width), FAR, dtype=np.int64)
        self.free = np.zeros((4, count, width), dtype=np.int32)
        self.times[:, 0] = now_ms
        self.free[:, :, 0] = table.capacity
        if len(holds):
            order = np.lexsort((until, node))
            node, until, amount = node[order], until[order], amount[order]
            column = np.arange(len(holds)) - np.repeat(np.cumsum(on_each) - on_each, on_each) + 1
            self.times[node, column] = until
            for kind in range(4):
                np.subtract.at(self.free[kind, :, 0], node, amount[:, kind])
            self.free[:, node, column] = amount.T
            np.cumsum(self.free, axis=2, out=self.free)

    def copy(self) -> "Timeline":
        """The same, to be changed apart from this one."""
        other = Timeline.__new__(Timeline)
        other.table, other.now_ms = self.table, self.now_ms
        other.used, other.times, other.free = self.used.copy(), self.times.copy(), self.free.copy()
        return other

    def hold(self, node: int, begin_ms: int, end_ms: int, amount: Amount) -> None:
        """Take an amount of a node from ``begin_ms`` up to ``end_ms``, which may be ``FAR``."""
        first = self._cut(node, max(begin_ms, self.now_ms))
        last = self._cut(node, end_ms) if end_ms < FAR else int(self.used[node])
        for kind, taken in enumerate(amount):
            if taken:
                self.free[kind, node, first:last] -= taken

    def close(self, node: int, begin_ms: int, end_ms: int) -> None:
        """Make nothing of a node free in this time, whatever is held there already."""
        first = self._cut(node, max(begin_ms, self.now_ms))
        last = self._cut(node, end_ms) if end_ms < FAR else int(self.used[node])
        self.free[:, node, first:last] = -1

    def _cut(self, node: int, at_ms: int) -> int:
        used = int(self.used[node])
        row = self.times[node]
        place = int(row[:used].searchsorted(at_ms, "right"))
        if row[place - 1] == at_ms:
            return place - 1  # of jobs that end together the last: what lies between them has no length
        if used == self.times.shape[1] - 1:  # the last entry of a row is always FAR
            self._widen()
            row = self.times[node]
        row[place + 1 : used + 1] = row[place:used]
        row[place] = at_ms
        self.free[:, node, place + 1 : used + 1] = self.free[:, node, place:used].copy()
        self.free[:, node, place] = self.free[:, node, place - 1]
        self.used[node] = used + 1
        return place

    def _widen(self) -> None:
        count, width = self.times.shape
        times = np.full((count, 2 * width), FAR, dtype=np.int64)
        times[:, :width] = self.times
        free = np.zeros((4, count, 2 * width), dtype=np.int32)
        free[:, :, :width] = self.free
        self.times, self.free = times, free

    def _enough(self, nodes: NDArray[np.int64] | slice, need: NDArray[np.int32], width: int) -> NDArray[np.bool_]:
        """(nodes × width) where a segment has what is needed; entries that aren't used have nothing."""
        enough: NDArray[np.bool_] | None = None
        for kind in range(4):
            wanted = need[kind]
            if wanted.any() if wanted.ndim else wanted:
                there = self.free[kind][nodes, :width] >= wanted[..., None]
                enough = there if enough is None else np.logical_and(enough, there, out=enough)
        if enough is None or not need[CORES].all():
            used = self.times[nodes, :width] < FAR
            enough = used if enough is None else enough & used
        return enough

    def _runs(
        self, nodes: NDArray[np.int64] | slice, need: NDArray[np.int32], duration_ms: int, not_before_ms: int
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Stretches of time with enough for the whole duration: first and last start of each, and its node's position.

        Of a node they never touch one another, so at any instant it is counted once at most.
        """
        width = int(self.used.max(initial=1))
        enough = self._enough(nodes, need, width)
        edged = np.zeros((len(enough), width + 2), dtype=bool)  # so that no stretch goes on from one row to the next
        edged[:, 1:-1] = enough
        line = edged.ravel()
        turns = np.flatnonzero(line[1:] != line[:-1])
        begins, ends = turns[0::2], turns[1::2]
        row = begins // (width + 2)
        shift = self.table.numbers[nodes][row] * self.times.shape[1] - row * (width + 2)
        times = self.times.ravel()
        last = times.take(ends + shift) - duration_ms  # the segment behind a stretch, or FAR
        first = np.maximum(times.take(begins + shift), not_before_ms)
        good = np.flatnonzero(last >= first)
        return first.take(good), last.take(good), row.take(good)

    def find(
        self,
        nodes: NDArray[np.int64] | slice,
        parts: Sequence[tuple[int, NDArray[np.int32]]],
        duration_ms: int,
        not_before_ms: int = 0,
    ) -> Slot | None:
        """The earliest start at which enough of ``nodes`` are free together for the whole duration.

        ``parts`` are (number of nodes, amount of each), the greater first; an amount is an array (4,),
        or (4 × nodes) where it differs by node. None when there is no such time.
        """
        runs = [self._runs(nodes, need, duration_ms, not_before_ms) for _, need in parts]
        start = self._first_start(parts, runs)
        if start is None:
            return None
        indices = self.table.numbers[nodes]
        taken = np.zeros(len(indices), dtype=bool)
        chosen = []
        for (count, _), (begin, last, row) in zip(parts, runs, strict=True):
            places = row[(begin <= start) & (last >= start)]
            picked = self._tightest(indices, places[~taken[places]], start, count)
            taken[picked] = True
            chosen.append(tuple(indices[picked].tolist()))
        return Slot(start, tuple(chosen))

    def find_anywhere(
        self,
        nodes: NDArray[np.int64] | slice,
        levels: Sequence[NDArray[np.int32]],
        ranks: int,
        duration_ms: int,
        not_before_ms: int = 0,
    ) -> Slot | None:
        """The earliest start at which ``nodes`` together hold so many ranks for the whole duration.

        ``levels`` are what one rank, two ranks, … need of a node, as in :meth:`find`. A node hosts as many
        ranks as there are levels that it meets, so the ranks hosted at a time are the sum over levels of
        the nodes that meet each. In the slot, entry k of ``chosen`` are the nodes that get k + 1 ranks.
        """
        width = int(self.used.max(initial=1))
        met = self._levels_met(nodes, levels, width)
        start = max(not_before_ms, self.now_ms)
        each = self._through_window(nodes, met, start, duration_ms)
        if each.sum() < ranks:
            later = self._start_of(nodes, met, len(levels), ranks, duration_ms, start)
            if later is None:
                return None
            start = later
            each = self._through_window(nodes, met, start, duration_ms)
        indices = self.table.numbers[nodes]
        chosen: list[list[int]] = [[] for _ in levels]
        left = ranks
        for place in self._tightest(indices, np.flatnonzero(each > 0), start, len(indices)):
            here = min(left, int(each[place]))
            chosen[here - 1].append(int(indices[place]))
            left -= here
            if not left:
                break
        return Slot(start, tuple(tuple(group) for group in chosen))

    def _levels_met(
        self, nodes: NDArray[np.int64] | slice, levels: Sequence[NDArray[np.int32]], width: int
    ) -> NDArray[np.int32]:
        """(nodes × width): how many of the levels each segment has enough for."""
        first, final, count = levels[0], levels[-1], len(levels)
        grows = final != first
        if first.ndim == 1 and count > 2 and (final[grows] == first[grows] * count).all() and (first[grows] > 0).all():
            met = np.full(self.times[nodes, :width].shape, count, dtype=np.int32)
            for kind in np.flatnonzero(grows):  # each level is so many times the first
                np.minimum(met, self.free[kind][nodes, :width] // first[kind], out=met)
            alike: NDArray[np.int32] = np.where(grows, 0, first).astype(np.int32)
            return np.where(self._enough(nodes, alike, width), np.maximum(met, 0), 0).astype(np.int32)
        met = self._enough(nodes, first, width).astype(np.int32)
        for need in levels[1:]:
            met += self._enough(nodes, need, width)
        return met

    def _through_window(
        self, nodes: NDArray[np.int64] | slice, met: NDArray[np.int32], start_ms: int, duration_ms: int
    ) -> NDArray[np.int32]:
        """For each node the least of ``met`` (nodes × width) from a start on, for the whole duration."""
        times = self.times[nodes, : met.shape[1]]
        ends = np.concatenate([times[:, 1:], np.full((len(times), 1), FAR, dtype=np.int64)], axis=1)
        inside = (times < start_ms + duration_ms) & (ends > start_ms)
        least: NDArray[np.int32] = np.where(inside, met, np.int32(2**30)).min(axis=1)
        return least

    def _start_of(
        self,
        nodes: NDArray[np.int64] | slice,
        met: NDArray[np.int32],
        most: int,
        ranks: int,
        duration_ms: int,
        not_before_ms: int,
    ) -> int | None:
        times = self.times[nodes, : met.shape[1]]
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

    def find_many(
        self,
        nodes: NDArray[np.int64] | slice,
        amount: NDArray[np.int32],
        most: int,
        duration_ms: int,
        not_before_ms: int = 0,
    ) -> tuple[int, list[tuple[int, int]]] | None:
        """The earliest start of one job of this amount, and how many such fit on which nodes then, up to ``most``."""
        slot = self.find(nodes, [(1, amount)], duration_ms, not_before_ms)
        if slot is None:
            return None
        width = int(self.used.max(initial=1))
        wanted = np.flatnonzero(amount)
        if not len(wanted):
            return slot.start_ms, [(slot.chosen[0][0], most)]
        free = self.free[:, nodes, :width][wanted]
        met = (free // amount[wanted][:, None, None]).min(axis=0)
        each = self._through_window(nodes, met, slot.start_ms, duration_ms)
        indices = self.table.numbers[nodes]
        found, left = [], most
        for place in self._tightest(indices, np.flatnonzero(each > 0), slot.start_ms, len(indices)):
            here = min(left, int(each[place]))
            found.append((int(indices[place]), here))
            left -= here
            if not left:
                break
        return slot.start_ms, found

    @staticmethod
    def _first_start(
        parts: Sequence[tuple[int, NDArray[np.int32]]],
        runs: Sequence[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]],
    ) -> int | None:
        """The first instant at which as many nodes host each part as it and those before it need."""
        if len(parts) == 1 and parts[0][0] == 1:
            begin = runs[0][0]
            return int(begin.min()) if len(begin) else None
        edges = [(np.sort(begin), np.sort(last)) for begin, last, _ in runs]
        candidates = edges[0][0] if len(edges) == 1 else np.unique(np.concatenate([begins for begins, _ in edges]))
        enough = np.ones(len(candidates), dtype=bool)
        needed = 0
        for (count, _), (begins, lasts) in zip(parts, edges, strict=True):
            needed += count
            hosting = begins.searchsorted(candidates, "right") - lasts.searchsorted(candidates, "left")
            enough &= hosting >= needed
        where = int(enough.argmax()) if len(enough) else 0
        return int(candidates[where]) if len(enough) and enough[where] else None

    def _tightest(
        self, indices: NDArray[np.int64], places: NDArray[np.int64], start_ms: int, count: int
    ) -> NDArray[np.int64]:
        """Those ``count`` of some positions that leave the least broken nodes behind."""
        nodes = indices[places]
        segment = (self.times[nodes] <= start_ms).sum(axis=1) - 1
        spare = self.free[CORES][nodes, segment].astype(np.int64)
        table = self.table
        size = len(table.names) + 1
        key = (table.traits[nodes] * 1_000_000 + spare) * size + table.rank[nodes]
        if count == 1:
            return places[[int(key.argmin())]]
        return places[np.argsort(key)[:count]]

    def least_free(self, nodes: NDArray[np.int64], duration_ms: int) -> NDArray[np.int32]:
        """(4 × nodes) that stay free from now on for so long; negative where a node is closed meanwhile."""
        width = int(self.used.max(initial=1))
        times = self.times[nodes, :width]
        ends = np.concatenate([times[:, 1:], np.full((len(nodes), 1), FAR, dtype=np.int64)], axis=1)
        counts = (times < self.now_ms + duration_ms) & (ends > self.now_ms)
        free = np.where(counts, self.free[:, nodes, :width], np.int32(2**30))
        least: NDArray[np.int32] = free.min(axis=2)
        return least

    def free_at(self, at_ms: int) -> NDArray[np.int32]:
        """(4 × nodes) free at an instant not before now; negative where a node is closed."""
        segment = (self.times <= at_ms).sum(axis=1) - 1
        return self.free[:, np.arange(len(segment)), segment]
