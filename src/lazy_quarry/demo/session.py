"""The demo's engine, which lives in the application, and its clock, which may be sped up and paused."""

import heapq
import itertools
import threading
import time
from collections.abc import Iterator

from lazy_quarry.core.engine.events import BroughtForward, Ended, Event, Held, NodeClosed, Started, Submit, Submitted
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.ledger.charges import Tally, by_day
from lazy_quarry.core.units import DAY_MS, HOUR_MS, MINUTE_MS
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import SPARE, Arrival, arrivals
from lazy_quarry.demo.site import BEGINS_MS, YOU, oxbow
from lazy_quarry.demo.yours import yours, yours_waiting
from lazy_quarry.errors import Refused
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.views import ClockView
from lazy_quarry.store.journal import Journal

RECENT_FROM_MS = BEGINS_MS - 30 * HOUR_MS
PAST_DAYS = 90
PAST_A_DAY, RECENT_A_DAY, FUTURE_A_DAY, SPARE_A_DAY = 105, 250, 150, 40
FIRST_RECENT = 14_200
"""Numbers of jobs before it belong to the past that is made later."""
SPEEDS = (1, 10, 60, 300, 900, 3600)
_TICK_S = 0.1


class Rehearsed:
    """A desk on a virtual clock, fed by other people's arrivals. Time passes only by :meth:`advance`."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.now_ms = BEGINS_MS
        site = oxbow()
        journal = Journal(None)
        journal.append_past(list(_recent(seed)))
        self.runner = RehearsalRunner(seed)
        self.desk = Operations(site, journal, self.runner, YOU, lambda: self.now_ms)
        self._coming: Iterator[Arrival] = heapq.merge(
            arrivals(f"{seed}:coming", BEGINS_MS, FUTURE_A_DAY),
            arrivals(f"{seed}:spare", BEGINS_MS, SPARE_A_DAY, SPARE),
            key=lambda one: one.at_ms,
        )
        self._next = next(self._coming)
        self.desk.step()

    def advance(self, to_ms: int) -> None:
        """Let everything happen that happens by this instant, in its order."""
        desk = self.desk
        with desk.lock:
            while True:
                ends = self.runner.next_report_ms()
                starts = desk.next_instant_ms()
                at = min(each for each in (self._next.at_ms, ends, starts, to_ms + 1) if each is not None)
                if at > to_ms:
                    break
                self.now_ms = max(self.now_ms, at)
                while self._next.at_ms <= at:
                    self._take(self._next)
                    self._next = next(self._coming)
                desk.step(self.now_ms)
            self.now_ms = max(self.now_ms, to_ms)

    def next_instant(self) -> int:
        """When the next thing happens."""
        desk = self.desk
        with desk.lock:
            known = (self._next.at_ms, self.runner.next_report_ms(), desk.next_instant_ms())
            return min(each for each in known if each is not None)

    def _take(self, arrival: Arrival) -> None:
        desk = self.desk
        try:
            events = desk.engine.decide(Submit(self.now_ms, arrival.user, arrival.request, arrival.origin))
        except Refused:
            return
        desk.take_in(events)

    def add_past(self, days: int) -> None:
        """Make the days before, and bring them forward into the books."""
        begin = BEGINS_MS - days * DAY_MS
        stream = itertools.takewhile(
            lambda one: one.at_ms < RECENT_FROM_MS, arrivals(f"{self.seed}:past", begin, PAST_A_DAY)
        )
        site = self.desk.site
        jobs = [job for job in ran(site, stream, 1, frozenset()) if (job.ended_ms or 0) < RECENT_FROM_MS]
        tallies: dict[str, Tally] = {}
        recent: dict[str, dict[tuple[str, int], int]] = {}
        for job in jobs:
            for day, core_ms in by_day(job.started_ms or 0, job.ended_ms or 0, job.allocated_core_ms):
                held = recent.setdefault(job.request.account, {})
                held[job.user, day] = held.get((job.user, day), 0) + core_ms
            known = tallies.get(job.request.account, Tally())
            tallies[job.request.account] = Tally(
                known.charged_core_ms + job.charge_core_ms,
                known.allocated_core_ms + job.allocated_core_ms,
                known.jobs + 1,
                known.failed + (job.phase not in ("done", "cancelled")),
            )
        with self.desk.lock:
            self.desk.journal.import_past(jobs[: FIRST_RECENT - 1])
            at = self.desk.now()
            self.desk.take_in(
                [
                    BroughtForward(
                        at,
                        account,
                        sums.charged_core_ms,
                        sums.allocated_core_ms,
                        sums.jobs,
                        sums.failed,
                        tuple((user, day, amount) for (user, day), amount in sorted(recent[account].items())),
                    )
                    for account, sums in sorted(tallies.items())
                ]
            )
            self.desk.forget_recent()


def _recent(seed: int) -> Iterator[Event]:
    """The last thirty hours as events: what ended, what runs, what waits, and yours among them."""
    site = oxbow()
    others = itertools.takewhile(
        lambda one: one.at_ms < BEGINS_MS, arrivals(f"{seed}:recent", RECENT_FROM_MS, RECENT_A_DAY)
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
                ended,
                number,
                1,
                job.phase,
                False,
                job.exit,
                job.signal,
                "",
                job.use,
                job.allocated_core_ms,
                job.charge_core_ms,
            ),
        )


class DemoClient:
    """The demo as a :class:`~lazy_quarry.link.client.SiteClient`; also its clock's handle."""

    def __init__(self, speed: int = 60, paused: bool = False, seed: int = 7, past_days: int = PAST_DAYS) -> None:
        self.past_days = past_days
        self.rehearsed = Rehearsed(seed)
        self.desk = self.rehearsed.desk
        self._stop = threading.Event()
        desk = self.desk
        self.submit, self.try_one, self.again = desk.submit, desk.try_one, desk.again
        self.hold, self.release, self.cancel, self.change, self.order = (
            desk.hold,
            desk.release,
            desk.cancel,
            desk.change,
            desk.order,
        )
        self.nodes, self.reserve, self.unreserve = desk.nodes, desk.reserve, desk.unreserve
        self.jobs, self.job, self.detail, self.output = desk.jobs, desk.job, desk.detail, desk.output
        self.check, self.board, self.room, self.compare = desk.check, desk.board, desk.room, desk.compare
        self.samples, self.ladder, self.turns = desk.samples, desk.ladder, desk.turns
        self.desk.clock_view = ClockView("rehearsal", speed, paused)
        threading.Thread(target=self._tick, daemon=True, name="demo-clock").start()

    def _tick(self) -> None:
        self.rehearsed.add_past(self.past_days)
        last = time.monotonic()
        while not self._stop.wait(_TICK_S):
            now = time.monotonic()
            view = self.desk.clock_view
            if not view.paused:
                self.rehearsed.advance(self.rehearsed.now_ms + round((now - last) * 1000 * view.speed))
            last = now

    def set_clock(self, speed: int | None = None, paused: bool | None = None) -> ClockView:
        """Change how fast time passes."""
        with self.desk.lock:
            old = self.desk.clock_view
            self.desk.clock_view = ClockView(
                "rehearsal",
                max(1, min(3600, old.speed if speed is None else speed)),
                old.paused if paused is None else paused,
            )
            return self.desk.clock_view

    def faster(self, steps: int) -> ClockView:
        """The next speed up or down."""
        with self.desk.lock:  # two keys at once are two steps
            speed = self.desk.clock_view.speed
            places = [number for number, each in enumerate(SPEEDS) if each <= speed]
            return self.set_clock(SPEEDS[max(0, min(len(SPEEDS) - 1, (places[-1] if places else 0) + steps))], False)

    def step(self) -> None:
        """Let the next thing happen, and no more."""
        self.rehearsed.advance(self.rehearsed.next_instant())

    def changes(self, since: int, timeout_s: float) -> int:
        """See :class:`~lazy_quarry.link.client.SiteClient`."""
        return self.desk.wait_change(since, timeout_s)

    def close(self) -> None:
        """Stop the clock."""
        self._stop.set()
