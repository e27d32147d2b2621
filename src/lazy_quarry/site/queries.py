"""The reading of a site in use: jobs, the board, room now. Nothing here changes the site."""

import os
from contextlib import suppress
from typing import Literal

from lazy_quarry.core.engine.task_numbers import label_of
from lazy_quarry.core.explain.answers import Explained, Suggestion, Why
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.job.by import NOBODY
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.room_search import rooms
from lazy_quarry.core.units import clock_time
from lazy_quarry.core.values import replace
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.files.kinds import words_of
from lazy_quarry.run.fetching import Fetchable, FetchPiece, FilesToFetch
from lazy_quarry.run.node.made_files import MadeFiles
from lazy_quarry.run.runner import HostState, KeptThere, OutputChunk
from lazy_quarry.site.board_keeper import BoardKeeper
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.dependent_forecasts import blocked_forecasts
from lazy_quarry.site.failure_evidence import evidence_of
from lazy_quarry.site.job_views import JobViews, seen_by
from lazy_quarry.site.runs_again import RunsAgain
from lazy_quarry.site.searches import Searches
from lazy_quarry.site.session import Session
from lazy_quarry.site.tasks_told import tasks_told
from lazy_quarry.store.journal import EndedFilter
from lazy_quarry.views.board import Board, BoardChange, BoardMark, SiteNames
from lazy_quarry.views.board_mirror import BoardMirror
from lazy_quarry.views.expanded import Expanded, expanded
from lazy_quarry.views.job_detail import JobDetail, Record
from lazy_quarry.views.job_view import JobView, OtherRun
from lazy_quarry.views.outcomes import Found, RoomView
from lazy_quarry.views.room_view import room_view
from lazy_quarry.wording.record import record_lines
from lazy_quarry.wording.sentences import verdict

MOST_READ = 40
"""Number of failed tasks of an array whose output is looked through."""
_WAITS = (Phase.WAITING, Phase.HELD, Phase.BLOCKED)


class Queries:
    """Answers about jobs and about the site."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.views = JobViews(session)
        self.keeper = BoardKeeper(session, self.views)
        self.searches = Searches(session, self.views)
        self.runs_again = RunsAgain(session)

    # -- jobs --------------------------------------------------------------------------------------

    def jobs(
        self, caller: Caller, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """Live jobs in the order of their numbers, or the newest ended ones."""
        session = self.session
        with session.lock:
            if ended:
                user = None if everyone else caller.user
                found = session.journal.ended(EndedFilter(user=user, since_ms=since_ms, limit=limit))
                return [seen_by(caller, self.views.view(job)) for job in found]
            live = session.engine.state.jobs
            return self.keeper.live(
                caller,
                [
                    number
                    for number, job in sorted(live.items())
                    if (everyone or job.user == caller.user) and job.parent is None
                ],
            )

    def search(
        self,
        caller: Caller,
        where: str,
        ended: bool = True,
        everyone: bool = True,
        sort: str = "",
        limit: int = 50,
        offset: int = 0,
    ) -> Found:
        """Jobs that meet a search. Raises :class:`BadValue` for one that can't be read."""
        return self.searches.search(caller, where, ended, everyone, sort, limit, offset)

    def job(self, caller: Caller, number: int) -> JobView:
        """One job, live or ended. Raises :class:`NoSuchJob`."""
        with self.session.lock:
            return seen_by(caller, self._viewed(self.session.find(number), self.session.explainer()))

    def _viewed(self, job: Job, explainer: Explainer) -> JobView:
        """A job by itself; one that waits for others has a forecast too."""
        view = self.views.view(job, explainer)
        if job.phase is Phase.BLOCKED and (found := blocked_forecasts(self.session, [job]).get(job.number)):
            starts = f"{view.why}; if all goes well it should start about {self._clock(found.starts_ms or 0)}"
            return replace(view, forecast_ms=found.starts_ms, forecast_end_ms=found.ends_ms, why=starts)
        return view

    def _clock(self, at_ms: int) -> str:
        return clock_time(at_ms, self.session.now(), self.session.zone)

    def detail(self, caller: Caller, number: int) -> JobDetail:
        """One job with its record, script and verdict."""
        session = self.session
        with session.lock:
            job = session.find(number)
            explainer = session.explainer()
            view = seen_by(caller, self._viewed(job, explainer))
            script = job.origin.script
            if job.parent is not None and not script:  # it is kept once, with the array
                script = session.find(job.parent).origin.script
            events = session.journal.events_of(number)
            tasks, again = self._tasks(caller, job)
            view = replace(view, replaced_by=self._replaced_by(job))
            detail = JobDetail(
                view=view,
                record=tuple(
                    Record(at, words, getattr(event, "by", NOBODY))
                    for event in events
                    for at, words in record_lines(event, session.zone)
                ),
                script=script,
                script_path=job.origin.path,
                directory=job.paths.folder,
                overrides=job.origin.overrides,
                inputs=job.origin.inputs,
                environment=job.origin.environment,
                modules=job.request.modules,
                host=job.host,
                tasks=tasks,
                again=again,
                explained=self._explained(job, explainer) if number in session.engine.state.jobs else None,
            )
            now = session.now()
        if tasks:
            tasks = detail.tasks_now
            detail = replace(detail, told=tasks_told(tasks, self._printed_by_failed(tasks)))
        if not job.phase.final:
            return detail
        # files may lie on a slow disk: others are answered meanwhile
        evidence = evidence_of(session.runner.files, job, now)
        return replace(detail, evidence=evidence, verdict=verdict(view, evidence))

    def _explained(self, job: Job, explainer: Explainer) -> Explained | None:
        """All that can be said of a live job that has not started; while nothing can start here at all, just that."""
        if job.phase not in _WAITS:
            return None
        found, closed = explainer.explained(job), self.session.obstacle()
        if closed is None or job.phase is not Phase.WAITING:
            return found
        return replace(found, why=Why(closed.words, closed.kind), changes=())

    def _tasks(self, caller: Caller, job: Job) -> tuple[tuple[JobView, ...], tuple[JobView, ...]]:
        """The tasks of an array that were made, and the newest run of each that ran again."""
        if job.request.array is None:
            return (), ()
        newest = self.runs_again.newest(self.runs_again.first(job)) if job.phase.final else {}
        tasks, again = list[JobView](), list[JobView]()
        for task in (seen_by(caller, one) for one in self.views.tasks(job)):
            run = newest.get(task.task or 0)
            if run is None or run.number <= task.job:
                tasks.append(task)
                continue
            tasks.append(replace(task, replaced_by=OtherRun(run.number, run.label)))
            again.append(seen_by(caller, self.views.view(run)))
        return tuple(tasks), tuple(again)

    def _replaced_by(self, job: Job) -> OtherRun | None:
        run = self.runs_again.newest_of(job) if job.parent is not None and job.phase.final else None
        return OtherRun(run.number, run.label) if run is not None else None

    def _printed_by_failed(self, tasks: tuple[JobView, ...]) -> dict[int, str]:
        """The last line that tells of an error, of the first tasks that failed."""
        found = dict[int, str]()
        failed = [view.job for view in tasks if view.phase in FAILING][:MOST_READ]
        for number in failed:
            with self.session.lock:
                job, now = self.session.find(number), self.session.now()
            if (evidence := evidence_of(self.session.runner.files, job, now)) and evidence.errors:
                found[number] = evidence.errors[-1]
        return found

    def expand_job(self, caller: Caller, number: int) -> Expanded:
        """The tasks of an array, live or ended. Raises :class:`Refused` for a single job."""
        with self.session.lock:
            job = self.session.find(number)
            return expanded(job.origin.script, job.request, job=job.number)

    def output(
        self, caller: Caller, number: int, which: Literal["output", "errors"], from_byte: int = 0
    ) -> OutputChunk:
        """A piece of what a job printed; a negative ``from_byte`` counts from the end."""
        with self.session.lock:
            job = self.session.find(number)
            path = job.paths.output if which == "output" else job.paths.errors
            if job.request.array is not None:
                told = f"a file for each task; one of them: lq output {number}/{job.request.array.number(0)}"
                return OutputChunk(path, "", 0, 0, told)
            now = self.session.now()
        chunk = self.session.runner.files.output(job, path, from_byte, now)
        if not chunk.changed:
            return chunk
        with self.session.lock:
            other = self.runs_again.writer_of(job, path)
            if other is None:
                return chunk
            words = f"{path} was written over by {other.label}; lq output {other.label} shows it"
            return replace(chunk, problem=words)

    def made(self, caller: Caller, number: int) -> MadeFiles:
        """The files that were created or changed where a job works since it started, until it ended; newest first."""
        with self.session.lock:
            job = self.session.find(number)
            since, folder = self.session.first_start_ms(job), job.paths.folder
        if since is None:
            return MadeFiles(folder, problem="it has not started")
        return self.session.runner.files.made(
            folder, since, job.ended_ms
        )  # a disk may be slow: others are answered meanwhile

    def fetchable(self, caller: Caller, number: int, patterns: list[str]) -> Fetchable:
        """List the files of a job that patterns meet, wherever they are."""
        try:
            return self._to_fetch(number).found(patterns)
        except OSError as fault:
            raise Refused(_fetch_words(fault)) from None

    def fetch_piece(self, caller: Caller, number: int, path: bytes, begin: int) -> FetchPiece:
        """A piece of one of them."""
        try:
            return self._to_fetch(number).piece(os.fsdecode(path), begin)
        except OSError as fault:
            raise Refused(_fetch_words(fault)) from None

    def fetch_digest(self, caller: Caller, number: int, path: bytes, begin: int, most: int) -> str:
        """The SHA-256 of so many bytes of one of them."""
        try:
            return self._to_fetch(number).digest(os.fsdecode(path), begin, most)
        except OSError as fault:
            raise Refused(_fetch_words(fault)) from None

    def _to_fetch(self, number: int) -> FilesToFetch:
        """A job's files. Raises :class:`OSError`, :class:`Refused` for an array."""
        with self.session.lock:
            job = self.session.find(number)
        if job.request.array is not None:
            raise Refused(f"the files of each task by itself: lq fetch {job.label}/{job.request.array.number(0)}")
        return self.session.runner.files.to_fetch(job)

    def samples(self, caller: Caller, number: int) -> list[tuple[int, float, int]]:
        """Measurements of a running job: (instant in ms, cores busy, memory in MiB), oldest first."""
        with self.session.lock:
            job = self.session.engine.state.jobs.get(number)
            running = job is not None and job.phase is Phase.RUNNING
            return self.session.runner.files.samples(job, self.session.now()) if job and running else []

    # -- waiting jobs ------------------------------------------------------------------------------

    def turns(self, caller: Caller) -> list[int]:
        """One's own waiting jobs in the order of their turns."""
        with self.session.lock:
            order = self.session.engine.plans.in_order(self.session.now())
            return [job.number for job in order if job.user == caller.user and job.parent is None]

    def ladder(self, caller: Caller, number: int) -> list[Suggestion]:
        """When a waiting job would start with other walltimes."""
        with self.session.lock:
            job = self.session.find(number)
            placed = job.phase is Phase.WAITING and number in self.session.engine.state.jobs
            return list(self.session.explainer().ladder(job)) if placed else []

    def compare(self, caller: Caller, first: int, second: int) -> str:
        """Say which of two waiting jobs stands ahead, and by which part. Raises :class:`Refused` when one doesn't wait."""
        with self.session.lock:
            jobs = [self.session.find(number) for number in (first, second)]
            for job in jobs:
                if job.number not in self.session.engine.state.jobs and not job.phase.final:
                    raise Refused(f"{job.label} has not started, and has no place of its own; compare {job.parent}")
                if job.phase is not Phase.WAITING:
                    raise Refused(f"{job.label} is {job.phase}; only waiting jobs have an order")
            return self.session.explainer().compare(*jobs)

    # -- the site ----------------------------------------------------------------------------------

    def look(self, caller: Caller, since: BoardMark | None = None, sight: list[int] | None = None) -> BoardChange:
        """Read the changes of the board since a mark, or all of it; of the jobs in ``sight`` everything is up to date.

        Forecasts are worked out for a moment at most; where that is too short, it isn't settled, and the next look goes on.
        """
        with self.session.lock:
            return self.keeper.change(caller, since, sight or ())

    def board(self, caller: Caller) -> Board:
        """Everything that the interface shows of the present, with all forecasts and what each job waits for."""
        with self.session.lock:
            live = [number for number, job in self.session.engine.state.jobs.items() if job.phase is Phase.WAITING]
            return BoardMirror().take(self.keeper.change(caller, None, live, whole=True))

    def notices(self, caller: Caller) -> tuple[str, ...]:
        """Obstacles of the site or of certain jobs now, in sentences."""
        with self.session.lock:
            return self.keeper.notices()

    def hosts(self, caller: Caller) -> list[HostState]:
        """The nodes that are hosts of their own, as they are now."""
        return self.session.runner.hosts()

    def kept(self, caller: Caller, node: str) -> list[KeptThere]:
        """List what stays on a host after its jobs, with whose it is. Raises :class:`Refused` where that can't be asked."""
        session = self.session
        try:
            found = session.runner.files.kept(node)
        except OSError as fault:
            raise Refused(f"{node} can't be asked: {words_of(fault)}") from None
        told = []
        for one in found:
            with suppress(NoSuchJob), session.lock:
                if one.job is not None:
                    job = session.find(one.job)
                    one = replace(one, label=label_of(session.engine.state, one.job), user=job.user)
            told.append(one)
        return told

    def names(self, caller: Caller) -> SiteNames:
        """The names that may stand in a request of this person."""
        with self.session.lock:
            site, user = self.session.site, caller.user
            nodes = [node for node in site.nodes if node.runs_jobs]
            return SiteNames(
                accounts=site.accounts_of(user),
                queues=tuple(queue.name for queue in site.queues if not queue.users or user in queue.users),
                tiers=tuple(tier.name for tier in site.tiers if not tier.users or user in tier.users),
                traits=tuple(sorted({trait for node in nodes for trait in node.traits})),
                nodes=tuple(node.name for node in nodes),
                modules=site.modules,
            )

    def room(self, caller: Caller, queue: str) -> list[RoomView]:
        """The most that could start now in a queue, by walltime and kind. Raises :class:`Refused` for no such queue."""
        session, site = self.session, self.session.site
        with session.lock:
            known = site.queue.get(queue)
            if known is None:
                raise Refused(f'there is no queue "{queue}"; there are {", ".join(site.queue)}')
            account, tier = site.default_account(caller.user) or "", known.tier or site.default_tier
            plain = Request("room", account, (queue,), tier, 60, Memory(1))
            job = session.engine.plans.hypothetical_job(caller.user, plain, session.now())
            plan = session.engine.plans.plan_before(job, session.now())
            timeline = plan.timeline_of(session.engine.plans.plan_request_of(job))
            if session.obstacle() is not None:
                return []
            found = rooms(session.engine.plans.planner, timeline, site, known, account, caller.user, plan.limits)
            return [room_view(one) for one in found]


def _fetch_words(fault: OSError) -> str:
    words = fault.strerror or str(fault)
    return f"{fault.filename}: {words}" if isinstance(fault.filename, str) and fault.filename else words
