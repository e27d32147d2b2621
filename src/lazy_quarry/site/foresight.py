"""Forecast ranges of a site in use: worked out by a thread of its own from drawn plans, corrected by how earlier ones did.

It takes a small part of one core. What it knows of its own forecasts is kept in a file beside the journal, which may be removed.
"""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path

import msgspec

from lazy_quarry.core.advice.drawn_plans import (
    Drawn,
    DrawnTimes,
    EmptySite,
    Scene,
    WholeWalltimes,
    kind_of,
    kind_of_run,
    range_of,
    ranges_of,
    scene_of,
)
from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight, Kept, Stage, Waits
from lazy_quarry.core.advice.run_times import RunTimes, shares_of
from lazy_quarry.core.engine.events import Changed, Ended, Event, Held, Started
from lazy_quarry.core.job.job import TASK_SPAN, Job
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.units import MINUTE_MS
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import ours
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.views.job_view import StartRange

FILE = "forecasts.json"
DRAWS = 20
MOST_WAITING = 400
"""Maximum number of waiting jobs, in queue order, that get a forecast range."""
MOST_LEARNED, AT_ONCE = 1000, 200
"""Number of the newest jobs, with tasks that ended meanwhile, that are learned from at the start; and in one go."""
RESTS = 24
"""It rests so many times as long as it has worked: four parts of a hundred of one core."""
LEAST_REST_S = 2.0
STALE_MS = 10 * MINUTE_MS
"""Ranges are worked out again after so long, though nothing has changed: what still runs will run longer."""
KEEP_EVERY_S = 300.0
SEED = 11


class _Written(msgspec.Struct):
    """The file: of which journal, and what became of forecasts."""

    journal: str
    groups: list[tuple[Stage, str, Kept]]
    """The record of each stage and tier."""


class Foresight:
    """Works ranges out and publishes them in :attr:`Session.ranges`."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.times = RunTimes()
        folder = session.journal.folder
        self._file = folder / FILE if isinstance(folder, Path) else None
        self.calibration = Hindsight(self._read())
        self._planner: Planner | None = None
        self._news = deque[Callable[[], None]]()
        """Happenings since the last step, to be taken in by the next."""
        self._done = (-1, 0)
        """The last event that the ranges know of, and the instant that they are for."""
        self._known = set[int]()
        """Jobs of which there was a range already."""
        self._draws: list[Drawn] = []
        self._planned: Drawn | None = None
        """The plan of the last draws' instant: what they would be if everything took its whole walltime."""
        self._drawn = 0
        """Number of draws so far."""
        self._fields: tuple[tuple[object, ...], list[tuple[Timeline, LimitRows]]] = ((), [])
        """Room behind certain jobs, in each of the last draws."""
        self.worked_s = 0.0
        """CPU time that its thread has used."""
        self._left, self._kept_at = threading.Event(), time.monotonic()
        self._thread: threading.Thread | None = None
        session.heard.append(self._hear)

    # -- what happens ------------------------------------------------------------------------------

    def _hear(self, first: int, events: Iterable[Event], ended: Iterable[Job]) -> None:
        """Events are in the journal; the site stands still meanwhile, so it only takes notes."""
        for event in events:
            if isinstance(event, Started):
                self._news.append(partial(self.calibration.started, _whole(event.job), event.at_ms))
            elif isinstance(event, Changed | Held) or (isinstance(event, Ended) and not event.allocated_core_ms):
                self._news.append(partial(self._drop, event.job))
        self._news.extend(partial(self._learn, job) for job in ended)

    def _drop(self, job: int) -> None:
        self.calibration.dropped(job)
        self._known.discard(job)

    def _learn(self, job: Job) -> None:
        if job.started_ms is None or job.ended_ms is None or not job.allocations:
            return
        self.times.learn(kind_of_run(job), job.attempt_ms(0) / 1000)

    def learn_past(self, pause: Callable[[float], object] = lambda worked_s: None) -> None:
        """Learn from the newest runs that have ended, a few at a time."""
        with self.session.lock:
            newest = self.session.journal.ended(EndedFilter(limit=MOST_LEARNED))
        mark, last = ((newest[-1].ended_ms or 0) - 1 if newest else 0), 0
        while True:
            began = time.thread_time()
            with self.session.lock:
                jobs = self.session.journal.ended_after(mark, last, AT_ONCE)
            if not jobs:
                return
            mark, last = jobs[-1].ended_ms or mark, jobs[-1].number
            for job in jobs:
                self._learn(job)
            pause(time.thread_time() - began)

    # -- ranges ------------------------------------------------------------------------------------

    def step(self, pause: Callable[[float], object] = lambda worked_s: None) -> bool:
        """Work the ranges out anew if something has changed; True when that was so.

        ``pause`` hears after each draw how long it took.
        """
        session = self.session
        with session.lock:
            now, event = session.now(), session.journal.number
            while self._news:
                self._news.popleft()()
            if self._done[0] == event and now - self._done[1] < STALE_MS:
                return False
            scene = scene_of(session.engine, now, MOST_WAITING)
        self._done = event, now
        if self._planner is None or self._planner.site is not scene.site:
            self._planner = Planner(scene.site)
        times, draws = DrawnTimes(scene, self.times, SEED, DRAWS), list[Drawn]()
        planned, soonest = Drawn(self._planner, scene, WholeWalltimes(), 0), EmptySite(self._planner, scene).bounds()
        for draw in range(DRAWS if scene.waiting or scene.blocked else 0):
            began = time.thread_time()
            draws.append(Drawn(self._planner, scene, times, draw))
            pause(time.thread_time() - began)
        with session.lock:
            self._draws, self._planned, self._drawn = draws, planned, self._drawn + 1
            session.say_foreseen(self._corrected(scene, draws, planned, soonest))
        return True

    def _corrected(
        self, scene: Scene, draws: list[Drawn], planned: Drawn, soonest: dict[int, int]
    ) -> dict[int, StartRange]:
        """Ranges as they are shown; those of jobs that are new, and one of another, are noted to see how they do.

        None of a job that as things stand never starts: no node, no limit or no budget has room for it.
        """
        now = scene.now_ms
        told = {
            one.wanted.job: one
            for one in (*scene.waiting, *scene.blocked)
            if not one.begun and one.wanted.job in soonest and not planned.never(one.wanted.job)
        }
        drawn = ranges_of(draws, told)
        self.calibration.settle(now)
        groups = dict[Group, list[int]]()
        for job in drawn:
            stage: Stage = "later" if job in self._known else "new"
            groups.setdefault((stage, told[job].wanted.request.tier), []).append(job)
        found, later = dict[int, StartRange](), [job for job in drawn if job in self._known]
        chosen = later[now // 1000 % len(later)] if later else 0
        for group, jobs in groups.items():
            by_plan = [planned.wait_s(job) for job in jobs]
            shown = self.calibration.corrected(group, now, [drawn[job] for job in jobs], by_plan)
            seen = self.calibration.seen(group)
            for job, corrected, planned_s in zip(jobs, shown, by_plan, strict=True):
                waits = corrected.no_sooner((soonest[job] - now) / 1000)
                found[job] = _range(waits, now, seen)
                if group[0] == "new" or job == chosen:
                    self.calibration.note(group, job, now, drawn[job], waits, planned_s)
        self._known = set(drawn)
        return found

    def of_request(self, user: str, request: Request) -> StartRange | None:
        """The range of a job of a user with this request, which nobody has submitted, from the last draws; None without any."""
        draws, planned, session = self._draws, self._planned, self.session
        if not draws or planned is None or not session.ranges:
            return None
        plans, now = session.engine.plans, draws[0].scene.now_ms
        job = plans.hypothetical_job(user, request, session.now())
        planner, wanted = plans.planner, plans.plan_request_of(job)
        if not planner.needs_of(wanted):
            return None
        ahead = frozenset(one.number for one in plans.ahead_of(job, session.now()))
        key = (self._drawn, ahead, wanted.owner, wanted.access)
        if self._fields[0] != key:
            self._fields = key, [one.behind(ahead, wanted, planner) for one in (planned, *draws)]
        takes = self.times.draw(kind_of(planner, job), 0.0, shares_of(SEED, 0, DRAWS)) * 1000
        by_plan = planner.earliest(self._fields[1][0][0], wanted, 0, self._fields[1][0][1])
        soonest = EmptySite(planner, planned.scene).soonest_ms(wanted)
        if by_plan is None or soonest is None:
            return None
        starts = list[int]()
        for (timeline, limits), taken in zip(self._fields[1][1:], takes, strict=True):
            placed = planner.earliest(timeline, replace(wanted, takes_ms=max(1000, int(taken))), 0, limits)
            if placed is not None:
                starts.append(placed)
        if 2 * len(starts) < len(draws):
            return None
        group: Group = ("new", request.tier)
        waits = self.calibration.corrected(group, now, [range_of(starts, now)], [(by_plan - now) / 1000])[0]
        return _range(waits.no_sooner((soonest - now) / 1000), now, self.calibration.seen(group))

    # -- its thread and its file -------------------------------------------------------------------

    def start(self) -> None:
        """Work by itself from now on."""
        self._thread = threading.Thread(target=self._work, daemon=True, name="foresight")
        self._thread.start()

    def close(self) -> None:
        """Stop working, and keep what is known."""
        self._left.set()
        if self._thread is not None:
            self._thread.join(timeout=5.0)
        self._keep()

    def _work(self) -> None:
        while self.session.adding_past:
            if self._left.wait(0.5):
                return
        with suppress(QuarryError, _Left):
            self.learn_past(self._rest)
        while not self._left.wait(LEAST_REST_S):
            self.worked_s = began = time.thread_time()
            with suppress(QuarryError, _Left):
                self.step(lambda worked_s: self._rest(worked_s / RESTS))
            if self._left.wait((time.thread_time() - began) * RESTS):
                break
            if time.monotonic() - self._kept_at > KEEP_EVERY_S:
                self._keep()

    def _rest(self, worked_s: float) -> None:
        if self._left.wait(worked_s * RESTS):
            raise _Left

    def _read(self) -> dict[Group, Kept] | None:
        if self._file is None:
            return None
        try:
            written = msgspec.json.decode(ours.read(self._file), type=_Written)
        except (OSError, msgspec.MsgspecError):
            return None
        if written.journal != self.session.journal.identity:
            return None
        return {(stage, tier): kept for stage, tier, kept in written.groups}

    def _keep(self) -> None:
        self._kept_at = time.monotonic()
        if self._file is None:
            return
        with self.session.lock:
            kept = [(*group, one) for group, one in self.calibration.kept().items()]
        body = msgspec.json.encode(_Written(self.session.journal.identity, kept))
        with suppress(OSError):  # it is only what was learned; the next time it is tried again
            ours.write_whole(self._file, body)


class _Left(Exception):
    """It is to stop in the middle of its work."""


def _whole(number: int) -> int:
    """An array for one of its tasks."""
    return number // TASK_SPAN if number >= TASK_SPAN else number


def _range(waits: Waits, now_ms: int, checked: int) -> StartRange:
    early, likely, late = (now_ms + round(one * 1000) for one in (waits.early_s, waits.likely_s, waits.late_s))
    return StartRange(early, likely, late, checked)
