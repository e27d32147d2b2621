"""Expectations of jobs that nobody has submitted: drafts and chains. They are worked out when somebody asks, beside all else."""

import threading
import time
from collections.abc import Callable, Mapping

import numpy as np
from msgspec import Struct

from lazy_quarry.core.advice.forecast_calibration import Group, Hindsight, Waits
from lazy_quarry.core.advice.forward_draws import Present, SupposedJob
from lazy_quarry.core.advice.outlook import DRAWS, Outlook
from lazy_quarry.core.advice.run_times import RunTimes
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.job_view import StartRange

FIRST = 3
"""Number of draws after which something is told of jobs of which nothing is known."""
ANSWER_S = 3.0
"""CPU time after which no more than the first few draws are made."""
MOST_ANSWERS, ANEW_S = 200, 20.0
"""Number of answers that are kept, and the seconds for which one is current though the site has changed."""
Jobs = tuple[SupposedJob, ...]


class Foreseen(Struct, frozen=True):
    """Expectations of jobs that nobody has submitted: ranges of starts by name, and for several the middle of when all end."""

    ranges: Mapping[str, StartRange]
    ends_ms: int | None = None


class _Answer(Struct, frozen=True):
    """The course of jobs as foreseen from a present on."""

    present: Present
    made_s: float
    foreseen: Foreseen | None


class SupposedJobs:
    """Keeps what was asked and answered. ``told`` is called with each new answer."""

    def __init__(self, times: RunTimes, calibration: Hindsight, told: Callable[[], None]) -> None:
        self.times, self.calibration, self._told = times, calibration, told
        self.present: Present | None = None
        """The site as it was seen last."""
        self.by_thread = False
        """True when a thread calls :meth:`answer`; else who asks waits for it."""
        self.woken = threading.Event()
        """Set when something was asked."""
        self._asked: dict[str, Jobs] = {}
        """The last jobs of each user of which nothing is known yet."""
        self._answers: dict[tuple[str, Jobs], _Answer] = {}

    def of(self, user: str, jobs: Jobs) -> Foreseen | None:
        """Expectations of a user's jobs; None while they aren't known."""
        present, known = self.present, self._answers.get((user, jobs))
        if present is None:
            return None
        if not self.by_thread:
            return self._answered(present, user, jobs)
        if known is None or (known.present is not present and time.monotonic() - known.made_s > ANEW_S):
            self._asked[user] = jobs
            self.woken.set()
        return known.foreseen if known is not None else None

    def known_of(self, user: str, jobs: Jobs) -> Foreseen | None:
        """All that is known by now."""
        known = self._answers.get((user, jobs))
        return known.foreseen if known is not None else None

    def answer(self) -> None:
        """Answer all that was asked."""
        while self._asked and (present := self.present) is not None:
            self._answered(present, *self._asked.popitem())
            self._told()

    def _answered(self, present: Present, user: str, jobs: Jobs) -> Foreseen | None:
        found = self._foreseen(present, user, jobs)
        if len(self._answers) > MOST_ANSWERS:
            self._answers.clear()
        self._answers[user, jobs] = _Answer(present, time.monotonic(), found)
        return found

    def _foreseen(self, present: Present, user: str, jobs: Jobs) -> Foreseen | None:
        try:
            asked, numbers = present.with_jobs(user, jobs)
        except QuarryError:
            return None  # it would not be accepted
        outlook, began = Outlook(asked, self.times), time.thread_time()
        starts, soonest = outlook.planned.starts, outlook.planned.soonest
        told = [number for number in numbers.values() if number in starts and number in soonest]
        for draw in range(DRAWS if told else 0):
            if draw >= FIRST and time.thread_time() - began > ANSWER_S:
                break
            outlook.draw(told, to_end=len(jobs) > 1)
        drawn, ranges = outlook.drawn(told), dict[str, StartRange]()
        groups = dict[Group, dict[str, int]]()
        for one in jobs:
            if numbers[one.name] in drawn:
                groups.setdefault(("new", one.request.tier), {})[one.name] = numbers[one.name]
        for group, each in groups.items():
            shown = outlook.shown(self.calibration, group, {number: drawn[number] for number in each.values()})
            seen = self.calibration.seen(group)
            for name, (_, waits) in zip(each, shown, strict=True):
                ranges[name] = range_at(waits, present.at_ms, seen)
        now = present.at_ms
        ends = [max((one.ends[job] for job in told if job in one.ends), default=now) for one in outlook.courses]
        return Foreseen(ranges, int(np.median(ends)) if ends and len(jobs) > 1 else None)


def range_at(waits: Waits, now_ms: int, checked: int) -> StartRange:
    """A forecast as the instants that people see."""
    early, likely, late = (now_ms + round(one * 1000) for one in (waits.early_s, waits.likely_s, waits.late_s))
    return StartRange(early, likely, late, checked)
