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


class Ground:
    """A site's nodes as arrays: ``capacity`` (4 × nodes), their names, and how many traits each has."""

    def __init__(self, site: Site) -> None:
        nodes = [node for node in site.nodes if node.runs_jobs]
        self.names = [node.name for node in nodes]
        self.index = {name: number for number, name in enumerate(self.names)}
        self.capacity = np.array(
            [(node.cores, node.memory_mib, node.gpus, node.scratch_mib) for node in nodes], dtype=np.int32
        ).T.reshape(4, len(nodes))
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

    def __init__(self, ground: Ground, now_ms: int, holds: Sequence[Hold] = ()) -> None:
        self.ground = ground
        self.now_ms = now_ms
        count = len(ground.names)
        node = np.array([hold.node for hold in holds], dtype=np.int64)
        until = np.array([hold.until_ms for hold in holds], dtype=np.int64)
        amount = np.array([hold.amount for hold in holds], dtype=np.int32).reshape(len(holds), 4)
        on_each = np.bincount(node, minlength=count) if len(holds) else np.zeros(count, dtype=np.int64)
        self.used = on_each + 1
        width = max(8, int(self.used.max(initial=1)) + 8)
        self.times = np.full((count, width), FAR, dtype=np.int64)
        self.free = np.zeros((4, count, width), dtype=np.int32)
        self.times[:, 0] = now_ms
        self.free[:, :, 0] = ground.capacity
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
        other.ground, other.now_ms = self.ground, self.now_ms
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
            return int(row[:used].searchsorted(at_ms, "left"))
        if used == self.times.shape[1]:
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

    def _spans(
        self, nodes: NDArray[np.int64] | slice, need: NDArray[np.int32], duration_ms: int, not_before_ms: int
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
        """First and last possible start in each segment, (nodes × width), and where there is one."""
        width = int(self.used.max(initial=1))
        times = self.times[nodes, :width]
        enough = times < FAR
        for kind in range(4):
            if need[kind].any():
                enough &= self.free[kind][nodes, :width] >= need[kind][..., None]
        blocked = np.where(enough, FAR, times)
        until = np.minimum.accumulate(blocked[:, ::-1], axis=1)[:, ::-1]
        begin = np.maximum(times, not_before_ms)
        last = until - duration_ms
        if width > 1:
            np.minimum(last[:, :-1], times[:, 1:] - 1, out=last[:, :-1])
        return begin, last, enough & (last >= begin)

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
        spans = [self._spans(nodes, need, duration_ms, not_before_ms) for _, need in parts]
        start = self._first_start(parts, spans)
        if start is None:
            return None
        indices = np.arange(len(self.ground.names))[nodes]
        taken = np.zeros(len(indices), dtype=bool)
        chosen = []
        for (count, _), (begin, last, good) in zip(parts, spans, strict=True):
            hosts = (good & (begin <= start) & (last >= start)).any(axis=1) & ~taken
            picked = self._tightest(indices, hosts, start, count)
            taken[picked] = True
            chosen.append(tuple(int(number) for number in indices[picked]))
        return Slot(start, tuple(chosen))

    def find_anywhere(
        self,
        nodes: NDArray[np.int64] | slice,
        levels: Sequence[NDArray[np.int32]],
        ranks: int,
        duration_ms: int,
        not_before_ms: int = 0,
        most: int = 0,
    ) -> Slot | None:
        """The earliest start at which ``nodes`` together hold so many ranks for the whole duration.

        With ``most``, as many as there is room for at that start, up to so many.

        ``levels`` are what one rank, two ranks, … need of a node, as in :meth:`find`. A node hosts as many
        ranks as there are levels that it meets, so the ranks hosted at a time are the sum over levels of
        the nodes that meet each. In the slot, entry k of ``chosen`` are the nodes that get k + 1 ranks.
        """
        spans = [self._spans(nodes, need, duration_ms, not_before_ms) for need in levels]
        edges = [(np.sort(begin[good]), np.sort(last[good])) for begin, last, good in spans]
        candidates = np.unique(np.concatenate([begins for begins, _ in edges]))
        hosted = np.zeros(len(candidates), dtype=np.int64)
        for begins, lasts in edges:
            hosted += begins.searchsorted(candidates, "right") - lasts.searchsorted(candidates, "left")
        where = np.flatnonzero(hosted >= ranks)
        if not len(where):
            return None
        start = int(candidates[where[0]])
        indices = np.arange(len(self.ground.names))[nodes]
        each = np.zeros(len(indices), dtype=np.int64)
        for begin, last, good in spans:
            each += (good & (begin <= start) & (last >= start)).any(axis=1)
        chosen: list[list[int]] = [[] for _ in levels]
        left = max(ranks, most)
        for place in self._tightest(indices, each > 0, start, len(indices)):
            here = min(left, int(each[place]))
            chosen[here - 1].append(int(indices[place]))
            left -= here
            if not left:
                break
        return Slot(start, tuple(tuple(group) for group in chosen))

    @staticmethod
    def _first_start(
        parts: Sequence[tuple[int, NDArray[np.int32]]],
        spans: Sequence[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]],
    ) -> int | None:
        if len(parts) == 1 and parts[0][0] == 1:
            begin, _, good = spans[0]
            begins = begin[good]
            return int(begins.min()) if len(begins) else None
        edges = [(np.sort(begin[good]), np.sort(last[good])) for begin, last, good in spans]
        candidates = edges[0][0] if len(edges) == 1 else np.unique(np.concatenate([begins for begins, _ in edges]))
        enough = np.ones(len(candidates), dtype=bool)
        needed = 0
        for (count, _), (begins, lasts) in zip(parts, edges, strict=True):
            needed += count
            hosting = begins.searchsorted(candidates, "right") - lasts.searchsorted(candidates, "left")
            enough &= hosting >= needed
        where = np.flatnonzero(enough)
        return int(candidates[where[0]]) if len(where) else None

    def _tightest(
        self, indices: NDArray[np.int64], hosts: NDArray[np.bool_], start_ms: int, count: int
    ) -> NDArray[np.int64]:
        """Positions of the ``count`` hosts that leave the least broken nodes behind."""
        places = np.flatnonzero(hosts)
        nodes = indices[places]
        segment = (self.times[nodes] <= start_ms).sum(axis=1) - 1
        spare = self.free[CORES][nodes, segment].astype(np.int64)
        ground = self.ground
        size = len(ground.names) + 1
        key = (ground.traits[nodes] * 1_000_000 + spare) * size + ground.rank[nodes]
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
