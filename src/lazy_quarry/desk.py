"""Where a site's engine, journal and runner meet: every command goes through here, journal first.

The desk of the demo lives in the application; that of this machine in a process of its own. Calls are
answered one at a time, so none sees another half done.
"""

import threading
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import UTC, tzinfo

from lazy_quarry.core.engine import Engine
from lazy_quarry.core.events import (
    CancelJob,
    CancelTask,
    Command,
    Ended,
    Event,
    Finish,
    Held,
    HoldJob,
    NodeClosed,
    ReleaseJob,
    Schedule,
    Started,
    Stopping,
    Submit,
    Submitted,
)
from lazy_quarry.core.header.diagnostic import error
from lazy_quarry.core.job import TASK_SPAN, Job, Origin, Phase, outlook
from lazy_quarry.core.request import Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.trial import trial_of
from lazy_quarry.errors import NoSuchJob, Refused, StateFolderError
from lazy_quarry.reading import Reading
from lazy_quarry.run.modules import needed
from lazy_quarry.run.runner import Runner
from lazy_quarry.store.journal import EndedFilter, Journal
from lazy_quarry.views import (
    ClockView,
    Receipt,
    Submission,
    Told,
    output_path,
    start_directory,
)


class Desk(Reading):
    """One site in use, with what can be done there. ``clock`` gives the present instant in milliseconds."""

    def __init__(
        self,
        site: Site,
        journal: Journal,
        runner: Runner,
        user: str,
        clock: Callable[[], int],
        zone: tzinfo = UTC,
    ) -> None:
        self.site, self.journal, self.runner = site, journal, runner
        self.user, self.clock, self.zone = user, clock, zone
        self.lock = threading.RLock()
        self.version = 0
        self.clock_view = ClockView("wall")
        self.stuck = ""
        """Why the journal could not be written last time, or empty."""
        self._changed = threading.Condition(self.lock)
        self._recent: list[Job] | None = None
        self.engine = Engine(site, journal.load())
        for closure in site.closures:
            if closure.node not in self.engine.state.closures and not journal.number:
                self._commit([NodeClosed(self.now(), closure.node, closure.reason)])
        if journal.adopted:
            self._disown()
        self.runner.start(list(self.engine.state.running()))
        for job in list(self.engine.state.running()):
            if job.stopping:
                self.runner.stop(job, job.stopping)

    def _disown(self) -> None:
        """In a copied folder: what ran belongs to the original, and what waits should not run twice."""
        now, events = self.now(), list[Event]()
        for job in self.engine.state.jobs.values():
            if job.phase is Phase.RUNNING:
                reason = "it ran from the folder that this one is a copy of"
                events.append(Ended(now, job.number, job.attempt, Phase.LOST, reason=reason))
            elif job.phase is Phase.WAITING:
                events.append(Held(now, job.number, "the copying of this folder"))
        self._commit(events)
        self.journal.settle_adoption()

    # -- moving on ---------------------------------------------------------------------------------

    def _commit(self, events: list[Event]) -> list[Job]:
        """Put events on disk, then into effect; returns the jobs that ended by them."""
        if not events:
            return []
        with self.lock:
            try:
                self.journal.append(events, self.engine.state)
            except StateFolderError as fault:
                self.stuck = str(fault)
                raise
            self.stuck = ""
            ended = self.engine.apply(events)
            if ended and self._recent is not None:
                self._recent = [*reversed(ended), *self._recent]
            self.version += 1
            self._changed.notify_all()
            return ended

    def take_in(self, events: list[Event]) -> None:
        """Put events that were decided elsewhere into the journal and into effect."""
        self._commit(events)

    def step(self, at_ms: int | None = None) -> bool:
        """Take in what has ended and start what the plan places at this instant; True when anything changed."""
        with self.lock:
            now = max(self.now(), at_ms or 0)
            before = self.version
            try:
                self._take_in(self.runner.reports(now))
                events = self.engine.decide(Schedule(at_ms or self.clock()))
                if any(isinstance(event, Started) for event in events) and self.runner.closed():
                    return self.version != before
                self._commit(events)
                started = [self.engine.state.jobs[event.job] for event in events if isinstance(event, Started)]
                if started:
                    self.runner.start(started)
            except StateFolderError:
                return self.version != before  # said in the notices; tried again at the next step
            return self.version != before

    def _take_in(self, reports: list[Finish]) -> None:
        once = {(report.job, report.attempt): report for report in reports}
        events = [event for report in once.values() for event in self.engine.decide(report)]
        self._commit(events)
        for number, attempt in once:
            self.runner.settled(number, attempt)

    def next_instant_ms(self) -> int | None:
        """When something could start though nothing has ended: a window is over, a not-before has come."""
        now = self.now()
        waiting = (
            job.request.not_before_ms or 0 for job in self.engine.state.jobs.values() if job.phase is Phase.WAITING
        )
        instants = [*waiting, *(window.ends_ms for window in self.site.windows)]
        return min((at for at in instants if at > now), default=None)

    def wait_change(self, since: int, timeout_s: float) -> int:
        """The version, as soon as it is past ``since`` or the time is over."""
        with self._changed:
            self._changed.wait_for(lambda: self.version > since, timeout_s)
            return self.version

    # -- commands ----------------------------------------------------------------------------------

    def submit(self, submission: Submission) -> Receipt:
        """Check a script and take it in, or say what must change first."""
        with self.lock:
            checked = self._check(submission)
            diagnostics = checked.diagnostics
            request = checked.request
            if request is not None and not checked.refused and request.after:
                request, problem = self._resolved(request)
                if problem:
                    line = dict(checked.lines).get("after", 1)
                    return Receipt(None, None, self.now(), (error("after", problem, line), *diagnostics))
            if request is not None and not checked.refused:
                self._need_runner()
                return self._admit(submission, request, diagnostics)
            return Receipt(None, None, self.now(), diagnostics)

    def try_one(self, submission: Submission, task: int | None = None, values: dict[str, str] | None = None) -> Receipt:
        """Run one task of a draft in the site's trial tier, or say what must change first.

        Raises :class:`Refused` where the site has no such tier, or the draft no such task.
        """
        with self.lock:
            checked = self._check(submission)
            beside = ("not-yet", "over-limit", "budget")
            errors = [one for one in checked.diagnostics if one.severity == "error" and one.code not in beside]
            if checked.request is None or errors:
                return Receipt(None, None, self.now(), checked.diagnostics)
            self._need_runner()
            request = trial_of(checked.request, self.site, task, values)
            return self._admit(submission, request, checked.diagnostics)

    def _need_runner(self) -> None:
        if closed := self.runner.closed():
            raise Refused(f"not submitted: {closed}")

    def _admit(self, submission: Submission, request: Request, diagnostics: tuple) -> Receipt:
        """Take it in, unless its folder, output or input cannot be had."""
        if blocked := self._blocked(request, submission):
            return Receipt(None, None, self.now(), (error("path", blocked, 1), *diagnostics))
        return self._take(submission, request, diagnostics)

    def _take(self, submission: Submission, request: Request, diagnostics: tuple) -> Receipt:
        origin = Origin(
            submission.script,
            submission.path,
            submission.directory,
            submission.environment if request.inherit else _plain(submission.environment, bool(request.modules)),
            submission.overrides,
        )
        events = self.engine.decide(Submit(self.now(), self.user, request, origin))
        self._commit(events)
        number = next(event.job for event in events if isinstance(event, Submitted))
        self.step()
        job = self.engine.state.jobs.get(number)
        forecast = None
        if job is not None and job.started_ms is not None:
            forecast = job.started_ms
        elif any(self.engine.state.tasks.get(number, ())):
            forecast = self.now()
        elif (placed := self._plan().placements.get(number)) is not None:
            forecast = placed.start_ms
        return Receipt(number, forecast, self.now(), diagnostics, request.array.count if request.array else None)

    def _resolved(self, request: Request) -> tuple[Request, str]:
        """The request with what it waits for by number, what is met left out; and why it could never start."""
        open_: list[tuple[str, str]] = []
        for word, condition in request.after:
            number = int(word) if word.isdecimal() else self._newest(word)
            live = self.engine.state.jobs.get(number or 0)
            job = live or (self.journal.ended_job(number) if number else None)
            if job is None or number is None or number >= TASK_SPAN:
                return request, f"after: there is no job {word}" + ("" if word.isdecimal() else " of yours")
            begun = job.started_ms is not None or bool(self.engine.state.tasks.get(number))
            met = outlook(condition, None if live is not None else job.phase)
            if live is not None and not (begun and condition == "begins"):
                open_.append((str(number), condition))
            elif not met:
                return request, f"after: {number} {job.request.name} ended {job.phase}, so this could never start"
        return replace(request, after=tuple(open_)), ""

    def _newest(self, name: str) -> int | None:
        """The person's newest job of a name."""
        live = [
            job.number
            for job in self.engine.state.jobs.values()
            if job.parent is None and job.user == self.user and job.request.name == name
        ]
        ended = self.journal.ended(EndedFilter(user=self.user, name=name, limit=200))
        found = [*live, *(job.number for job in ended if job.parent is None)]
        return max(found, default=None)

    def _blocked(self, request: Request, submission: Submission) -> str:
        job = Job(self.engine.state.next_number, self.user, request, Origin("", "", submission.directory), self.now())
        paths = [output_path(job, request.output)]
        if request.errors != "joined":
            paths.append(output_path(job, request.errors))
        return self.runner.blocked(
            start_directory(job), [path for path in paths if "{node}" not in path], request.input
        )

    def hold(self, jobs: list[int]) -> list[Told]:
        """Keep waiting jobs from starting."""
        return self._each(jobs, lambda number: HoldJob(self.now(), number, self.user), "held")

    def release(self, jobs: list[int]) -> list[Told]:
        """Let held jobs start."""
        return self._each(jobs, lambda number: ReleaseJob(self.now(), number, self.user), "released")

    def cancel(self, jobs: list[int]) -> list[Told]:
        """End waiting jobs, stop running ones."""
        return self._each(jobs, self._cancelling, "cancelled")

    def _cancelling(self, number: int) -> Command:
        if number < TASK_SPAN:
            return CancelJob(self.now(), number, self.user)
        return CancelTask(self.now(), number // TASK_SPAN, number % TASK_SPAN - 1, self.user)

    def _each(self, jobs: list[int], command: Callable[[int], Command], done: str) -> list[Told]:
        told = []
        with self.lock:
            for number in dict.fromkeys(jobs):
                try:
                    events = self.engine.decide(command(number))
                    self._commit(events)
                except NoSuchJob as fault:
                    told.append(Told(number, False, str(fault), known=False))
                    continue
                except Refused as fault:
                    told.append(Told(number, False, str(fault)))
                    continue
                for event in events:
                    if isinstance(event, Stopping):
                        self.runner.stop(self.engine.state.jobs[event.job], event.cause)
                stopping = any(isinstance(event, Stopping) for event in events)
                label = self._label(number)
                told.append(
                    Told(number, True, f"{label} is being stopped" if stopping or not events else f"{label} {done}")
                )
            self.step()
        return told


def _plain(environment: Iterable[tuple[str, str]], modules: bool) -> tuple[tuple[str, str], ...]:
    """What every job gets of its submitter's environment, and those that load modules besides."""
    given: dict[str, str] = dict(environment)
    kept = {name: given[name] for name in ("HOME", "USER", "PATH", "LANG") if name in given}
    return tuple((kept | (needed(given) if modules else {})).items())
