"""The step of an upgrade from version 5: jobs tell how long all their attempts waited and ran, and which skips were planned.

Journals before that kept the instants of the last attempt alone. The rest is worked out again from the events that are
still there; of a job whose events were thinned, the last attempt is all that is known.
"""

from collections import Counter
from typing import Any

from msgspec import Struct, field
from sqlalchemy import Connection, select

from lazy_quarry.core.engine.events import Ended, Event, Held, Released, Started, Submitted
from lazy_quarry.core.engine.job_changes import held_by
from lazy_quarry.core.job.job import TASK_SPAN, Job, Phase, outlook
from lazy_quarry.core.job.times import JobTimes
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace
from lazy_quarry.store.checks import row_check
from lazy_quarry.store.codec import decode, to_json
from lazy_quarry.store.rows import THINNED, Scalars, checked_row, job_of, opened, parts_of, scalars_of, state_of
from lazy_quarry.store.sqlite.tables import ended, events, live, parts, sums
from lazy_quarry.store.storage import Cell, EndedRow
from lazy_quarry.store.typed_json import decoder
from lazy_quarry.store.verify import Totals

_AT_ONCE = 2_000
_LIVE = ("job", "body", "script", "environment", "own_check")
_NEW = ("first_start_ms", "waited_ms", "cores", "again_of")


class _Tasks(Struct):
    """Sums of the tasks of an array that have ended."""

    first_start_ms: int | None = None
    cores: int = 0
    planned: int = 0


class _Known(Struct):
    """Findings about jobs that ended, in the order of their ends."""

    outcomes: dict[int, tuple[Phase, bool]] = field(default_factory=dict)
    """The state of each job that is no task, and whether it was skipped as planned."""
    tasks: dict[int, _Tasks] = field(default_factory=dict)
    planned: dict[int, str] = field(default_factory=dict)
    """The account of each job or task, but not array, that was skipped as planned."""

    def takes(self, job: Job) -> None:
        """Note a job or task."""
        if job.planned and job.request.array is None:
            self.planned[job.number] = job.request.account
        if job.parent is None:
            self.outcomes[job.number] = job.phase, job.planned
            return
        of = self.tasks.setdefault(job.parent, _Tasks())
        began = job.times.first_start_ms
        of.first_start_ms = began if of.first_start_ms is None else min(of.first_start_ms, began or of.first_start_ms)
        of.cores = job.cores_allocated or of.cores
        of.planned += job.planned

    def skipped_as_planned(self, job: Job) -> bool:
        """True when all that kept a skipped job from starting hung on jobs that are done, or were skipped so themselves."""
        of = self.tasks.get(job.number)
        if job.request.array is not None and job.counts and of is not None:
            return of.planned == dict(job.counts).get("skipped", 0)
        after = ((self.outcomes.get(int(number)), condition) for number, condition in job.request.after)
        unmet = [one for one, condition in after if one is not None and not outlook(condition, one[0])]
        return bool(unmet) and all(phase is Phase.DONE or planned for phase, planned in unmet)


def from_5(work: Connection) -> None:
    """Write every job again with its times, and take planned skips out of what failed."""
    before = [column.name for column in ended.columns if column.name not in _NEW]
    work.exec_driver_sql("ALTER TABLE ended RENAME TO ended_before")
    for index in ended.indexes:
        work.exec_driver_sql(f"DROP INDEX IF EXISTS {index.name}")
    ended.create(work)
    known, totals = _Known(), Totals()
    query = f"SELECT {', '.join(before)} FROM ended_before ORDER BY ended_ms, job < {TASK_SPAN}, job"
    rows = work.exec_driver_sql(query)
    while several := rows.fetchmany(_AT_ONCE):
        written = list[EndedRow]()
        for row in several:
            job = _with_times(work, job_of(row.body, "", ""), known)
            written.append(_rewritten(dict(row._mapping), job))
            if job.planned:
                _take_back(work, job)
        totals.add(written, ())
        work.execute(ended.insert(), [row._asdict() for row in written])
    work.exec_driver_sql("DROP TABLE ended_before")
    _rewrite_state(work, known)
    if (body := _part(work, "totals")) is not None:
        kept = decoder(Totals).decode(body)
        kept.ended_sum, kept.cells_sum = totals.ended_sum, 0
        kept.add((), [Cell(*row) for row in work.execute(select(sums))])
        work.execute(parts.update().where(parts.c.key == "totals").values(body=kept.sealed()))


def _with_times(work: Connection, job: Job, known: _Known) -> Job:
    """An ended job with its times, and whether it was skipped as planned."""
    if job.request.array is not None:
        of = known.tasks.get(job.number, _Tasks())
        began = of.first_start_ms if of.first_start_ms is not None else job.started_ms
        wait = None if began is None else max(0, began - job.submitted_ms)
        times = JobTimes(first_start_ms=began, waited_ms=wait or 0, first_wait_ms=wait)
        job = replace(job, times=times, task_cores=of.cores, planned_count=of.planned)
    else:
        job = replace(job, times=_times_of(work, job))
    if job.phase is Phase.SKIPPED:
        parent = known.outcomes.get(job.parent or 0)
        job = replace(job, planned=known.skipped_as_planned(job) if parent is None else parent[1])
    known.takes(job)
    return job


def _times_of(work: Connection, job: Job, until: int = 2**62) -> JobTimes:
    """The times of a job that is no array by an event, as far as they can be known."""
    happened = _events_of(work, job.number, until) if job.came_back else []
    if not any(isinstance(one, Ended) for one in happened):
        cores, ended_ms = job.cores_allocated, job.ended_ms if job.ended_ms is not None else job.started_ms or 0
        if job.started_ms is None:
            return JobTimes(waited_ms=max(0, ended_ms - job.submitted_ms))
        ran = job.allocated_core_ms // cores if cores else max(0, ended_ms - job.started_ms)
        return JobTimes.of_one_attempt(job.submitted_ms, job.started_ms, ran, job.use.cpu_ms)
    times, now = JobTimes(waiting_since_ms=job.submitted_ms), job
    for event in happened:
        if isinstance(event, Started):
            times = times.turned(event.at_ms, None).started(event.at_ms)
            now = replace(now, allocations=event.allocations)
        elif isinstance(event, Ended):
            times = times.turned(event.at_ms, event.at_ms if event.again else None)
            if event.allocated_core_ms or event.use.cpu_ms:
                times = times.ended(held_by(now, event), event.use.cpu_ms)
        else:
            times = times.turned(event.at_ms, event.at_ms if isinstance(event, Released) else None)
    return times


def _events_of(work: Connection, number: int, until: int) -> list[Event]:
    query = select(events.c.kind, events.c.body).where(events.c.job == number, events.c.number <= until)
    rows = work.execute(query.order_by(events.c.number))
    kinds = (Started.kind, Ended.kind, Held.kind, Released.kind)
    return [decode(row.kind, row.body) for row in rows if row.kind in kinds]


def _rewritten(row: dict[str, Any], job: Job) -> EndedRow:
    """The row of an ended job in the present form."""
    found = {
        "first_start_ms": job.times.first_start_ms,
        "waited_ms": job.waited_ms(job.ended_ms or 0),
        "cores": job.cores_allocated or job.task_cores,
        "again_of": 0,
    }
    row |= {**found, "cpu_ms": job.cpu_ms(), "body": to_json(job)}
    return checked_row(EndedRow(**row))


def _take_back(work: Connection, job: Job) -> None:
    """Take a planned skip out of the sums of what failed."""
    if job.request.array is not None:
        return  # its tasks were counted
    at = job.ended_ms or 0
    key = {"day_ms": at - at % DAY_MS, "account": job.request.account, "user": job.user}
    key |= {"queue": job.queue or job.request.queues[0], "tier": job.request.tier, "name": job.request.name}
    query = sums.update().values(failed=sums.c.failed - 1).where(sums.c.failed > 0)
    for name, value in key.items():
        query = query.where(sums.c[name] == value)
    work.execute(query)


def _rewrite_state(work: Connection, known: _Known) -> None:
    """Write the state anew as it is after all events: its jobs have their times, and planned skips are no failures."""
    kept = {row.key: row.body for row in work.execute(select(parts))}
    scalars = decoder(Scalars).decode(opened(kept["scalars"])) if "scalars" in kept else None
    after = scalars.after if scalars is not None else 0
    rows = list(work.execute(select(live)))
    before = state_of({row.job: job_of(row.body, "", "") for row in rows}, kept, scalars)
    texts_of = {row.job: (row.script, row.environment) for row in rows}
    jobs = {number: _live_with_times(work, job, known, after) for number, job in before.jobs.items()}
    state = state_of(jobs, kept, scalars)
    last = after
    for row in work.execute(select(events).where(events.c.number > after).order_by(events.c.number)):
        last = row.number
        if row.kind == THINNED:
            continue
        event = decode(row.kind, row.body)
        if isinstance(event, Submitted):
            texts_of[event.job] = row.script, row.environment
        if isinstance(event, Ended) and event.job in known.planned:
            known.planned.pop(event.job)
            event = replace(event, planned=True)
        state.apply(event)
    for account, count in Counter(known.planned.values()).items():  # those that ended before that
        if (tally := state.tallies.get(account)) is not None:
            state.tallies[account] = replace(tally, failed=max(0, tally.failed - count))
    work.execute(live.delete())
    checks = dict[int, bytes]()
    for number, job in state.jobs.items():
        values = number, to_json(job), *texts_of.get(number, (0, 0))
        checks[number] = row_check(*values)
        work.execute(live.insert().values(**dict(zip(_LIVE, (*values, checks[number]), strict=True))))
    found = parts_of(state, state.recent) | {"scalars": scalars_of(state, last, checks)}
    for key, body in found.items():
        work.execute(parts.delete().where(parts.c.key == key))
        work.execute(parts.insert().values(key=key, body=body))


def _live_with_times(work: Connection, job: Job, known: _Known, after: int) -> Job:
    if job.times != JobTimes():  # a version before 3: its state was folded by this program
        return job
    of = known.tasks.get(job.number)
    if job.request.array is not None and of is not None and of.first_start_ms is not None:
        wait = max(0, of.first_start_ms - job.submitted_ms)
        times = JobTimes(first_start_ms=of.first_start_ms, first_wait_ms=wait, waiting_since_ms=job.submitted_ms)
        return replace(job, times=times, task_cores=of.cores, planned_count=of.planned)
    times = _times_of(work, job, after) if job.came_back else JobTimes(waiting_since_ms=job.submitted_ms)
    if job.phase is Phase.RUNNING and job.started_ms is not None:
        times = times.turned(job.started_ms, None).started(job.started_ms)
    elif job.phase is Phase.WAITING:
        since = max(times.waiting_since_ms or job.submitted_ms, job.request.not_before_ms or 0)
        times = replace(times, waiting_since_ms=since)
    else:
        times = replace(times, waiting_since_ms=None)
    return replace(job, times=times)


def _part(work: Connection, key: str) -> str | None:
    found = work.execute(select(parts.c.body).where(parts.c.key == key)).scalar()
    return None if found is None else opened(found)
