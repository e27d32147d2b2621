"""The last thirty hours of the demo before it begins, as events."""

import heapq
import itertools
from collections.abc import Iterator

from lazy_quarry.core.engine.events import Ended, Event, Held, NodeClosed, Started, Submitted
from lazy_quarry.core.job.curve import Curve
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.units import HOUR_MS, MINUTE_MS
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import arrivals
from lazy_quarry.demo.site import BEGINS_MS, YOU, oxbow
from lazy_quarry.demo.yours import yours, yours_waiting
from lazy_quarry.run.rehearsal import ModelledRun, modelled_curve

RECENT_FROM_MS = BEGINS_MS - 30 * HOUR_MS
RECENT_A_DAY = 250
MORNING = "recent91"
"""Of a few dozen streams, one that begins with a full cluster and jobs that wait in most queues."""
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
    jobs = list(ran(site, stream, FIRST_RECENT, closed))
    number = jobs[-1].number
    events: list[tuple[int, int, Event]] = [
        (RECENT_FROM_MS, 0, NodeClosed(RECENT_FROM_MS, closure.node, closure.reason)) for closure in site.closures
    ]
    for job in jobs:
        events += _history(job)
    for at, arrival in enumerate(yours_waiting(), number + 1):
        taken = Submitted(arrival.at_ms, at, arrival.user, arrival.request, arrival.origin)
        events.append((arrival.at_ms, at, taken))
        if arrival.request.name == "night-archive":
            events.append((arrival.at_ms + MINUTE_MS, at, Held(arrival.at_ms + MINUTE_MS, at, YOU)))
    return (event for _, _, event in sorted(events, key=lambda one: one[:2]))


def _history(job: Job) -> Iterator[tuple[int, int, Event]]:
    """What had happened to a job when the demo begins."""
    number, started, ended = job.number, job.started_ms or 0, job.ended_ms or 0
    yield job.submitted_ms, number, Submitted(job.submitted_ms, number, job.user, job.request, job.origin)
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
                curve=_curve(job),
            ),
        )


def _curve(job: Job) -> Curve | None:
    """What it would have used over its time, in a rehearsal."""
    took = (job.ended_ms or 0) - (job.started_ms or 0)
    modelled = ModelledRun(took, job.exit, job.signal, None, job.use.memory_peak_mib, job.use.cpu_ms / max(1, took))
    return modelled_curve(job, modelled, job.ended_ms or 0)
