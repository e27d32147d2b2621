"""The sums that the books keep: what a job comes to on each day."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from lazy_quarry.core.engine.events import Changed, Ended, Event, Started, Submitted
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.values import replace
from lazy_quarry.store.rows import end_of, sum_cells
from lazy_quarry.store.storage import Cell

Cells = dict[tuple[Any, ...], list[int]]


def cells_of(job: Job, happened: Sequence[Event]) -> list[Cell] | None:
    """Amounts that all attempts of a job add to the sums, from its events, or from its record where it had one attempt.

    None where its earlier attempts are no longer known. An array adds nothing: its tasks do.
    """
    if job.request.array is not None:
        return []
    ends = [one for one in happened if isinstance(one, Ended)]
    if not ends:
        return None if job.came_back or not job.phase.final else sum_cells(job, end_of(job))
    found, now = list[Cell](), replace(job, started_ms=None, queue="")
    for event in happened:
        if isinstance(event, Submitted | Changed):  # an attempt counts by the request that it ran with
            now = replace(now, request=replace(event.request, array=None))
        elif isinstance(event, Started):
            now = replace(now, started_ms=event.at_ms, queue=event.queue, allocations=event.allocations)
        elif isinstance(event, Ended):
            found += sum_cells(now if now.started_ms is not None else replace(now, queue=job.queue), event)
            now = replace(now, started_ms=None)
    return found


def held_by_attempts(happened: Sequence[Event]) -> int:
    """Core-ms that the attempts of a job held: the cores of each times how long it held them, by its supervisor's clock."""
    cores = total = 0
    for event in happened:
        if isinstance(event, Started):
            cores = sum(len(one.cores) for one in event.allocations)
        elif isinstance(event, Ended):
            # Journals before version 6 kept only the product.
            total += cores * event.held_ms if event.held_ms else event.allocated_core_ms
            cores = 0
    return total


def add_up(cells: Iterable[Cell], into: Cells) -> None:
    """Add cells to sums by their keys."""
    for cell in cells:
        known = into.get(cell.key)
        if known is None:
            into[cell.key] = list(cell.values)
        else:
            for place, value in enumerate(cell.values):
                known[place] += value
