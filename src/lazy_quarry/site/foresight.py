"""Forecast ranges of a site in use: worked out by a thread of its own from drawn plans, corrected by how earlier ones did.

It takes a small part of one core. What it knows of its own forecasts is kept in a file beside the journal, which may be removed.
"""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import msgspec
import numpy as np

from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight, Kept, Stage, Waits
from lazy_quarry.core.advice.forward_draws import (
    Course,
    DrawnTimes,
    Pause,
    Present,
    SupposedJob,
    course_of,
    kind_of_run,
    present_of,
    ranges_of,
)
from lazy_quarry.core.advice.planned_starts import PlannedStarts
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.core.engine.events import Changed, Ended, Event, Held, Released, Started, Submitted
from lazy_quarry.core.job.job import TASK_SPAN, Job
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.units import MINUTE_MS
from lazy_quarry.errors import QuarryError
from lazy_quarry.files import ours
from lazy_quarry.site.session import Session
from lazy_quarry.site.work_share import HURRIES_S, WorkShare
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.views.job_view import StartRange

FILE = "forecasts.json"
DRAWS = 10
MOST_WAITING = 400
"""Maximum number of waiting jobs, in queue order, that get a forecast range."""
MOST_LEARNED, AT_ONCE = 1000, 200
"""Number of the newest jobs, with tasks that ended meanwhile, that are learned from at the start; and in one go."""
FIRST = 3
"""Number of draws after which something is told of jobs of which nothing is known."""
SHARE, LONG_ROUND_S, LARGE_SHARE = 0.01, 6.0, 0.05
"""The part of one core that it takes; and where all ranges take more CPU time than this to work out, another part."""
MOST_SHARE = 0.25
"""The part of one core that it takes at most where time passes faster than it does."""
ANSWER_S, MOST_ANSWERS, ANEW_S = 3.0, 200, 20.0
"""CPU time after which a draft is drawn no further, the number of answers that are kept, and for how long they are current."""
ROUND_S = 60.0
"""No more draws are begun after so much CPU time, once some are done."""
LEAST_REST_S, OTHERWISE_REST_S = 0.3, 2.0
"""Rests before it looks whether anything has changed: the shorter one where somebody came."""
STALE_MS = 10 * MINUTE_MS
"""Ranges are worked out again after so long, though nothing has changed: what still runs will run longer."""
KEEP_EVERY_S = 300.0
SEED = 11


class _Written(msgspec.Struct):
    """The file: of which journal, and what became of forecasts."""

    journal: str
    groups: list[tuple[Stage, str, Kept]]
    """The record of each stage and tier."""


@dataclass(frozen=True, slots=True)
class Foreseen:
    """Expectations of jobs that nobody has submitted: ranges of starts by name, and for several the middle of when all end."""

    ranges: Mapping[str, StartRange]
    ends_ms: int | None = None


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
        self._present: Present | None = None
        """The site as the last ranges saw it."""
        self._planned: dict[int, int] = {}
        """Starts by the plan then."""
        self._newcomers = False
        """True when jobs were submitted or released since the last step began."""
        self.work = WorkShare(self.share, self._wait)
        """It is in a hurry while there are jobs of which nothing is known."""
        self._told = set[int]()
        """The jobs that the last ranges were to be of."""
        self._asked: dict[str, tuple[SupposedJob, ...]] = {}
        """The last jobs of each user that nobody has submitted, of which nothing is known yet."""
        self._answers: dict[tuple[str, tuple[SupposedJob, ...]], _Answer] = {}
        self.pace: Callable[[], float] = lambda: 1.0
        """How many times as fast as the real one the site's time passes."""
        self._round_s = 0.0
        """CPU time of the last ranges."""
        self.worked_s = 0.0
        """CPU time that its thread has used."""
        self._left, self._woken, self._kept_at = threading.Event(), threading.Event(), time.monotonic()
        self._thread: threading.Thread | None = None
        session.heard.append(self._hear)

    # -- what happens ------------------------------------------------------------------------------

    def _hear(self, first: int, events: Iterable[Event], ended: Iterable[Job]) -> None:
        """Events are in the journal; the site stands still meanwhile, so it only takes notes."""
        for event in events:
            if isinstance(event, Submitted | Released):
                self._newcomers = True
                self._woken.set()
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
            present, self._newcomers = present_of(engine, self._planner, now, MOST_WAITING), False
        self._done, began = (event, now), time.thread_time()
        planned = PlannedStarts(present)
        told = {job.number: job for job in planned.told()}
        pause()
        times, courses = DrawnTimes(self.times, now, SEED, DRAWS), list[Course]()
        fresh = {job for job in told if self._planned.get(job) != planned.starts.get(job)}
        self.work.hurry = bool(told.keys() - self._told) and self.work.owed_s < HURRIES_S
        self._told = set(told)
        for draw in range(DRAWS if told else 0):
            if draw > FIRST and (self._newcomers or time.thread_time() - began > ROUND_S):
                break
            courses.append(course_of(present, times, draw, told, pause))
            slow = len(courses) == 1 and time.thread_time() - began > LONG_ROUND_S
            if slow or len(courses) == FIRST:
                self._publish_first(planned, courses, {job: told[job] for job in fresh})
                self.work.hurry = False
        with session.lock:
            self._present, self._planned, self._round_s = present, dict(planned.starts), time.thread_time() - began
            session.say_foreseen(self._corrected(planned, courses, told))
        return True

    def _publish_first(self, planned: PlannedStarts, courses: list[Course], jobs: dict[int, Job]) -> None:
        """Tell ranges from the first draws of those of which nothing is known yet, or something else."""
        with self.session.lock:
            self._present = planned.present
            drawn = ranges_of(courses, planned.starts, jobs, planned.at_ms)
            found = {
                job: _range(waits, planned.at_ms, seen)
                for group, numbers in self._groups(drawn, jobs).items()
                for job, waits, seen in self._shown(group, numbers, drawn, planned)
            }
            self.session.say_foreseen({**self.session.ranges, **found})

    def _groups(self, drawn: Iterable[int], jobs: dict[int, Job]) -> dict[Group, list[int]]:
        groups = dict[Group, list[int]]()
        for number in drawn:
            stage: Stage = "later" if number in self._known else "new"
            groups.setdefault((stage, jobs[number].request.tier), []).append(number)
        return groups

    def _shown(
        self, group: Group, jobs: list[int], drawn: dict[int, Waits], planned: PlannedStarts
    ) -> Iterator[tuple[int, Waits, int]]:
        """For each job its range as it is shown, and by how many earlier ones it was corrected."""
        now, seen = planned.at_ms, self.calibration.seen(group)
        by_plan = [planned.wait_s(job) for job in jobs]
        corrected = self.calibration.corrected(group, now, [drawn[job] for job in jobs], by_plan)
        for job, waits in zip(jobs, corrected, strict=True):
            yield job, waits.no_sooner((planned.soonest[job] - now) / 1000), seen

    def _corrected(self, planned: PlannedStarts, courses: list[Course], jobs: dict[int, Job]) -> dict[int, StartRange]:
        """Ranges as they are shown; those of jobs that are new, and one of another, are noted to see how they do."""
        now = planned.at_ms
        drawn = ranges_of(courses, planned.starts, jobs, now)
        self.calibration.settle(now)
        found, later = dict[int, StartRange](), [job for job in drawn if job in self._known]
        chosen = later[now // 1000 % len(later)] if later else 0
        for group, numbers in self._groups(drawn, jobs).items():
            for job, waits, seen in list(self._shown(group, numbers, drawn, planned)):
                found[job] = _range(waits, now, seen)
                if group[0] == "new" or job == chosen:
                    self.calibration.note(group, job, now, drawn[job], waits, planned.wait_s(job))
        self._known = set(drawn)
        return found

    # -- of jobs that nobody has submitted ---------------------------------------------------------

    @property
    def knows(self) -> bool:
        """True once ranges were worked out, so that those of drafts may be asked for."""
        return self._present is not None

    def of_jobs(self, user: str, jobs: tuple[SupposedJob, ...]) -> Foreseen | None:
        """What is expected of jobs of a user that nobody has submitted; None while it isn't known.

        It is worked out by the thread, which says when it is there; without one, at once.
        """
        present, known = self._present, self._answers.get((user, jobs))
        if present is None:
            return None
        if self._thread is None:
            return self._answer(present, user, jobs)
        if known is None or (known.present is not present and time.monotonic() - known.made_s > ANEW_S):
            self._asked[user] = jobs
            self._woken.set()
        return known.foreseen if known is not None else None

    def known_of(self, user: str, jobs: tuple[SupposedJob, ...]) -> Foreseen | None:
        """What is known by now of jobs of a user that nobody has submitted."""
        known = self._answers.get((user, jobs))
        return known.foreseen if known is not None else None

    def _answer_asked(self) -> None:
        while self._asked and (present := self._present) is not None:
            self._answer(present, *self._asked.popitem())
            self.session.say_foreseen(self.session.ranges, anew=True)

    def _answer(self, present: Present, user: str, jobs: tuple[SupposedJob, ...]) -> Foreseen | None:
        found = self._foreseen(present, user, jobs)
        if len(self._answers) > MOST_ANSWERS:
            self._answers.clear()
        self._answers[user, jobs] = _Answer(present, time.monotonic(), found)
        return found

    def _foreseen(self, present: Present, user: str, jobs: tuple[SupposedJob, ...]) -> Foreseen | None:
        try:
            asked, numbers = present.with_jobs(user, jobs)
        except QuarryError:
            return None  # it would not be accepted
        planned, began, now = PlannedStarts(asked), time.thread_time(), present.at_ms
        told = [number for number in numbers.values() if number in planned.starts and number in planned.soonest]
        times, courses = DrawnTimes(self.times, now, SEED, DRAWS), list[Course]()
        for draw in range(DRAWS if told else 0):
            courses.append(course_of(asked, times, draw, told, to_end=len(jobs) > 1))
            if len(courses) >= FIRST and time.thread_time() - began > ANSWER_S:
                break
        drawn = ranges_of(courses, planned.starts, told, now)
        names = {number: name for name, number in numbers.items()}
        groups = dict[Group, list[int]]()
        for one in jobs:
            if numbers[one.name] in drawn:
                groups.setdefault(("new", one.request.tier), []).append(numbers[one.name])
        ranges = {
            names[number]: _range(waits, now, seen)
            for group, each in groups.items()
            for number, waits, seen in self._shown(group, each, drawn, planned)
        }
        ends = [max((one.ends[number] for number in told if number in one.ends), default=now) for one in courses]
        return Foreseen(ranges, int(np.median(ends)) if ends and len(jobs) > 1 else None)

    # -- its thread and its file -------------------------------------------------------------------

    def start(self) -> None:
        """Work by itself from now on."""
        self._thread = threading.Thread(target=self._work, daemon=True, name="foresight")
        self._thread.start()

    def close(self) -> None:
        """Stop working, and keep what is known."""
        self._left.set()
        self._woken.set()
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
            if self._woken.wait(left):
                self._woken.clear()
                if self._left.is_set():
                    raise _Left
                self._answer_asked()
        return time.monotonic() - began

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


@dataclass(frozen=True, slots=True)
class _Answer:
    """What was foreseen from a present on."""

    present: Present
    made_s: float
    foreseen: Foreseen | None


class _Left(Exception):
    """It is to stop in the middle of its work."""


def _whole(number: int) -> int:
    """An array for one of its tasks."""
    return number // TASK_SPAN if number >= TASK_SPAN else number


def _range(waits: Waits, now_ms: int, checked: int) -> StartRange:
    early, likely, late = (now_ms + round(one * 1000) for one in (waits.early_s, waits.likely_s, waits.late_s))
    return StartRange(early, likely, late, checked)
