"""The newest sums in memory, so that reports of them cost no reading; what attempts add to them is taken in as they end."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.units import DAY_MS
from lazy_quarry.store.storage import CELL_KEY, CELL_VALUES, DAY, PART, Cell, Storage, Wanted

KEPT_DAYS = 500
_WORDS = CELL_KEY[1:]
_Places = slice | NDArray[np.intp]


class SumsAtHand:
    """Answers as :meth:`Storage.sums` does. Nothing is in memory before it is first asked for."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._since: int | None = None
        """The first day in memory; None while nothing is."""
        self._empty()
        self._new: list[Cell] = []

    def _empty(self, room: int = 0) -> None:
        """Nothing in memory, with room for so many cells."""
        self._count = self._read_count = 0
        self._all_days: NDArray[np.int64] = np.zeros(room, np.int64)
        self._all_codes: NDArray[np.int32] = np.zeros((len(_WORDS), room), np.int32)
        self._all_values: NDArray[np.int64] = np.zeros((room, len(CELL_VALUES)), np.int64)
        self._index: dict[str, dict[str, int]] = {name: {} for name in _WORDS}

    def forget(self) -> None:
        """Others were written than are in memory: all is read again when it is asked for."""
        self._since, self._new = None, []

    def take(self, cells: Iterable[Cell]) -> None:
        """Take in amounts that ends have just added."""
        if self._since is not None:
            self._new += [cell for cell in cells if cell.day_ms >= self._since]

    def rows(self, wanted: Wanted) -> list[tuple[Any, ...]]:
        """Keys, then all values."""
        if self._since is None:
            self._read()
        if self._since is None or wanted.begin_ms < self._since:
            return self._storage.sums(wanted)
        if self._new:
            self._extend(self._new)
            self._new = []
        places = self._inside(wanted.begin_ms, wanted.end_ms)
        for name, values in (wanted.where or {}).items():
            known = [self._index[name][value] for value in values if value in self._index[name]]
            found = np.flatnonzero(np.isin(self._all_codes[_WORDS.index(name)][places], known))
            places = found + places.start if isinstance(places, slice) else places[found]
        there = self._all_values
        values_there = there[places] if isinstance(places, slice) else there.take(places, axis=0)
        if not len(values_there):
            return [] if wanted.by else [(None,) * len(CELL_VALUES)]
        if not wanted.by:
            return [tuple(map(int, values_there.sum(axis=0)))]
        return self._grouped(wanted, places, values_there)

    def _inside(self, begin_ms: int, end_ms: int) -> _Places:
        """Where the cells of these days are. Those that were read stand in the order of their days, those added behind them."""
        first, after = np.searchsorted(self._all_days[: self._read_count], (begin_ms, end_ms)).tolist()
        added = self._all_days[self._read_count : self._count]
        later = np.flatnonzero((added >= begin_ms) & (added < end_ms)) + self._read_count
        # One after another they need not be gathered.
        return np.concatenate((np.arange(first, after), later)) if len(later) else slice(first, after)

    def _grouped(self, wanted: Wanted, places: _Places, there: NDArray[np.int64]) -> list[tuple[Any, ...]]:
        columns = [self._key(name, wanted, places) for name in wanted.by]
        codes, several = columns[0][0].astype(np.int64, copy=False), len(columns[0][1])
        for numbers, values in columns[1:]:
            codes, several = codes * len(values) + numbers, several * len(values)
        rising = codes
        if (codes[1:] < codes[:-1]).any():  # not as they were read
            # Few groups are numbered shortly, and sorted by their digits.
            order = np.argsort(codes.astype(np.int16) if several < 2**15 else codes, kind="stable")
            rising, there = codes[order], there.take(order, axis=0)  # faster than by an index
        starts = np.flatnonzero(np.concatenate(([True], rising[1:] != rising[:-1])))
        sums = np.add.reduceat(there, starts, axis=0).tolist()
        keys = list[list[Any]]()
        left = rising[starts]
        for _, values in reversed(columns):
            left, numbers = np.divmod(left, len(values))
            keys.insert(0, [values[number] for number in numbers.tolist()])
        return [(*key, *values) for key, values in zip(zip(*keys, strict=True), sums, strict=True)]

    def _key(self, name: str, wanted: Wanted, places: _Places) -> tuple[NDArray[Any], Sequence[Any]]:
        """A number for each place, and what the numbers stand for."""
        if name == DAY:
            first = wanted.begin_ms - wanted.begin_ms % DAY_MS
            return (self._all_days[places] - first) // DAY_MS, range(first, max(wanted.end_ms, first + DAY_MS), DAY_MS)
        if name == PART:
            begins, days = np.array(wanted.parts, np.int64), self._all_days[places]
            if isinstance(places, slice):  # in the order of their days, so that only the edges are looked for
                edges = np.searchsorted(days, begins[1:])
                found = np.repeat(np.arange(len(edges) + 1), np.diff(edges, prepend=0, append=len(days)))
            else:
                found = np.maximum(0, np.searchsorted(begins, days, side="right") - 1)
            return found, range(max(1, len(wanted.parts)))
        return self._all_codes[_WORDS.index(name)][places], list(self._index[name])

    def _read(self) -> None:
        first, last = self._storage.first_day(), self._storage.last_day()
        if first is None or last is None:
            return
        self._since = max(first, last - KEPT_DAYS * DAY_MS)
        if self._since <= first:
            self._since = 0  # all of it, also what is still added to earlier days
        known = self._storage.cells(self._since)
        self._empty(len(known) + 1024)
        # Numbered in their order, so that cells stand in the order of their numbers.
        for place, name in enumerate(_WORDS, 1):
            words = sorted({str(row[place]) for row in known})
            self._index[name] = {value: number for number, value in enumerate(words)}
        self._extend(known)
        self._read_count = self._count

    def _extend(self, cells: Sequence[Cell]) -> None:
        """More cells; those of one key may stand more than once."""
        columns: list[Sequence[Any]] = [[cell[place] for cell in cells] for place in range(len(Cell._fields))]
        days, words, values = columns[0], columns[1 : len(CELL_KEY)], columns[len(CELL_KEY) :]
        count, after = len(days), self._count + len(days)
        if after > len(self._all_days):
            self._grow(after + after // 2)
        self._all_days[self._count : after] = days
        for place, (name, column) in enumerate(zip(_WORDS, words, strict=True)):
            index = self._index[name]
            self._all_codes[place, self._count : after] = [index.setdefault(value, len(index)) for value in column]
        if count:
            self._all_values[self._count : after] = np.array(values, np.int64).T
        self._count = after

    def _grow(self, room: int) -> None:
        """More room; what is there stays."""
        days, codes, values, index, count = self._all_days, self._all_codes, self._all_values, self._index, self._count
        read_count = self._read_count
        self._empty(room)
        self._read_count = read_count
        self._all_days[:count], self._all_codes[:, :count] = days[:count], codes[:, :count]
        self._all_values[:count], self._index, self._count = values[:count], index, count
