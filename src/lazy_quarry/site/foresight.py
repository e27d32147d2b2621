"""Forecast ranges of a site in use: worked out by a thread of its own from drawn plans, corrected by how earlier ones did.

It takes a small part of one core. What it knows of its own forecasts is kept in a file beside the journal, which may be removed.
"""

import threading
import time
from collections import deque
from collections.abc import Callable, Collection, Iterable
from contextlib import suppress
from functools import partial
from pathlib import Path

import msgspec

from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight, Kept, Stage, Waits
from lazy_quarry.core.advice.forward_draws import Pause, Present, kind_of_run, present_of
from lazy_quarry.core.advice.outlook import DRAWS, Outlook
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.core.engine.events import Changed, Ended, Event, Held, Released, Started, Submitted
from lazy_quarry.core.job.job import TASK_SPAN, Job
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.units import MINUTE_MS
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import ours
from lazy_quarry.site.session import Session
from lazy_quarry.site.supposed_jobs import FIRST, SupposedJobs, range_at
from lazy_quarry.site.work_share import HURRIES_S, WorkShare
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.store.typed_json import decoder
from lazy_quarry.views.job_view import StartRange

FILE = "forecasts.json"
MOST_LEARNED, AT_ONCE = 1000, 200
"""Number of the newest jobs, with tasks that ended meanwhile, that are learned from at the start; and in one go."""
SHARE, LONG_ROUND_S, LARGE_SHARE = 0.01, 6.0, 0.05
"""The part of one core that it takes; and where all ranges take more CPU time than this to work out, another part."""
MOST_SHARE = 0.25
"""The part of one core that it takes at most where time passes faster than it does."""
ROUND_S = 60.0
"""No more draws are begun after so much CPU time, once some are done."""
LEAST_REST_S, OTHERWISE_REST_S = 0.3, 2.0
"""Rests before it looks whether anything has changed: the shorter one where somebody came."""
STALE_MS = 10 * MINUTE_MS
"""Ranges are worked out again after so long, though nothing has changed: what still runs will run longer."""
KEEP_EVERY_S = 300.0
BUSY_S = 0.3
"""So long after something happened the site is taken to be busy: several jobs are submitted, or start, one after another."""


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
        self._planned: dict[int, int] = {}
        """Starts by the plan then."""
        self._newcomers = False
        """True when jobs were submitted or released since the last step began."""
        self._heard_at = 0.0
        """When something happened last, by the clock that only goes forward."""
        self.work = WorkShare(self.share, self._wait, lambda: time.monotonic() - self._heard_at < BUSY_S)
        """It is in a hurry while there are jobs of which nothing is known."""
        self._told = set[int]()
        """The jobs that the last ranges were to be of."""
        self._gone = set[int]()
        """The jobs that have started or ended since the last step began."""
        self.supposed = SupposedJobs(self.times, self.calibration, self._say_again)
        """Drafts and chains."""
        self.pace: Callable[[], float] = lambda: 1.0
        """The site's time passes so many times as fast as the real one."""
        self._round_s = 0.0
        """CPU time of the last ranges."""
        self.worked_s = 0.0
        """CPU time that its thread has used."""
        self._left, self._kept_at = threading.Event(), time.monotonic()
        self._thread: threading.Thread | None = None
        session.heard.append(self._hear)

    # -- what happens ------------------------------------------------------------------------------

    def _hear(self, first: int, events: Iterable[Event], ended: Iterable[Job]) -> None:
        """Events are in the journal; the site stands still meanwhile, so it only takes notes."""
        self._heard_at = time.monotonic()
        for event in events:
            if isinstance(event, Started | Ended):
                self._gone.add(event.job)
            if isinstance(event, Submitted | Released):
                self._newcomers = True
                self.supposed.woken.set()
            elif isinstance(event, Started):
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

    def learn_past(self, pause: Pause = lambda: None) -> None:
        """Learn from the newest runs that have ended, a few at a time."""
        with self.session.lock:
            newest = self.session.journal.ended(EndedFilter(limit=MOST_LEARNED))
        mark, last = ((newest[-1].ended_ms or 0) - 1 if newest else 0), 0
        while True:
            with self.session.lock:
                jobs = self.session.journal.ended_after(mark, last, AT_ONCE)
            if not jobs:
                return
            mark, last = jobs[-1].ended_ms or mark, jobs[-1].number
            for job in jobs:
                self._learn(job)
            pause()

    # -- ranges ------------------------------------------------------------------------------------

    def step(self, pause: Pause = lambda: None) -> bool:
        """Work the ranges out anew if something has changed; True when that was so.

        ``pause`` is called now and then. What is new, or has another place by the plan than before, is told
        after a few draws already.
        """
        session = self.session
        with session.lock:
            now, event = session.now(), session.journal.number
            while self._news:
                self._news.popleft()()
            if self._done[0] == event and now - self._done[1] < STALE_MS:
                return False
            engine = session.engine
            if self._planner is None or self._planner.site is not engine.site:
                self._planner = Planner(engine.site)
            self._planner.kernels = engine.plans.planner.kernels
            present, self._newcomers, self._gone = present_of(engine, self._planner, now), False, set()
        self._done, began = (event, now), time.thread_time()
        outlook = Outlook(present, self.times)
        told, starts = outlook.told, outlook.planned.starts
        pause()
        fresh = {job for job in told if self._planned.get(job) != starts.get(job)}
        self.work.hurry = bool(told.keys() - self._told) and self.work.owed_s < HURRIES_S
        self._told = set(told)

        def go_on() -> None:
            pause()
            if outlook.told.keys() <= self._gone:
                raise _NoneWaits

        try:
            self._draw(outlook, present, fresh, began, go_on)
        except _NoneWaits:
            told, starts = {}, {}
        with session.lock:
            self.supposed.present, self._planned = present, dict(starts)
            self._round_s = time.thread_time() - began
            session.say_foreseen(self._ranges(outlook, told, note=True))
        return True

    def _draw(self, outlook: Outlook, present: Present, fresh: Collection[int], began: float, pause: Pause) -> None:
        """Make the draws of one round; ranges of ``fresh`` jobs are told after a few of them."""
        told, session = outlook.told, self.session
        for draw in range(DRAWS if told else 0):
            if draw > FIRST and (self._newcomers or time.thread_time() - began > ROUND_S):
                break
            outlook.draw(told, pause)
            slow = not draw and time.thread_time() - began > LONG_ROUND_S
            if slow or draw + 1 == FIRST:
                with session.lock:
                    self.supposed.present = present
                    session.say_foreseen({**session.ranges, **self._ranges(outlook, fresh, note=False)})
                self.work.hurry = False

    def _ranges(self, outlook: Outlook, jobs: Collection[int], note: bool) -> dict[int, StartRange]:
        """Ranges of jobs as they are shown; ``note`` those of jobs that are new, and one of another, to see how they do."""
        now, drawn = outlook.at_ms, outlook.drawn(jobs)
        later, groups = [job for job in drawn if job in self._known], dict[Group, dict[int, Waits]]()
        chosen = later[now // 1000 % len(later)] if later else 0
        for job, waits in drawn.items():
            stage: Stage = "later" if job in self._known else "new"
            groups.setdefault((stage, outlook.told[job].request.tier), {})[job] = waits
        if note:
            self.calibration.settle(now)
            self._known = set(drawn)
        found = dict[int, StartRange]()
        for group, each in groups.items():
            seen = self.calibration.seen(group)
            for job, waits in list(outlook.shown(self.calibration, group, each)):
                found[job] = range_at(waits, now, seen)
                if note and (group[0] == "new" or job == chosen):
                    told, planned = outlook.told[job], outlook.planned.wait_s(job)
                    new = self.times.new_name(told.user, told.request.name)
                    self.calibration.note(group, job, now, drawn[job], waits, planned, new)
        return found

    # -- its thread and its file -------------------------------------------------------------------

    def start(self) -> None:
        """Work by itself from now on."""
        self.supposed.by_thread = True
        self._thread = threading.Thread(target=self._work, daemon=True, name="foresight")
        self._thread.start()

    def close(self) -> None:
        """Stop working, and keep what is known."""
        self._left.set()
        self.supposed.woken.set()
        if self._thread is not None:
            self._thread.join(timeout=5.0)
        self._keep()

    def _work(self) -> None:
        while self.session.adding_past:
            if self._left.wait(0.5):
                return
        self.work.hurry = True
        with suppress(QuarryError, _Left):
            self.learn_past(self.work.pause)
        self.work.owed_s = 0.0
        while not self._left.is_set():
            with suppress(QuarryError, _Left):
                self._left.wait(LEAST_REST_S)
                self._wait(OTHERWISE_REST_S)
                self.step(self.work.pause)
            if time.monotonic() - self._kept_at > KEEP_EVERY_S:
                self._keep()

    def _say_again(self) -> None:
        self.session.say_foreseen(self.session.ranges, anew=True)

    def share(self) -> float:
        """The part of one core that it takes at present, but for what somebody waits for."""
        return min(MOST_SHARE, self.pace() * (LARGE_SHARE if self._round_s > LONG_ROUND_S else SHARE))

    def _wait(self, seconds: float) -> float:
        """Let time pass, and answer who asks meanwhile; returns how much, less where somebody came of whom nothing is known."""
        began = time.monotonic()
        while (left := began + seconds - time.monotonic()) > 0:
            self.worked_s = time.thread_time()
            if self._newcomers and not self.work.hurry and self.work.owed_s < HURRIES_S:
                self.work.hurry = True
                break
            if self.supposed.woken.wait(left):
                self.supposed.woken.clear()
                if self._left.is_set():
                    raise _Left
                self.supposed.answer()
        return time.monotonic() - began

    def _read(self) -> dict[Group, Kept] | None:
        if self._file is None:
            return None
        try:
            written = decoder(_Written).decode(ours.read(self._file))
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


class _NoneWaits(Exception):
    """All jobs that ranges were worked out for have started or ended."""


def _whole(number: int) -> int:
    """An array for one of its tasks."""
    return number // TASK_SPAN if number >= TASK_SPAN else number
