"""The changes of a site in use. Every command of a person goes through here, and into the journal first."""

from collections.abc import Callable, Iterable
from typing import Literal

from lazy_quarry.core.engine.commands import (
    CancelJob,
    CancelTask,
    ChangeJob,
    Command,
    HoldJob,
    OrderJobs,
    ReleaseJob,
    Submit,
)
from lazy_quarry.core.engine.events import Event, Stopping, Submitted
from lazy_quarry.core.engine.task_numbers import label_of
from lazy_quarry.core.header.diagnostic import Diagnostic, error
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import TASK_SPAN, Job, Origin, Phase, task_id
from lazy_quarry.core.job.ownership import refuse_others
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.job.start_size import too_long
from lazy_quarry.core.job.sweep import Array
from lazy_quarry.core.job.trial import trial_of
from lazy_quarry.core.units import plural
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.files.kinds import words_of
from lazy_quarry.probe.modules import needed
from lazy_quarry.run.node.kept_here import SCRATCH
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.dependencies import Dependencies
from lazy_quarry.site.dispatcher import Dispatcher
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.runs_again import RunsAgain
from lazy_quarry.site.session import Session
from lazy_quarry.site.trial_values import unused_in
from lazy_quarry.store.journal import MOST_TASKS, EndedFilter
from lazy_quarry.views.outcomes import Outcome, Receipt

_OF_SUBMITTING = ("output-overwrites", "results-overwritten")
"""Checks that say nothing of a job that was submitted already."""
_TRIED_ANYWAY = ("over-limit", "budget")
"""Errors that a trial does not have: it is shorter and smaller."""


class Operations:
    """Acts of people on jobs, nodes and reservations."""

    def __init__(self, session: Session, drafts: Drafts, dispatcher: Dispatcher) -> None:
        self.session, self.drafts, self.dispatcher = session, drafts, dispatcher
        self.dependencies = Dependencies(session)
        self.runs_again = RunsAgain(session)

    # -- submitting --------------------------------------------------------------------------------

    def submit(self, caller: Caller, submission: Submission) -> Receipt:
        """Check a script and take it in, or say what must change first."""
        return self._submitted(caller, submission, 0)

    def _submitted(self, caller: Caller, submission: Submission, again_of: int) -> Receipt:
        """The same of a job that runs another one again."""
        with self.session.lock:
            checked = self.drafts.checked(caller, submission)
            diagnostics, request = checked.diagnostics, checked.request
            if request is None or checked.refused:
                return self._refusal(diagnostics)
            request, problem = self.dependencies.resolved(caller.user, request)
            if problem:
                return self._refusal((error("after", problem, dict(checked.lines).get("after", 1)), *diagnostics))
            return self._take_in(caller, submission, request, diagnostics, again_of)

    def try_one(
        self, caller: Caller, submission: Submission, task: int | None = None, values: dict[str, str] | None = None
    ) -> Receipt:
        """Run one task of a draft in the site's trial tier, or say what must change first.

        Raises :class:`Refused` where the site has no such tier, or the draft no such task.
        """
        with self.session.lock:
            checked = self.drafts.checked(caller, submission)
            errors = [one for one in checked.diagnostics if one.severity == "error" and one.code not in _TRIED_ANYWAY]
            if checked.request is None or errors:
                return self._refusal(checked.diagnostics)
            if checked.request.array is None and (unused := unused_in(submission.script, values or {})):
                raise Refused(f"the script doesn't use ${{{unused}}}, so there is nothing to try with it")
            request = trial_of(checked.request, self.session.site, caller.user, task, values)
            return self._take_in(caller, submission, request, checked.diagnostics)

    def again(
        self, caller: Caller, jobs: list[int], settings: list[str] | None = None, failed: bool = False
    ) -> list[Outcome]:
        """Submit jobs again, each as it was but for these settings; the outcome names the new one.

        Tasks of an array are submitted together, as an array of these alone; with ``failed``, those of an array that failed.
        """
        with self.session.lock:
            if len({one if one < TASK_SPAN else one // TASK_SPAN for one in jobs}) == 1:
                return self.run_again(caller, jobs, settings or (), failed)
            with self.session.together():  # all that are taken in are, or none is
                outcomes = self.run_again(caller, jobs, settings or (), failed)
            self.dispatcher.step()
            return outcomes

    def run_again(self, caller: Caller, jobs: Iterable[int], settings: Iterable[str], failed: bool) -> list[Outcome]:
        """The same as a part of what is decided together."""
        tasks: dict[int, set[int]] = {}
        for number in jobs:
            if number < TASK_SPAN:
                tasks.setdefault(number, set())
            else:
                tasks.setdefault(number // TASK_SPAN, set()).add(number % TASK_SPAN - 1)
        return [self._again(caller, number, tuple(settings), places, failed) for number, places in tasks.items()]

    def _again(self, caller: Caller, number: int, settings: Iterable[str], places: set[int], failed: bool) -> Outcome:
        try:
            job = self.session.find(number)
            refuse_others(job.user, caller.user, job.label, "run only your own jobs again")
            places = self._failed(job) if failed else places
            root = self.runs_again.first(job)
            submission, array = _submission_of(job, settings), job.request.array
            if places and (array is None or not all(place < array.count for place in places)):
                raise NoSuchJob(f"{job.label} has no such tasks; lq expand {job.label} lists them")
            if array is not None and (early := places - {one.number % TASK_SPAN - 1 for one in self._ended(job)}):
                raise Refused(f"{job.label}/{array.number(min(early))} has not ended, so it can't run again yet")
            if array is not None and places:
                self._refuse_twice(job, array, places)
                receipt = self._submit_array(caller, submission, array.only(places), root.number)
            elif array is None or _of_array(settings):
                receipt = self._submitted(caller, submission, job.number if job.request.array is None else 0)
            else:
                receipt = self._submit_array(caller, submission, array, 0)
        except (Refused, NoSuchJob) as fault:
            return Outcome(number, False, str(fault), not isinstance(fault, NoSuchJob))
        if receipt.job is None:
            first = next((one.message for one in receipt.diagnostics if one.severity == "error"), "")
            return Outcome(number, False, f"{number} was not submitted again: {first}")
        verb = "run again" if len(places) > 1 else "runs again"
        what = f"{plural(len(places), 'task')} of {number}" if places else str(number)
        return Outcome(receipt.job, True, f"{what} {verb} as {receipt.job}")

    def _failed(self, job: Job) -> set[int]:
        """The places of an array's tasks that have failed."""
        if job.request.array is None:
            raise Refused(f"{job.label} is not an array, so it has no tasks")
        newest = self.runs_again.newest(self.runs_again.first(job))
        wrong, under_way = set[int](), 0
        for task in self._ended(job):
            now = newest.get(task.request.task or 0, task)
            under_way += not now.phase.final
            if now.phase.final and left_undone(now.phase, now.planned):
                wrong.add(task.number % TASK_SPAN - 1)
        if not wrong and under_way:
            raise Refused(f"all tasks of {job.label} that failed run again already; lq show {job.label} names them")
        if not wrong:
            raise Refused(f"no task of {job.label} has failed; lq again {job.label} runs all of them once more")
        return wrong

    def _refuse_twice(self, job: Job, array: Array, places: set[int]) -> None:
        """Raise :class:`Refused` where one of these tasks runs again already, or did so and is done."""
        newest = self.runs_again.newest(self.runs_again.first(job))
        for place in sorted(places):
            number = array.number(place)
            now = newest.get(number)
            if now is None or now.number == task_id(job.number, place):
                continue
            if not now.phase.final:
                raise Refused(f"{job.label}/{number} runs again already, as {now.label}")
            if now.phase is Phase.DONE:
                raise Refused(
                    f"{job.label}/{number} ran again as {now.label}, which is done; once more: lq again {now.label}"
                )

    def _ended(self, job: Job) -> list[Job]:
        """The tasks of an array that have ended."""
        return self.session.journal.ended(EndedFilter(array=job.number, limit=MOST_TASKS))

    def _submit_array(self, caller: Caller, submission: Submission, array: Array, again_of: int) -> Receipt:
        """Submit an array again, with the tasks and parameters that it had, whatever files say now."""
        checked = self.drafts.checked(caller, submission)
        if checked.request is None or checked.refused:
            return self._refusal(checked.diagnostics)
        at_once = checked.request.array.at_once if checked.request.array else None
        request, problem = self.dependencies.resolved(
            caller.user, replace(checked.request, array=replace(array, at_once=at_once))
        )
        if problem:
            raise Refused(problem)
        return self._take_in(caller, submission, request, checked.diagnostics, again_of)

    def _refusal(self, diagnostics: tuple[Diagnostic, ...]) -> Receipt:
        return Receipt(None, None, self.session.now(), diagnostics)

    def _take_in(
        self,
        caller: Caller,
        submission: Submission,
        request: Request,
        diagnostics: tuple[Diagnostic, ...],
        again_of: int = 0,
    ) -> Receipt:
        """Submit it, unless its folder, output or input cannot be used, or a limit is in the way."""
        session = self.session
        if closed := session.runner.closed():
            raise Refused(f"not submitted: {closed}")
        if problems := self._path_problems(caller, request, submission):
            return self._refusal((*problems, *diagnostics))
        try:
            events = self._decided(caller, submission, request, again_of)
        except Refused as fault:
            return self._refusal((error("over-limit", str(fault), 1), *diagnostics))
        session.commit(events)
        number = next(event.job for event in events if isinstance(event, Submitted))
        tasks = request.array.count if request.array else None
        if session.gathering:
            return Receipt(number, None, session.now(), diagnostics, tasks)
        self.dispatcher.step()
        return Receipt(number, self._forecast_ms(number), session.now(), diagnostics, tasks)

    def taken(self, caller: Caller, submission: Submission, request: Request) -> list[Event]:
        """The events of a checked submission. Raises :class:`Refused` when its paths can't be used, or a limit is in the way."""
        if problems := self._path_problems(caller, request, submission):
            raise Refused("; ".join(one.message for one in problems))
        return self._decided(caller, submission, request)

    def _decided(self, caller: Caller, submission: Submission, request: Request, again_of: int = 0) -> list[Event]:
        origin = Origin(
            script=submission.script,
            path=submission.path,
            directory=submission.directory,
            environment=_environment(submission, request),
            overrides=submission.overrides,
            inputs=tuple((path, *known) for path, known in self.drafts.looked(submission).surroundings.inputs.items()),
            again_of=again_of,
        )
        if problem := too_long(request, origin.environment):
            raise Refused(problem)
        return self.session.engine.decide(self._submit(caller, request, origin))

    def _submit(self, caller: Caller, request: Request, origin: Origin) -> Submit:
        session = self.session
        freed, doomed = self.dependencies.tasks_decided(request)
        return Submit(session.now(), caller.by(), request, origin, freed, doomed, session.runner.mark())

    def _forecast_ms(self, number: int) -> int | None:
        """When a job that was just submitted has started, or is expected to."""
        session = self.session
        job = session.engine.state.jobs.get(number)
        if job is not None and job.started_ms is not None:
            return job.started_ms
        if session.tasks_of(number):
            return session.now()
        session.work_out(number)
        placed = session.plan().placed_so_far(number)
        return placed.start_ms if placed else None

    def _path_problems(self, caller: Caller, request: Request, submission: Submission) -> tuple[Diagnostic, ...]:
        """Faults of its paths now that its number is known; what the check saw already is refused before."""
        session, origin = self.session, Origin("", "", submission.directory)
        job = Job(session.engine.state.next_number, caller.user, request, origin, session.now())
        paths = {"output": job.paths.output, "errors": job.paths.errors}
        known = {key: path for key, path in paths.items() if "{node}" not in path}
        found = session.runner.files.unusable(job.paths.folder, known, job.paths.input)
        return tuple(error("path", f"{key} {words}", 1) for key, words in found.items())

    # -- jobs --------------------------------------------------------------------------------------

    def hold(self, caller: Caller, jobs: list[int], why: str = "") -> list[Outcome]:
        """Put waiting jobs on hold."""
        return self._each(jobs, lambda number: HoldJob(self.session.now(), number, caller.by(why)), "held")

    def release(self, caller: Caller, jobs: list[int], why: str = "") -> list[Outcome]:
        """Release jobs that are on hold."""
        return self._each(jobs, lambda number: ReleaseJob(self.session.now(), number, caller.by(why)), "released")

    def cancel(
        self, caller: Caller, jobs: list[int], only: Literal["", "waiting", "running"] = "", why: str = ""
    ) -> list[Outcome]:
        """Cancel jobs: waiting ones end, running ones are stopped. ``only``: what waits of them, or what runs."""
        return self._each(jobs, lambda number: self._cancelling(caller.by(why), number, only), "cancelled")

    def _cancelling(self, by: By, number: int, only: Literal["", "waiting", "running"]) -> Command:
        now = self.session.now()
        if number < TASK_SPAN or only:
            return CancelJob(now, number, by, only)
        return CancelTask(now, number // TASK_SPAN, number % TASK_SPAN - 1, by)

    def change(self, caller: Caller, jobs: list[int], settings: list[str], why: str = "") -> list[Outcome]:
        """Change the request of jobs that have not started: header keys, as for ``--set``."""
        with self.session.lock:
            outcomes = self.changed(caller, jobs, settings, why)
            self.dispatcher.step()
            return outcomes

    def changed(self, caller: Caller, jobs: Iterable[int], settings: list[str], why: str = "") -> list[Outcome]:
        """The same as a part of what is decided together."""
        return [
            self._one(number, lambda number: self._changing(caller, number, settings, why), "changed")
            for number in dict.fromkeys(jobs)
        ]

    def _changing(self, caller: Caller, number: int, settings: list[str], why: str) -> Command:
        job = self.session.find(number)
        refuse_others(job.user, caller.user, job.label, "change only your own jobs")
        checked = self.drafts.checked(caller, _submission_of(job, settings))
        errors = [one for one in checked.diagnostics if one.severity == "error" and one.code not in _OF_SUBMITTING]
        if checked.request is None or errors:
            what = errors[0].message if errors else "the header cannot be read"
            raise Refused(f"{job.label} stays as it is: {what}")
        request, array = job.request, checked.request.array
        throttled = all(one.startswith("array.at-once=") for one in settings)
        if throttled and request.array and array and self.session.engine.state.begun(job):
            request = replace(request, array=replace(request.array, at_once=array.at_once))
            return ChangeJob(self.session.now(), number, caller.by(why), request, tuple(settings))
        request, problem = self.dependencies.resolved(caller.user, checked.request)
        if problem:
            raise Refused(f"{job.label} stays as it is: {problem}")
        if (
            job.request.array and request.array and not _of_array(settings)
        ):  # its tasks may be some of the script's alone
            request = replace(request, array=job.request.array)
        freed, doomed = self.dependencies.tasks_decided(request)
        return ChangeJob(self.session.now(), number, caller.by(why), request, tuple(settings), freed, doomed)

    def order(self, caller: Caller, jobs: list[int]) -> Outcome:
        """Order one's own waiting jobs: these come before one's others. Nobody else's job moves."""
        session, first = self.session, jobs[0] if jobs else 0
        with session.lock:
            try:
                session.commit(session.engine.decide(OrderJobs(session.now(), caller.by(), tuple(jobs))))
            except (Refused, NoSuchJob) as fault:
                return Outcome(first, False, str(fault), not isinstance(fault, NoSuchJob))
            self.dispatcher.step()
            return Outcome(first, True, f"your order now begins with {', '.join(map(str, jobs[:5]))}")

    def _each(self, jobs: list[int], command: Callable[[int], Command], done: str) -> list[Outcome]:
        with self.session.lock:
            outcomes = [self._one(number, command, done) for number in dict.fromkeys(jobs)]
            self.dispatcher.step()
            return outcomes

    def _one(self, number: int, command: Callable[[int], Command], done: str) -> Outcome:
        try:
            events = self.session.engine.decide(command(number))
            self.session.commit(events)
        except (NoSuchJob, Refused) as fault:
            return Outcome(number, False, str(fault), known=not isinstance(fault, NoSuchJob))
        self.dispatcher.pass_on(events)
        stopping = not events or any(isinstance(event, Stopping) for event in events)
        return Outcome(
            number, True, f"{label_of(self.session.engine.state, number)} {'is being stopped' if stopping else done}"
        )

    def drop_kept(self, caller: Caller, node: str, name: str) -> Outcome:
        """Remove something that stays on a host after its jobs; not the scratch folder of a job that runs."""
        with self.session.lock:
            for job in self.session.engine.state.running():
                used = job.request.stage.keep and any(one.node == node for one in job.allocations)
                if used and name == f"{SCRATCH}{job.request.name}":
                    return Outcome(job.number, False, f"{job.label} runs there, and works in {name}")
        try:
            self.session.runner.files.drop(node, name)
        except OSError as fault:
            return Outcome(0, False, f"{node}: {words_of(fault)}")
        return Outcome(0, True, f"{name} removed from {node}")

    def remove_made(self, caller: Caller, number: int, paths: list[str]) -> Outcome:
        """Remove files that a job made, by their paths from its folder; one's own jobs' alone."""
        with self.session.lock:
            job = self.session.find(number)
            since = self.session.first_start_ms(job)
        try:
            refuse_others(job.user, caller.user, job.label, "remove only what your own jobs made")
        except Refused as fault:
            return Outcome(number, False, str(fault))
        if since is None:
            return Outcome(number, False, f"{job.label} has not started, so it has made nothing")
        removed, kept = self.session.runner.files.remove(job.paths.folder, paths, since)
        words = f"{plural(removed, 'file')} removed" + (f"; {kept[0]}" if kept else "")
        return Outcome(number, not kept, words)


def _of_array(settings: Iterable[str]) -> bool:
    """True when settings say which tasks there are."""
    return any(one.partition("=")[0].strip().partition(".")[0] == "array" for one in settings)


def _submission_of(job: Job, settings: Iterable[str] = ()) -> Submission:
    """A job as it was submitted, with other settings besides."""
    origin = job.origin
    return Submission(
        script=origin.script,
        path=origin.path,
        directory=origin.directory,
        overrides=(*origin.overrides, *settings),
        arguments=job.request.arguments,
        environment=origin.environment,
    )


def _environment(submission: Submission, request: Request) -> tuple[tuple[str, str], ...]:
    """A job's part of its submitter's environment: all of it on request, else the few variables that every job gets."""
    if request.inherit:
        return submission.environment
    given = dict(submission.environment)
    kept = {name: given[name] for name in ("HOME", "USER", "PATH", "LANG") if name in given}
    return tuple((kept | (needed(given) if request.modules else {})).items())
