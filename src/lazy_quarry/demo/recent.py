"""The last thirty hours of the demo before it begins, as events."""

import heapq
import itertools
from collections import Counter
from collections.abc import Iterable, Iterator

from lazy_quarry.core.engine.events import Ended, Event, Held, NodeClosed, Started, Submitted, TaskMade
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.job import Job, Phase, task_id
from lazy_quarry.core.units import HOUR_MS, MINUTE_MS
from lazy_quarry.core.values import replace
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import arrivals
from lazy_quarry.demo.site import BEGINS_MS, YOU, oxbow
from lazy_quarry.demo.yours import sweep_of, yours, yours_waiting
from lazy_quarry.run.rehearsal import ModelledRun, modelled_curve

RECENT_FROM_MS = BEGINS_MS - 30 * HOUR_MS
RECENT_A_DAY = 250
MORNING = "recent91"
"""A stream, of a few dozen, that begins with a full cluster and jobs that wait in most queues."""
FIRST_RECENT = 14_200
"""Numbers of jobs before it belong to the past that is made later."""


def recent_events(seed: int) -> Iterator[Event]:
    """The last thirty hours as events: what ended, what runs, what waits, and yours among them."""
    site = oxbow()
    others = itertools.takewhile(
        lambda one: one.at_ms < BEGINS_MS, arrivals(f"{seed}:{MORNING}", RECENT_FROM_MS, RECENT_A_DAY)
    )
    closed = frozenset(closure.node for closure in site.closures)
    stream = heapq.merge(others, yours(), key=lambda one: one.at_ms)
    jobs = list(_numbered(ran(site, stream, FIRST_RECENT, closed)))
    number = max(job.parent or job.number for job in jobs)
    events: list[tuple[int, int, Event]] = [
        (RECENT_FROM_MS, 0, NodeClosed(RECENT_FROM_MS, closure.node, By(why=closure.reason)))
        for closure in site.closures
    ]
    arrays: dict[int, list[Job]] = {}
    for job in jobs:
        if job.parent is not None:
            arrays.setdefault(job.parent, []).append(job)
        else:
            events += _history(job)
    for array, tasks in arrays.items():
        events += _array_history(array, tasks)
    for at, arrival in enumerate(yours_waiting(), number + 1):
        taken = Submitted(arrival.at_ms, at, By(arrival.user), arrival.request, arrival.origin)
        events.append((arrival.at_ms, at, taken))
        if arrival.request.name == "night-archive":
            events.append((arrival.at_ms + MINUTE_MS, at, Held(arrival.at_ms + MINUTE_MS, at, By(YOU))))
    return (event for _, _, event in sorted(events, key=lambda one: one[:2]))


def _numbered(jobs: Iterable[Job]) -> Iterator[Job]:
    """The tasks of an array, which come one behind another, under one number; what comes after them under the next ones."""
    number, array = FIRST_RECENT - 1, 0
    for job in jobs:
        if job.request.task is None:
            number, array = number + 1, 0
            yield replace(job, number=number)
            continue
        if not array:
            number = array = number + 1
        yield replace(job, number=task_id(array, job.request.task - 1))


def _array_history(number: int, tasks: list[Job]) -> Iterator[tuple[int, int, Event]]:
    """Events of an array that is over when the demo begins."""
    first, over = tasks[0], max(task.ended_ms or 0 for task in tasks)
    yield (
        first.submitted_ms,
        number,
        Submitted(first.submitted_ms, number, By(first.user), sweep_of(first), first.origin),
    )
    for task in tasks:
        began = task.started_ms or 0
        yield began, number, TaskMade(began, task.number, number, task.index)
        yield from list(_history(task))[1:]
    words = ", ".join(
        f"{count} {phase}" for phase, count in sorted(Counter(task.phase.value for task in tasks).items())
    )
    failed = any(task.phase is not Phase.DONE for task in tasks)
    phase = Phase.FAILED if failed else Phase.DONE
    yield over, task_id(number, len(tasks)), Ended(over, number, 0, phase, reason=f"of its tasks {words}")


def _history(job: Job) -> Iterator[tuple[int, int, Event]]:
    """Events of a job until the demo begins."""
    number, started, ended = job.number, job.started_ms or 0, job.ended_ms or 0
    yield job.submitted_ms, number, Submitted(job.submitted_ms, number, By(job.user), job.request, job.origin)
    if started <= BEGINS_MS:
        yield started, number, Started(started, number, 1, job.queue, job.allocations)
    if ended <= BEGINS_MS:
        yield (
            ended,
            number,
            Ended(
                at_ms=ended,
                job=number,
                attempt=1,
                phase=job.phase,
                exit=job.exit,
                signal=job.signal,
                use=job.use,
                allocated_core_ms=job.allocated_core_ms,
                charge_core_ms=job.charge_core_ms,
                inside=job.inside,
                parts=job.parts,
                curve=_curve(job) if job.user == YOU else None,
            ),
        )


def _curve(job: Job) -> Curve | None:
    """Its use over its time, in a rehearsal."""
    took = (job.ended_ms or 0) - (job.started_ms or 0)
    modelled = ModelledRun(took, job.exit, job.signal, None, job.use.memory_peak_mib, job.use.cpu_ms / max(1, took))
    return modelled_curve(job, modelled, job.ended_ms or 0)
