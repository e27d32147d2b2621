"""Studies of a site's own past, each beside the engine: with progress, and a way to stop."""

import threading
import time
from collections.abc import Callable, Sequence

from lazy_quarry.core.instants import parse_since
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.plan.policies import POLICIES
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import BadValue, QuarryError, Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import Journal
from lazy_quarry.study.own_forecasts import forecasts_of
from lazy_quarry.study.own_past import as_it_was, study
from lazy_quarry.study.past import NEEDED, past_of
from lazy_quarry.study.what_if import what_if
from lazy_quarry.views.study_view import StudyView

Told = Callable[[StudyView], bool]
"""Is told how far a study is; says whether to go on."""
Apart = Callable[[StudyView, Told], bool]
"""Makes a study in a process of its own; returns False where none can be had."""
USUAL_DAYS, MOST_JOBS, AT_ONCE, MOST_FORECASTS = 30, 100_000, 2_000, 10_000
WORK_S, REST_S = 0.05, 0.01
"""In a thread of the engine it works so long at a time, and rests so long, so that the engine and calls come first."""


class Studies:
    """One study at a time; the last one stays to be read."""

    def __init__(self, session: Session, apart: Apart | None = None) -> None:
        """``apart`` makes a study in a process of its own; without it, or where it can't, a thread does."""
        self.session, self.apart = session, apart
        self._view: StudyView | None = None
        self._stop = threading.Event()
        self._lock = threading.Lock()

    def begin_study(
        self,
        caller: Caller,
        policies: Sequence[str],
        since: str = "",
        settings: Sequence[str] | None = None,
        sample: int = 0,
    ) -> StudyView:
        """Begin one; see :meth:`SiteClient.begin_study`. Raises :class:`BadValue`, and :class:`Refused` beside another one."""
        if wrong := next((one for one in policies if one not in POLICIES), None):
            raise BadValue(f'there is no policy "{wrong}"; there are {", ".join(POLICIES)}')
        if not 0 <= sample <= MOST_FORECASTS:
            raise BadValue(f"forecasts are tried of 1 to {MOST_FORECASTS:,} jobs")
        if not policies and not sample:
            raise BadValue(f"name policies: {', '.join(POLICIES)}")
        session = self.session
        now = session.now()
        begin = parse_since(since, now, session.zone) if since else now - USUAL_DAYS * DAY_MS
        what_if(session.site, settings or ())  # which says what can't be supposed
        with self._lock:
            if self._view is not None and not self._view.over:
                raise Refused("another study is at work; stop it first")
            number = self._view.number + 1 if self._view is not None else 1
            self._stop.clear()
            self._view = StudyView(
                number,
                tuple(dict.fromkeys(policies)),
                begin,
                tuple(settings or ()),
                0,
                own=session.site.policy,
                sample=sample,
            )
        threading.Thread(target=self._run, args=(self._view,), daemon=True, name="study").start()
        return self._view

    def studied(self, caller: Caller) -> StudyView:
        """The progress of the last study. Raises :class:`Refused` where there was none."""
        view = self._view
        if view is None:
            raise Refused("nothing was studied yet")
        return view

    def stop_study(self, caller: Caller) -> StudyView:
        """Stop the study that is at work."""
        self._stop.set()
        return self.studied(caller)

    def _run(self, view: StudyView) -> None:
        if self.apart is None or not self.apart(view, self._told):
            rested = time.monotonic()

            def told(found: StudyView) -> bool:
                nonlocal rested
                if time.monotonic() - rested > WORK_S:
                    time.sleep(REST_S)
                    rested = time.monotonic()
                return self._told(found)

            make_study(self.session, view, told)
        assert self._view is not None
        if not self._view.over:
            self._view = replace(self._view, over=True, policy="", done=0)

    def _told(self, found: StudyView) -> bool:
        self._view = found
        return not self._stop.is_set()


def make_study(session: Session, view: StudyView, told: Told) -> None:
    """Make a study, from a view of it that says what is asked; ``told`` gets a view for each step, and at last one that is over.

    Nothing is raised: what goes wrong is the view's ``problem``.
    """
    try:
        view = _made(session, view, told)
    except QuarryError as fault:
        view = replace(view, problem=str(fault))
    except Exception as fault:  # a fault of our own must not leave it at work for ever
        view = replace(view, problem=f"the study came to no end: {fault!r}")
    told(replace(view, over=True, policy="", done=0))


def _made(session: Session, view: StudyView, told: Told) -> StudyView:
    other = what_if(session.site, view.settings)
    with session.lock:
        live = session.engine.state.jobs
        arrays = [live[number] for number in sorted(live.arrays)]
    bounds = session.journal.events_of_kinds([one.kind for one in NEEDED])
    past = past_of(_ended(session.journal, view.since_ms), view.since_ms, bounds, arrays)
    view = replace(view, jobs=past.count, rows=(as_it_was(past, session.site.cores),))
    asked, go_on = other.past(past), told(view)
    for policy in view.policies:
        if not go_on:
            return view

        def each(done: int, _: int, view: StudyView = view, policy: str = policy) -> bool:
            return told(replace(view, policy=policy, done=done))

        found = study(other.site, asked, policy, each, session.engine.plans.planner.kernels)
        if found is None:
            return view
        view = replace(view, rows=(*view.rows, found))
        go_on = told(view)
    if view.sample and go_on:

        def said(done: int, _: int) -> bool:
            return told(replace(view, policy="forecasts", done=done))

        made = forecasts_of(other.site, asked, view.sample, said, session.engine.plans.planner.kernels)
        return view if made is None else replace(view, forecasts=tuple(made))
    return view


def _ended(journal: Journal, since_ms: int) -> list[Job]:
    """Jobs and tasks that ended since, the newest of them where there are too many."""
    found, at, last = list[Job](), since_ms - 1, 0
    while jobs := journal.ended_after(at, last, AT_ONCE):
        found += jobs
        at, last = jobs[-1].ended_ms or at, jobs[-1].number
    return found[-MOST_JOBS:]
