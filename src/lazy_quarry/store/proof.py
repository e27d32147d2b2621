"""Proving the books: all sums recomputed from the jobs, and compared with those that are kept."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct

from lazy_quarry.core.job.job import Job
from lazy_quarry.store.books import Cells, add_up, cells_of, held_by_attempts
from lazy_quarry.store.journal import Journal
from lazy_quarry.store.storage import CELL_KEY, CELL_VALUES


class Proof(Struct, frozen=True):
    """The result of a comparison: ended jobs and tasks, sums, all core-ms charged; what does not agree, and what can't be known."""

    jobs: int
    sums: int
    charged_core_ms: int
    wrong: tuple[str, ...]
    unknown: int
    """Jobs with several attempts whose events are no longer kept."""


def prove(journal: Journal, live: Iterable[Job] | None = None) -> Proof:
    """Recompute all sums from the jobs and compare them with those that are kept, to the millisecond.

    ``live`` are the jobs that have not ended, those of the journal for None.
    What is read is as it was at one instant, though an engine may go on writing.
    """
    with journal.one_view():
        return _proof(journal, live)


def _proof(journal: Journal, live: Iterable[Job] | None) -> Proof:
    live = journal.load().jobs.values() if live is None else live
    found, count, unknown, wrong = Cells(), 0, 0, list[str]()
    for job in _all_jobs(journal, live):
        count += job.phase.final
        several = job.came_back or not job.phase.final
        happened = journal.events_of(job.number) if several and job.request.array is None else []
        cells = cells_of(job, happened)
        if cells is None:
            unknown += job.phase.final
            continue
        held = held_by_attempts(happened) if happened else job.cores_allocated * job.times.held_ms
        if job.request.array is None and held != job.allocated_core_ms and (happened or several):
            said = job.allocated_core_ms
            wrong.append(f"job {job.label} is said to have held {said:,} core-ms, and its attempts held {held:,}")
        add_up(cells, found)
    kept = Cells()
    add_up(journal.all_cells(), kept)
    if not unknown:
        wrong += _differences(kept, found)
    charged = sum(values[CELL_VALUES.index("charge_core_ms")] for values in kept.values())
    return Proof(count, len(kept), charged, tuple(wrong), unknown)


def _differences(kept: Cells, found: Cells) -> Iterator[str]:
    for key in sorted(kept.keys() | found.keys()):
        one, other = (each.get(key, [0] * len(CELL_VALUES)) for each in (kept, found))
        if one != other:
            name = next(name for name, mine, its in zip(CELL_VALUES, one, other, strict=True) if mine != its)
            place = CELL_VALUES.index(name)
            words = ", ".join(f"{word} {value}" for word, value in zip(CELL_KEY[1:], key[1:], strict=True))
            yield f"{name} of {words} on day {key[0]}: {one[place]:,} is kept, and the jobs come to {other[place]:,}"


def _all_jobs(journal: Journal, live: Iterable[Job]) -> Iterator[Job]:
    """Every job and task that has ended, in the order of their ends, then those that have not."""
    at, last = -1, 0
    while jobs := journal.ended_after(at, last, 2000):
        yield from jobs
        at, last = jobs[-1].ended_ms or at, jobs[-1].number
    yield from live
