"""The books as the journal keeps them: sums of a period, waits of it, and whether all sums are what the jobs come to."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from sqlalchemy import Column, ColumnElement, Select, and_, case, func, not_, select

from lazy_quarry.core.engine.events import Changed, Ended, Event, Started, Submitted
from lazy_quarry.core.job.job import TASK_SPAN, Job
from lazy_quarry.store.rows import CELL_KEY, CELL_VALUES, end_of, sum_cells
from lazy_quarry.store.storage import PART, Wanted
from lazy_quarry.store.tables import ended, sums

if TYPE_CHECKING:
    from lazy_quarry.store.journal import Journal

Cells = dict[tuple[Any, ...], list[int]]


def sums_query(wanted: Wanted) -> Select[Any]:
    """Rows of keys, then :data:`~lazy_quarry.store.rows.CELL_VALUES`, summed."""
    keys = [_key(sums.c, name, sums.c.day_ms, wanted) for name in wanted.by]
    columns: list[ColumnElement[Any]] = [*keys, *(func.sum(sums.c[name]).label(name) for name in CELL_VALUES)]
    inside = and_(sums.c.day_ms >= wanted.begin_ms, sums.c.day_ms < wanted.end_ms)
    return _only(select(*columns), sums.c, wanted).where(inside).group_by(*keys)


def waits_query(wanted: Wanted) -> Select[Any]:
    """Rows of keys, then waits in ms and allocated cores, of the jobs that ended in the period and had started.

    They come as texts of numbers with commas, since there are many. An array waited until its first task started, and has the
    cores of one task.
    """
    keys = [_key(ended.c, name, ended.c.ended_ms, wanted) for name in wanted.by]
    inside = and_(ended.c.ended_ms >= wanted.begin_ms, ended.c.ended_ms < wanted.end_ms)
    of_jobs = and_(ended.c.job < TASK_SPAN, ended.c.first_start_ms.isnot(None))
    waited, cores = func.group_concat(ended.c.waited_ms), func.group_concat(ended.c.cores)
    return _only(select(*keys, waited, cores), ended.c, wanted).where(inside, of_jobs).group_by(*keys)


def spans_query(wanted: Wanted) -> Select[Any]:
    """Rows of first start, end and core-ms of jobs and tasks that ran in the period: all attempts are spread over that time."""
    inside = and_(ended.c.ended_ms > wanted.begin_ms, ended.c.first_start_ms < wanted.end_ms)
    task = ended.alias("task")
    first, after = ended.c.job * TASK_SPAN, (ended.c.job + 1) * TASK_SPAN
    is_array = select(task.c.job).where(task.c.job > first, task.c.job < after).exists()
    columns = select(ended.c.first_start_ms, ended.c.ended_ms, ended.c.allocated_core_ms)
    return _only(columns, ended.c, wanted).where(inside, not_(and_(ended.c.job < TASK_SPAN, is_array)))


def _key(columns: Any, name: str, at: Column[Any], wanted: Wanted) -> ColumnElement[Any]:
    if name != PART:
        found: ColumnElement[Any] = columns[name]
        return found
    later = [(at >= begin, number) for number, begin in reversed(list(enumerate(wanted.parts)))]
    return case(*later, else_=0).label(PART)


def _only(query: Select[Any], columns: Any, wanted: Wanted) -> Select[Any]:
    for name, values in (wanted.where or {}).items():
        query = query.where(columns[name].in_(values))
    return query


# -- proving ---------------------------------------------------------------------------------------


def cells_of(job: Job, happened: Sequence[Event]) -> list[dict[str, Any]] | None:
    """What all attempts of a job add to the sums, from its events, or from its record where it had one attempt.

    None where its earlier attempts are no longer known. An array adds nothing: its tasks do.
    """
    if job.request.array is not None:
        return []
    ends = [one for one in happened if isinstance(one, Ended)]
    if not ends:
        return None if job.came_back or not job.phase.final else sum_cells(job, end_of(job))
    found, now = list[dict[str, Any]](), replace(job, started_ms=None, queue="")
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


def add_up(cells: Iterable[Mapping[str, Any]], into: Cells) -> None:
    """Add cells to sums by their keys."""
    for cell in cells:
        key = tuple(cell[name] for name in CELL_KEY)
        known = into.get(key)
        if known is None:
            into[key] = [cell[name] for name in CELL_VALUES]
        else:
            for place, name in enumerate(CELL_VALUES):
                known[place] += cell[name]


@dataclass(frozen=True, slots=True)
class Proof:
    """What was compared: ended jobs and tasks, sums, all core-ms charged; what does not agree, and what can't be known."""

    jobs: int
    sums: int
    charged_core_ms: int
    wrong: tuple[str, ...]
    unknown: int
    """Jobs with several attempts whose events are no longer kept."""


def prove(journal: Journal, live: Iterable[Job]) -> Proof:
    """Recompute all sums from the jobs and compare them with those that are kept, to the millisecond."""
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
    add_up(journal.storage.rows("sums"), kept)
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
