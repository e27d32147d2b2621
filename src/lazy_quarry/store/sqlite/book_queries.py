"""The books as the tables keep them: sums of a period, waits of it, what ran in it."""

from typing import Any

from sqlalchemy import Column, ColumnElement, Select, and_, case, func, not_, select

from lazy_quarry.core.job.job import TASK_SPAN
from lazy_quarry.store.sqlite.tables import ended, sums
from lazy_quarry.store.storage import CELL_VALUES, PART, Wanted


def sums_query(wanted: Wanted) -> Select[Any]:
    """Rows of keys, then :data:`~lazy_quarry.store.storage.CELL_VALUES`, summed."""
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
