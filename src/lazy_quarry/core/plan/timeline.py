"""The free amounts of every node, from now on.

Each node has a row of breakpoints; between two of them its free cores, memory, GPUs and scratch are
constant. Rows are padded to one width, so a question is asked of all nodes at once with NumPy. Instants
are integer milliseconds; ``FAR`` stands for never.
"""

from collections.abc import Callable, Sequence
from itertools import chain
from types import ModuleType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.plan.bounds import Bounds
from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import FAR, Amount, PlannedAllocation


class Timeline:
    """Free amounts of all nodes over time, from ``now`` on.

    ``times`` is (nodes × width), ``free`` (4 × nodes × width); entry k of a row holds from ``times[k]``
    to the next breakpoint, and unused entries have the time ``FAR``. With ``kernels`` (:mod:`lazy_quarry.core.plan.compiled`) it is
    searched and changed by compiled loops.
    """

    def __init__(
        self,
        table: NodeTable,
        now_ms: int,
        running: Sequence[PlannedAllocation] = (),
        kernels: ModuleType | None = None,
    ) -> None:
        self.table = table
        self._use(kernels)
        self.now_ms = now_ms
        count = len(table.names)
        node = np.array([table.index[one.node] for one in running], dtype=np.int64)
        until = np.array([one.until_ms for one in running], dtype=np.int64)
        amount = np.array([one.amount for one in running], dtype=np.int32).reshape(len(running), 4)
        on_each = np.bincount(node, minlength=count) if len(running) else np.zeros(count, dtype=np.int64)
        self.used = on_each + 1
        width = max(8, int(self.used.max(initial=1)) + 8)
        self.times = np.full((count, width), FAR, dtype=np.int64)
        self.free = np.zeros((4, count, width), dtype=np.int32)
        self.times[:, 0] = now_ms
        self.free[:, :, 0] = table.capacity
        if len(running):
            order = np.lexsort((until, node))
            node, until, amount = node[order], until[order], amount[order]
            column = np.arange(len(running)) - np.repeat(np.cumsum(on_each) - on_each, on_each) + 1
            self.times[node, column] = until
            for kind in range(4):
                np.subtract.at(self.free[kind, :, 0], node, amount[:, kind])
            self.free[:, node, column] = amount.T
            # Amounts come free at each end, so what is free afterwards is a running sum along the row.
            np.cumsum(self.free, axis=2, out=self.free)

        self._longest = int(self.used.max(initial=1))

    def _use(self, kernels: ModuleType | None) -> None:
        self.kernels = kernels
        self.bounds = None if kernels is None else Bounds(self.table, kernels)
        """Findings of searches so far, where these are compiled."""
        self._idle: NDArray[np.int32] | None = None
        """(4 × nodes) what is free now; None until somebody asks."""

    def copy(self) -> "Timeline":
        """A copy that changes apart from this one."""
        other = Timeline.__new__(Timeline)
        other.table, other.now_ms = self.table, self.now_ms
        other.used, other.times, other.free = self.used.copy(), self.times.copy(), self.free.copy()
        other._longest = self._longest
        other._use(self.kernels)
        return other

    def allocate(self, node: int, begin_ms: int, end_ms: int, amount: Amount) -> None:
        """Take an amount of a node from ``begin_ms`` up to ``end_ms``, which may be ``FAR``."""
        first = self._cut(node, max(begin_ms, self.now_ms))
        last = self._cut(node, end_ms) if end_ms < FAR else int(self.used[node])
        for kind, taken in enumerate(amount):
            if taken:
                self.free[kind, node, first:last] -= taken

    def take(self, nodes: Sequence[int], amounts: Sequence[Amount], begin_ms: int, end_ms: int) -> None:
        """Take an amount of each of several nodes."""
        begin_ms = max(begin_ms, self.now_ms)
        if self._idle is not None and begin_ms <= self.now_ms:
            for node, amount in zip(nodes, amounts, strict=True):
                self._idle[:, node] -= amount
        if self.kernels is None:
            for node, amount in zip(nodes, amounts, strict=True):
                self.allocate(node, begin_ms, end_ms, amount)
            return
        taken = np.fromiter(chain.from_iterable(amounts), np.int32, 4 * len(amounts)).reshape(-1, 4)
        self._change(self.kernels.take, nodes, taken, begin_ms, end_ms)

    def idle(self) -> NDArray[np.int32]:
        """(4 × nodes) what is free now, as far as :meth:`take` took any; less than 0 where a node is closed."""
        if self._idle is None:
            self._idle = self.free_at(self.now_ms).copy()
        return self._idle

    def close(self, nodes: Sequence[int], begin_ms: int, end_ms: int) -> None:
        """Close nodes for this time, whatever is allocated there already."""
        begin_ms = max(begin_ms, self.now_ms)
        if self.kernels is not None:
            self._change(self.kernels.close, nodes, begin_ms, end_ms)
            return
        for node in nodes:
            first = self._cut(node, begin_ms)
            last = self._cut(node, end_ms) if end_ms < FAR else int(self.used[node])
            self.free[:, node, first:last] = -1

    def _change(self, compiled: Callable[..., int], nodes: Sequence[int], *how: Any) -> None:
        """Change nodes by a compiled loop, which finds room in their rows for what it adds."""
        if self._longest + 3 > self.times.shape[1]:
            self._widen()
        longest = compiled(self.times, self.free, self.used, np.array(nodes, dtype=np.int64), *how)
        self._longest = max(self._longest, longest)

    def next_change(self, at_ms: int) -> int:
        """The first instant after this one at which what is free changes anywhere; ``FAR`` for none."""
        return int(self.times[self.times > at_ms].min(initial=FAR))

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
        self._longest = max(self._longest, used + 1)
        return place

    def _widen(self) -> None:
        count, width = self.times.shape
        # Doubled, so that a long plan copies each entry only a few times.
        times = np.full((count, 2 * width), FAR, dtype=np.int64)
        times[:, :width] = self.times
        free = np.zeros((4, count, 2 * width), dtype=np.int32)
        free[:, :, :width] = self.free
        self.times, self.free = times, free

    def least_free(self, nodes: NDArray[np.int64], duration_ms: int) -> NDArray[np.int32]:
        """(4 × nodes) amounts that stay free from now on for the whole duration; negative where a node is closed meanwhile."""
        width = int(self.used.max(initial=1))
        times = self.times[nodes, :width]
        ends = np.concatenate([times[:, 1:], np.full((len(nodes), 1), FAR, dtype=np.int64)], axis=1)
        counts = (times < self.now_ms + duration_ms) & (ends > self.now_ms)
        free = np.where(counts, self.free[:, nodes, :width], np.int32(2**30))
        least: NDArray[np.int32] = free.min(axis=2)
        return least

    def free_at(self, at_ms: int) -> NDArray[np.int32]:
        """(4 × nodes) free at an instant not before now; negative where a node is closed."""
        # Counted, because NumPy has no binary search by row; unused entries are FAR and never count.
        segment = (self.times <= at_ms).sum(axis=1) - 1
        return self.free[:, np.arange(len(segment)), segment]
