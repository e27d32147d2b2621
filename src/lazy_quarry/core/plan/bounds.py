"""Findings of a plan's searches about each kind of need, so that the next search begins there."""

from types import ModuleType
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import Slot

MOST_DONORS = 12
"""Number of other kinds whose bounds are taken over: those that last longest say most."""
_FIRST_ROWS = 64


class Needed(Protocol):
    """A need as arrays: (number of nodes, amount of each) for each part, and the nodes it may have."""

    nodes: NDArray[np.int64] | slice
    parts: list[tuple[int, NDArray[np.int32]]]
    order: NDArray[np.int64]
    """Place of each node in the order in which they are taken."""
    form: "Form | None"
    """The same as the compiled search takes it, once that was asked."""


class Form:
    """A need as the compiled search takes it."""

    __slots__ = ("asked", "counts", "need", "numbers", "total", "where")

    def __init__(self, table: NodeTable, needed: Needed) -> None:
        self.numbers = np.ascontiguousarray(table.numbers[needed.nodes])
        self.where = self.numbers.tobytes()
        self.need = np.ascontiguousarray([amount.reshape(4, -1) for _, amount in needed.parts], dtype=np.int32)
        self.counts = np.array([count for count, _ in needed.parts], dtype=np.int64)
        self.total = int(self.counts.sum())
        self.asked: list[NDArray[np.int64] | None] = []
        """For each part what it and those before it ask for, unless that differs by node: amounts, nodes, room for seconds."""
        for part, (_, amount) in enumerate(needed.parts):
            wanted = int(self.counts[: part + 1].sum())
            self.asked.append(np.array([*amount, wanted, 0]) if amount.ndim == 1 else None)


def form_of(table: NodeTable, needed: Needed) -> Form:
    """The form of a need, made once."""
    if needed.form is None:
        needed.form = Form(table, needed)
    return needed.form


class _Kind:
    """A kind of need, with its rows of bounds and those that hold for it too."""

    __slots__ = ("donors", "floor_ms", "form", "found_ms", "rows")

    def __init__(self, form: Form, rows: NDArray[np.int64], donors: NDArray[np.int64]) -> None:
        self.form, self.rows, self.donors = form, rows, donors
        self.floor_ms = self.found_ms = 0


class _Told:
    """Rows of bounds by what their kinds ask for: (kinds × 6), four amounts, number of nodes, seconds."""

    def __init__(self) -> None:
        self._asked = np.zeros((_FIRST_ROWS, 6), dtype=np.int64)
        self._rows = np.zeros(_FIRST_ROWS, dtype=np.int64)
        self._count = 0

    def within(self, asked: NDArray[np.int64], kernels: ModuleType, found: NDArray[np.int64]) -> None:
        """Rows of kinds that ask for no more of anything, as many as there is room for in ``found``."""
        kernels.within(self._asked, self._count, asked, self._rows, found)

    def add(self, asked: NDArray[np.int64], row: int) -> None:
        """Another kind's row."""
        if self._count == len(self._rows):
            self._asked = np.concatenate([self._asked, np.zeros_like(self._asked)])
            self._rows = np.concatenate([self._rows, np.zeros_like(self._rows)])
        self._asked[self._count], self._rows[self._count] = asked, row
        self._count += 1


class Bounds:
    """For each kind of need and each node an instant before which no job of that kind has a part of its place there.

    Within a plan places are only taken. So such an instant only grows, and it holds for every kind that asks for no less of
    anything. A row says it of starts from its floor on.
    """

    def __init__(self, table: NodeTable, kernels: ModuleType) -> None:
        self.table, self._kernels = table, kernels
        self._bounds = np.zeros((_FIRST_ROWS, len(table.names)), dtype=np.int64)
        self._floors = np.zeros(_FIRST_ROWS, dtype=np.int64)
        self._rows = np.arange(_FIRST_ROWS)
        self._donors = np.full((_FIRST_ROWS, MOST_DONORS), -1, dtype=np.int64)
        self._count = 0
        self._kinds: dict[Any, tuple[Needed, _Kind]] = {}
        self._told: dict[bytes, _Told] = {}
        """Rows that others may take over, by the nodes that they are about."""

    def find(self, timeline: Any, needed: Needed, owner: Any, duration_ms: int, not_before_ms: int) -> Slot | None:
        """As :func:`lazy_quarry.core.plan.search.find`. ``owner`` tells apart jobs that other things put off."""
        key = (id(needed), owner, duration_ms)
        known = self._kinds.get(key)
        if known is None:
            known = self._kinds[key] = (needed, self._new(needed, duration_ms, not_before_ms))
        kind = known[1]
        form = kind.form
        if form.total > len(form.numbers):
            return None
        # Bounds are kept for one plan only, in which places are taken and never given back: so none of them can be too late.
        if not_before_ms < kind.floor_ms:  # what was found of later starts says nothing of earlier ones
            self._bounds[kind.rows] = 0
            self._set_floor(kind, not_before_ms)
        elif not_before_ms > max(kind.floor_ms, kind.found_ms):
            self._set_floor(kind, not_before_ms)  # nothing was looked at between what was found last and this instant
        chosen = np.empty(form.total, dtype=np.int64)
        start = self._kernels.find(
            timeline.times,
            timeline.free,
            timeline.used,
            form.numbers,
            form.need,
            form.counts,
            duration_ms,
            not_before_ms,
            self._bounds,
            self._floors,
            kind.rows,
            kind.donors,
            needed.order,
            chosen,
        )
        if start < 0:
            return None
        kind.found_ms = start
        nodes = form.numbers[chosen].tolist()
        if len(form.counts) == 1:
            return Slot(start, (tuple(nodes),))
        first = int(form.counts[0])
        return Slot(start, (tuple(nodes[:first]), tuple(nodes[first:])))

    def _set_floor(self, kind: _Kind, floor_ms: int) -> None:
        kind.floor_ms = kind.found_ms = floor_ms
        self._floors[kind.rows] = floor_ms

    def _new(self, needed: Needed, duration_ms: int, not_before_ms: int) -> _Kind:
        form = form_of(self.table, needed)
        parts, first = len(form.counts), self._count
        self._count += parts
        while self._count > len(self._floors):
            self._bounds = np.concatenate([self._bounds, np.zeros_like(self._bounds)])
            self._floors = np.concatenate([self._floors, np.zeros_like(self._floors)])
            self._rows = np.arange(len(self._floors))
            self._donors = np.full((len(self._floors), MOST_DONORS), -1, dtype=np.int64)
        kind = _Kind(form, self._rows[first : self._count], self._donors[first : self._count])
        self._set_floor(kind, not_before_ms)
        told = self._told.setdefault(form.where, _Told())
        for part, amounts in enumerate(form.asked):
            if amounts is not None:
                # A block of tasks asks for the same as one of them, but for longer.
                asked = amounts.copy()
                asked[5] = duration_ms // 1000
                told.within(asked, self._kernels, kind.donors[part])
                if parts == 1:
                    told.add(asked, kind.rows[0])
        return kind
