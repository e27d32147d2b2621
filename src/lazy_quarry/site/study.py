"""Studies of a site's own past, each in a thread beside the engine: with progress, and a way to stop."""

import threading
import time
from collections.abc import Sequence
from dataclasses import replace

from lazy_quarry.core.instants import parse_since
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.plan.policies import POLICIES
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.errors import BadValue, QuarryError, Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.present import Present
from lazy_quarry.site.study_view import StudyView
from lazy_quarry.study.own_past import as_it_was, study
from lazy_quarry.study.past import BOUNDS, Past, past_of
from lazy_quarry.study.what_if import WhatIf, what_if

USUAL_DAYS, MOST_JOBS, AT_ONCE = 30, 100_000, 2_000
WORK_S, REST_S = 0.05, 0.01
"""It works so long at a time, and rests so long, so that the engine and calls come first."""


class Studies:
    """One study at a time; the last one stays to be read."""

    def __init__(self, present: Present) -> None:
        self.present = present
        self._view: StudyView | None = None
        self._stop = threading.Event()
        self._lock = threading.Lock()

    def begin_study(
        self, caller: Caller, policies: Sequence[str], since: str = "", settings: Sequence[str] | None = None
    ) -> StudyView:
        """Begin one; see :meth:`SiteClient.begin_study`. Raises :class:`BadValue`, and :class:`Refused` beside another one."""
        if wrong := next((one for one in policies if one not in POLICIES), None):
            raise BadValue(f'there is no policy "{wrong}"; there are {", ".join(POLICIES)}')
        if not policies:
            raise BadValue(f"name policies: {', '.join(POLICIES)}")
        present = self.present
        now = present.now()
        begin = parse_since(since, now, present.zone) if since else now - USUAL_DAYS * DAY_MS
        other = what_if(present.site, settings or ())
        with present.lock:
            live = present.engine.state.jobs
            arrays = [live[number] for number in sorted(live.arrays)]
        with self._lock:
            if self._view is not None and not self._view.over:
                raise Refused("another study is at work; stop it first")
            number = self._view.number + 1 if self._view is not None else 1
            self._stop.clear()
            self._view = StudyView(
                number, tuple(dict.fromkeys(policies)), begin, tuple(settings or ()), 0, own=present.site.policy
            )
        threading.Thread(target=self._run, args=(other, arrays), daemon=True, name="study").start()
        return self._view

    def studied(self, caller: Caller) -> StudyView:
        """How far the last study is. Raises :class:`Refused` where there was none."""
        view = self._view
        if view is None:
            raise Refused("nothing was studied yet")
        return view

    def stop_study(self, caller: Caller) -> StudyView:
        """Stop the study that is at work."""
        self._stop.set()
        return self.studied(caller)

    def _run(self, other: WhatIf, arrays: Sequence[Job]) -> None:
        assert self._view is not None
        try:
            present, since = self.present, self._view.since_ms
            bounds = present.journal.events_of_kinds([one.kind for one in BOUNDS])
            past = past_of(self._ended(since), since, bounds, arrays)
            self._view = replace(self._view, jobs=past.count, rows=(as_it_was(past, present.site.cores),))
            asked = other.past(past)
            for policy in self._view.policies:
                if not self._one(other, asked, policy):
                    break
        except QuarryError as fault:
            self._view = replace(self._view, problem=str(fault))
        except Exception as fault:  # a fault of our own must not leave it at work for ever
            self._view = replace(self._view, problem=f"the study came to no end: {fault!r}")
        self._view = replace(self._view, over=True, policy="", done=0)

    def _one(self, other: WhatIf, past: Past, policy: str) -> bool:
        rested = time.monotonic()

        def told(done: int, _: int) -> bool:
            nonlocal rested
            if time.monotonic() - rested > WORK_S:
                assert self._view is not None
                self._view = replace(self._view, policy=policy, done=done)
                time.sleep(REST_S)
                rested = time.monotonic()
            return not self._stop.is_set()

        found = study(other.site, past, policy, told, self.present.engine.plans.planner.kernels)
        if found is not None and self._view is not None:
            self._view = replace(self._view, rows=(*self._view.rows, found))
        return found is not None

    def _ended(self, since_ms: int) -> list[Job]:
        """Jobs and tasks that ended since, the newest of them where there are too many."""
        found, at, last = list[Job](), since_ms - 1, 0
        while jobs := self.present.journal.ended_after(at, last, AT_ONCE):
            found += jobs
            at, last = jobs[-1].ended_ms or at, jobs[-1].number
        return found[-MOST_JOBS:]
