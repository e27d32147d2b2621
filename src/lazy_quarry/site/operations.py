"""Where a site's engine, journal and runner meet: every command goes through here, journal first.

The desk of the demo lives in the application; that of this machine in a process of its own. Calls are
answered one at a time, so none sees another half done.
"""

import threading
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import UTC, tzinfo
from typing import Literal

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import (
    CancelJob,
    CancelTask,
    ChangeJob,
    CloseNode,
    Command,
    Ended,
    Event,
    Finish,
    Held,
    HoldJob,
    LoseNode,
    NodeClosed,
    OpenNode,
    OrderJobs,
    ReleaseJob,
    Reserve,
    Schedule,
    Started,
    Stopping,
    Submit,
    Submitted,
    Unreserve,
)
from lazy_quarry.core.header.diagnostic import error
from lazy_quarry.core.job.job import EACH, TASK_SPAN, Job, Origin, Phase, outlook
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.job.trial import trial_of
from lazy_quarry.core.plan.standing import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.site import Site, Window
from lazy_quarry.core.units import plural
from lazy_quarry.errors import NoSuchJob, Refused, StateFolderError
from lazy_quarry.probe.modules import needed
from lazy_quarry.run.runner import Runner
from lazy_quarry.site.queries import MOST_TASKS, Queries
from lazy_quarry.site.views import (
    ClockView,
    Outcome,
    Receipt,
    Submission,
    output_path,
    start_directory,
)
from lazy_quarry.store.journal import EndedFilter, Journal

_NODE_DONE = {
    "close": "takes no more jobs; what runs there goes on",
    "open": "takes jobs again",
    "lost": "is told as gone; its jobs run again as their headers say",
}
_OF_SUBMITTING = ("output-overwrites", "results-overwritten")
"""Checks that say nothing of a job that was submitted already."""


class Operations(Queries):
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
        self._ended_views, self._warned, self._usual = {}, {}, {}
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
                self._pass_on(events)
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
        instants = [*waiting, *(window.ends_ms for window in self.engine.windows)]
        instants += [window.begins_ms for window in self.engine.windows if window.reserved]
        if any(job.phase is Phase.WAITING for job in self.engine.state.jobs.values()):
            instants.append(use_updated_at(now) + USE_UPDATE_MS)
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
        try:
            freed_tasks, doomed_tasks = self._paired(request)
            events = self.engine.decide(Submit(self.now(), self.user, request, origin, freed_tasks, doomed_tasks))
        except Refused as fault:
            return Receipt(None, None, self.now(), (error("over-limit", str(fault), 1), *diagnostics))
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
            if condition == EACH:
                if problem := _unlike(request, job):
                    return request, f"after: {problem}"
                open_.append((str(number), condition))
                continue
            begun = job.started_ms is not None or bool(self.engine.state.tasks.get(number))
            met = outlook(condition, None if live is not None else job.phase)
            if live is not None and not (begun and condition == "begins"):
                open_.append((str(number), condition))
            elif not met:
                return request, f"after: {number} {job.request.name} ended {job.phase}, so this could never start"
        return replace(request, after=tuple(open_)), ""

    def _paired(self, request: Request) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Of an array that waits task by task for another: which of its tasks may start, and which never can."""
        array = request.array
        other = next((int(number) for number, condition in request.after if condition == EACH), None)
        if array is None or other is None:
            return (), ()
        freed_tasks, doomed_tasks, heard = set[int](), set[int](), set[int]()
        for task in self.journal.ended(EndedFilter(array=other, limit=MOST_TASKS)):
            index = array.index(task.request.task or 0)
            if index is not None:
                heard.add(index)
                (freed_tasks if task.phase is Phase.DONE else doomed_tasks).add(index)
        if other not in self.engine.state.jobs:  # it has ended: of the rest nothing more will be heard
            doomed_tasks |= set(range(array.count)) - heard
        return tuple(sorted(freed_tasks)), tuple(sorted(doomed_tasks))

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

    def hold(self, jobs: list[int]) -> list[Outcome]:
        """Keep waiting jobs from starting."""
        return self._each(jobs, lambda number: HoldJob(self.now(), number, self.user), "held")

    def release(self, jobs: list[int]) -> list[Outcome]:
        """Let held jobs start."""
        return self._each(jobs, lambda number: ReleaseJob(self.now(), number, self.user), "released")

    def cancel(self, jobs: list[int]) -> list[Outcome]:
        """End waiting jobs, stop running ones."""
        return self._each(jobs, self._cancelling, "cancelled")

    def _cancelling(self, number: int) -> Command:
        if number < TASK_SPAN:
            return CancelJob(self.now(), number, self.user)
        return CancelTask(self.now(), number // TASK_SPAN, number % TASK_SPAN - 1, self.user)

    def change(self, jobs: list[int], settings: list[str]) -> list[Outcome]:
        """PlanRequest for something else on behalf of jobs that have not started: header keys, as for ``--set``."""
        return self._each(jobs, lambda number: self._changing(number, settings), "changed")

    def _changing(self, number: int, settings: list[str]) -> Command:
        job = self._find(number)
        if job.user != self.user:
            raise Refused(f"{number} belongs to {job.user}; you may change only your own jobs")
        origin = job.origin
        overrides = (*origin.overrides, *settings)
        arguments = job.request.arguments
        submission = Submission(origin.script, origin.path, origin.directory, overrides, arguments, origin.environment)
        checked = self._check(submission)
        errors = [one for one in checked.diagnostics if one.severity == "error" and one.code not in _OF_SUBMITTING]
        if checked.request is None or errors:
            what = errors[0].message if errors else "the header can't be made out"
            raise Refused(f"{job.label} stays as it is: {what}")
        request = checked.request
        if request.after:
            request, problem = self._resolved(request)
            if problem:
                raise Refused(f"{job.label} stays as it is: {problem}")
        return ChangeJob(self.now(), number, self.user, request, tuple(settings))

    def order(self, jobs: list[int]) -> Outcome:
        """Put one's own waiting jobs into this order, before one's others; it moves nobody else's."""
        with self.lock:
            try:
                self._commit(self.engine.decide(OrderJobs(self.now(), self.user, tuple(jobs))))
            except (Refused, NoSuchJob) as fault:
                return Outcome(jobs[0] if jobs else 0, False, str(fault), isinstance(fault, Refused))
            self.step()
            return Outcome(jobs[0] if jobs else 0, True, f"your order now begins with {', '.join(map(str, jobs[:5]))}")

    def again(self, jobs: list[int]) -> list[Outcome]:
        """Submit jobs again, each as it was; what is told names the new one."""
        told = []
        with self.lock:
            for number in dict.fromkeys(jobs):
                try:
                    job = self._find(number)
                    if job.user != self.user:
                        raise Refused(f"{number} belongs to {job.user}; you may run only your own jobs again")
                    whole = self._find(job.parent) if job.parent is not None else job
                    origin, settings = whole.origin, whole.origin.overrides
                    if job.parent is not None:
                        raise Refused(
                            f"{job.label} is a task; run {job.parent} again, or draft it with tasks = {job.request.task}"
                        )
                    receipt = self.submit(
                        Submission(
                            origin.script,
                            origin.path,
                            origin.directory,
                            settings,
                            whole.request.arguments,
                            origin.environment,
                        )
                    )
                except (Refused, NoSuchJob) as fault:
                    told.append(Outcome(number, False, str(fault), isinstance(fault, Refused)))
                    continue
                if receipt.job is None:
                    first = next((one.message for one in receipt.diagnostics if one.severity == "error"), "")
                    told.append(Outcome(number, False, f"{number} was not submitted again: {first}"))
                else:
                    told.append(Outcome(receipt.job, True, f"{number} runs again as {receipt.job}"))
        return told

    def nodes(self, names: list[str], what: Literal["close", "open", "lost"], reason: str = "") -> list[Outcome]:
        """Give nodes no more jobs, open them again, or tell that they have gone with all that ran on them."""
        told = []
        with self.lock:
            for name in names:
                now = self.now()
                command: Command
                if what == "open":
                    command = OpenNode(now, name)
                elif what == "close":
                    command = CloseNode(now, name, reason or "closed by hand")
                else:
                    command = LoseNode(now, name, reason or "it has gone")
                told.append(self._do(command, f"node {name} {_NODE_DONE[what]}"))
            self.step()
        return told

    def reserve(self, window: Window) -> Outcome:
        """Keep nodes free of jobs for a time, or for some people's alone; one of the same name is replaced."""
        with self.lock:
            told = self._do(
                Reserve(self.now(), window, self.user), f"{window.name}: {plural(len(window.nodes), 'node')} reserved"
            )
            self.step()
            return told

    def unreserve(self, name: str) -> Outcome:
        """Take a reservation back."""
        with self.lock:
            told = self._do(Unreserve(self.now(), name, self.user), f"{name} is taken back")
            self.step()
            return told

    def _do(self, command: Command, done: str) -> Outcome:
        """Carry out a command that is about no job."""
        try:
            events = self.engine.decide(command)
        except Refused as fault:
            return Outcome(0, False, str(fault))
        self._commit(events)
        self._pass_on(events)
        return Outcome(0, True, done)

    def _pass_on(self, events: list[Event]) -> None:
        """What was told to stop is stopped."""
        for event in events:
            if isinstance(event, Stopping):
                self.runner.stop(self.engine.state.jobs[event.job], event.cause)

    def _each(self, jobs: list[int], command: Callable[[int], Command], done: str) -> list[Outcome]:
        told = []
        with self.lock:
            for number in dict.fromkeys(jobs):
                try:
                    events = self.engine.decide(command(number))
                    self._commit(events)
                except NoSuchJob as fault:
                    told.append(Outcome(number, False, str(fault), known=False))
                    continue
                except Refused as fault:
                    told.append(Outcome(number, False, str(fault)))
                    continue
                self._pass_on(events)
                stopping = any(isinstance(event, Stopping) for event in events)
                label = self._label(number)
                told.append(
                    Outcome(number, True, f"{label} is being stopped" if stopping or not events else f"{label} {done}")
                )
            self.step()
        return told


def _unlike(request: Request, other: Job) -> str:
    """Why two jobs can't go task by task, or empty."""
    mine, theirs = request.array, other.request.array
    if mine is None:
        return "each-succeeds goes task by task, and this is no array"
    if theirs is None:
        return f"each-succeeds goes task by task, and {other.number} {other.request.name} is no array"
    if mine.count != theirs.count or any(
        mine.number(place) != theirs.number(place) for place in range(min(mine.count, 100_000))
    ):
        return f"each-succeeds goes task by task, and {other.number} {other.request.name} has other tasks"
    return ""


def _plain(environment: Iterable[tuple[str, str]], modules: bool) -> tuple[tuple[str, str], ...]:
    """What every job gets of its submitter's environment, and those that load modules besides."""
    given: dict[str, str] = dict(environment)
    kept = {name: given[name] for name in ("HOME", "USER", "PATH", "LANG") if name in given}
    return tuple((kept | (needed(given) if modules else {})).items())
