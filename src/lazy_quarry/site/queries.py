"""What can be read of a site in use: jobs, drafts, the board. Nothing here changes anything."""

import threading
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import tzinfo
from typing import Literal

from lazy_quarry.core.advice.warnings import warning_of
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.header.check import Checked
from lazy_quarry.core.job.job import TASK_SPAN, Allocation, Job, Phase, Use
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.ledger.charges import account_lines, allocated_core_ms, charge
from lazy_quarry.core.plan.planner import Plan
from lazy_quarry.core.plan.room import rooms
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.run.runner import Runner
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.sentences import record_words, verdict
from lazy_quarry.site.views import (
    Board,
    ClockView,
    DraftReport,
    JobDetail,
    JobView,
    LimitView,
    NodeView,
    Occupant,
    OutputChunk,
    Record,
    RoomView,
    Strata,
    Submission,
    job_view,
    room_view,
    start_directory,
)
from lazy_quarry.store.journal import EndedFilter, Journal

MOST_TASKS = 100_000
WARN_EVERY_MS = 10_000
RECENT_MS = 12 * HOUR_MS
"""Jobs that ended within this stay on the board."""


class Queries:
    """The reading side of a desk. ``clock`` gives the present instant in milliseconds."""

    site: Site
    journal: Journal
    runner: Runner
    engine: Engine
    user: str
    zone: tzinfo
    clock: Callable[[], int]
    clock_view: ClockView
    lock: threading.RLock
    version: int
    stuck: str
    _changed: threading.Condition
    _recent: list[Job] | None
    _ended_views: dict[int, tuple[Job, JobView]]
    _warned: dict[int, tuple[int, int, str]]
    _usual: dict[tuple[str, str, int], int | None]

    def now(self) -> int:
        """The present instant; it never runs backwards."""
        return max(self.clock(), self.engine.state.at_ms)

    def _plan(self) -> Plan:
        return self.engine.plan(self.now())

    def _explainer(self) -> Explainer:
        return Explainer(self.engine, self.now(), self.zone)

    def _label(self, number: int) -> str:
        job = self.engine.state.jobs.get(number) if number >= TASK_SPAN else None
        if job is not None:
            return job.label
        parent = self.engine.state.jobs.get(number // TASK_SPAN)
        if parent is not None and parent.request.array is not None:
            return f"{parent.number}/{parent.request.array.number(number % TASK_SPAN - 1)}"
        return str(number)

    def _together(self, job: Job) -> tuple[Job, tuple[tuple[str, int], ...]]:
        """An array as its tasks together make it: what runs of it, since when, where; and its tasks by state."""
        live = [self.engine.state.jobs[number] for number in self.engine.state.tasks.get(job.number, ())]
        running = [task for task in live if task.phase is Phase.RUNNING]
        counts = dict(job.counts)
        for word, count in (("running", len(running)), ("waiting", job.unmade_tasks + len(live) - len(running))):
            if count and not job.phase.final:
                counts["held" if word == "waiting" and job.phase is Phase.HELD else word] = count
        ordered = tuple(sorted(counts.items()))
        if not running:
            return job, ordered
        allocations: dict[str, Allocation] = {}
        for allocation in (allocation for task in running for allocation in task.allocations):
            known = allocations.get(allocation.node, Allocation(allocation.node, 0, (), 0))
            cores, gpus = known.cores + allocation.cores, known.gpus + allocation.gpus
            memory, scratch = known.memory_mib + allocation.memory_mib, known.scratch_mib + allocation.scratch_mib
            allocations[allocation.node] = Allocation(
                allocation.node, known.ranks + allocation.ranks, cores, memory, gpus, scratch
            )
        began = min([*(task.started_ms or 0 for task in running), *([job.started_ms] if job.started_ms else [])])
        charged = sum(charge(self.site, task.request.tier, allocated_core_ms(task, self.now())) for task in running)
        phase = job.phase if job.phase is Phase.HELD else Phase.RUNNING
        together = replace(
            job,
            phase=phase,
            started_ms=began,
            allocations=tuple(allocations.values()),
            charge_core_ms=job.charge_core_ms + charged,
        )
        return together, ordered

    def _view(self, job: Job, explainer: Explainer | None = None) -> JobView:
        """A job as it is shown. One that has ended is made into it once."""
        if not job.phase.final:
            return self._fresh_view(job, explainer)
        known = self._ended_views.get(job.number)
        if known is None or known[0] is not job:
            if len(self._ended_views) > MOST_TASKS:
                self._ended_views.clear()
            known = self._ended_views[job.number] = (job, self._fresh_view(job, explainer))
        return known[1]

    def _fresh_view(self, job: Job, explainer: Explainer | None) -> JobView:
        now = self.now()
        counts: tuple[tuple[str, int], ...] = ()
        if job.request.array is not None:
            job, counts = self._together(job)
        needs = self.engine.planner.needs(job.request) if not job.allocations else []
        forecast, why, warning = None, "", ""
        if job.phase is Phase.WAITING:
            placement = self._plan().placements.get(job.number)
            if placement is not None:
                forecast = (placement.start_ms, placement.end_ms, tuple(one.node for one in placement.nodes))
        if not job.phase.final and job.phase is not Phase.RUNNING and explainer:
            told = explainer.why(job, job.reason)
            why = told.because
            warning = self._hopeless(job, told.kind, forecast is None)
            if job.phase is Phase.WAITING and (notices := self.runner.notices()):
                why = notices[0]
        if job.phase is Phase.RUNNING and not counts and job.request.array is None:
            warning = self._careless(job, now)
        if counts and job.phase is Phase.RUNNING:
            forecast = self._through(job, dict(counts))
        need = needs[0] if needs else None
        return job_view(
            job,
            self.site,
            now,
            cores=need.cores if need else 0,
            node_count=need.node_count if need else 0,
            memory_mib=sum(part.nodes * part.memory_mib for part in need.parts) if need else 0,
            forecast=forecast,
            why=why,
            live=self.runner.live(job, now) if job.phase is Phase.RUNNING and not counts else None,
            counts=counts,
            warning=warning,
        )

    def _through(self, job: Job, counts: dict[str, int]) -> tuple[int, int, tuple[str, ...]]:
        """Of an array that runs: when what runs of it must be over, and when all of it would be at this pace."""
        live = [self.engine.state.jobs[number] for number in self.engine.state.tasks.get(job.number, ())]
        limit = max((task.end_limit_ms or 0 for task in live), default=self.now())
        at_a_time = max(1, counts.get("running", 0))
        rounds = -(-counts.get("waiting", 0) // at_a_time)
        return limit, limit + rounds * (job.request.walltime_s + job.request.grace_s) * 1000, ()

    def _hopeless(self, job: Job, kind: str, no_place: bool) -> str:
        """Why a job that waits will not start by itself."""
        if job.phase is Phase.WAITING and no_place and kind == "nodes":
            return "no open node could take it; it waits until one is opened"
        if job.phase is Phase.WAITING and no_place and kind == "budget":
            return "its account's budget does not cover it"
        for number, _ in job.unmet:
            other = self.engine.state.jobs.get(number)
            if other is not None and other.phase is Phase.HELD:
                return f"{other.label}, which it waits for, is held by {other.reason or other.user}"
        return ""

    def _careless(self, job: Job, now: int) -> str:
        """What somebody should see to in a running job: worked out again when a few seconds have passed."""
        known = self._warned.get(job.number)
        if known is not None and known[0] == job.attempt and 0 <= now - known[1] < WARN_EVERY_MS:
            return known[2]
        if len(self._warned) > MOST_TASKS:
            self._warned.clear()
        live = self.runner.live(job, now)
        words = warning_of(job, now, live[0] if live else Use(), self.runner.samples(job, now), self._usual_cpu_ms(job))
        self._warned[job.number] = (job.attempt, now, words)
        return words

    def _usual_cpu_ms(self, job: Job) -> int | None:
        """The CPU time that runs of this name and size used which were done, in the middle; None of less than three."""
        key = (job.user, job.request.name, job.cores_allocated)
        if key not in self._usual:
            wanted = EndedFilter(user=job.user, name=job.request.name, phase="done", limit=20)
            spent = sorted(
                one.use.cpu_ms for one in self.journal.ended(wanted) if one.cores_allocated == job.cores_allocated
            )
            self._usual[key] = spent[len(spent) // 2] if len(spent) >= 3 else None
        return self._usual[key]

    def samples(self, number: int) -> list[tuple[int, float, int]]:
        """What was measured of a running job: (instant in ms, cores busy, memory in MiB), oldest first."""
        with self.lock:
            job = self.engine.state.jobs.get(number)
            return self.runner.samples(job, self.now()) if job and job.phase is Phase.RUNNING else []

    def turns(self) -> list[int]:
        """One's own waiting jobs in the order of their turns."""
        with self.lock:
            order = self.engine.in_order(self.now())
            return [job.number for job in order if job.user == self.user and job.parent is None]

    def ladder(self, number: int) -> list[Suggestion]:
        """When a waiting job would start with other walltimes."""
        with self.lock:
            job = self._find(number)
            return list(self._explainer().ladder(job)) if job.phase is Phase.WAITING else []

    def jobs(
        self, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """Live jobs in the order of their numbers, or the newest ended ones."""
        with self.lock:
            if ended:
                user = None if everyone else self.user
                found: Iterable[Job] = self.journal.ended(EndedFilter(user=user, since_ms=since_ms, limit=limit))
            else:
                live = (self.engine.state.jobs[number] for number in sorted(self.engine.state.jobs))
                found = [job for job in live if (everyone or job.user == self.user) and job.parent is None]
            explainer = self._explainer()
            return [self._view(job, explainer) for job in found]

    def _find(self, number: int) -> Job:
        job = self.engine.state.jobs.get(number) or self.journal.ended_job(number)
        if job is None:
            raise NoSuchJob(f"there is no job {number}")
        return job

    def job(self, number: int) -> JobView:
        """One job, live or ended. Raises :class:`NoSuchJob`."""
        with self.lock:
            return self._view(self._find(number), self._explainer())

    def detail(self, number: int) -> JobDetail:
        """One job with its record, script and verdict."""
        with self.lock:
            job = self._find(number)
            explainer = self._explainer()
            view = self._view(job, explainer)
            waits = job.phase in (Phase.WAITING, Phase.HELD, Phase.BLOCKED)
            explained = explainer.explained(job) if waits else None
            script = job.origin.script
            if job.parent is not None and not script:
                script = self._find(job.parent).origin.script
            record = [Record(event.at_ms, record_words(event, self.zone)) for event in self.journal.events_of(number)]
            return JobDetail(
                view,
                tuple(record),
                script,
                job.origin.path,
                start_directory(job),
                job.origin.overrides,
                explained.instead if explained else "",
                verdict(view) if job.phase.final else "",
                tuple(self._tasks(job)) if job.request.array is not None else (),
                explained,
            )

    def _tasks(self, job: Job) -> Iterable[JobView]:
        """The tasks of an array that have been made, in their order."""
        ended = self.journal.ended(EndedFilter(array=job.number, limit=MOST_TASKS))
        live = [self.engine.state.jobs[number] for number in self.engine.state.tasks.get(job.number, ())]
        for task in sorted([*ended, *live], key=lambda one: one.number):
            yield self._view(task)

    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """A piece of what a job printed."""
        with self.lock:
            job = self._find(number)
            view = self._view(job)
            path = view.output if which == "output" else view.errors
            return self.runner.output(job, path, from_byte, self.now())

    def check(self, submission: Submission) -> DraftReport:
        """All that can be said of a draft: problems, place, start, cost."""
        with self.lock:
            return self._drafting().report(submission)

    def _drafting(self) -> Drafts:
        return Drafts(self.engine, self._plan(), self.journal, self.user, self._accounts(), self.now())

    def _check(self, submission: Submission) -> Checked:
        return self._drafting().check(submission)

    def _accounts(self) -> tuple:
        return account_lines(self.site, self.engine.state.tallies, self.engine.state.jobs.values(), self.now())

    def board(self) -> Board:
        """Everything the frame and the places show of the present."""
        with self.lock:
            explainer = self._explainer()
            live = [self.engine.state.jobs[number] for number in sorted(self.engine.state.jobs)]
            own = self.site.accounts_of(self.user)
            nodes = tuple(self._nodes(set(own)))
            return Board(
                self.version,
                self.now(),
                self.site.name,
                self.user,
                self.site.default_account(self.user) or "",
                self.clock_view,
                _strata(nodes),
                tuple(self._view(job, explainer) for job in [*live, *self._recent_jobs()]),
                nodes,
                self.site.queues,
                self.site.tiers,
                tuple(window for window in self.engine.windows if window.ends_ms > self.now()),
                self._accounts(),
                own,
                self.site.software,
                tuple(notice for notice in [self.stuck, *self.runner.notices()] if notice),
                self.site.default_queue,
                self.site.default_tier,
                self.site.storage,
                tuple(node for node in self.site.nodes if not node.runs_jobs),
                self.site.head,
                self.site.contact,
                self.site.examples,
                self.site.trial,
                tuple(self._limits(own)),
            )

    def _limits(self, own_accounts: Iterable[str]) -> Iterable[LimitView]:
        """The limits that the person is under, with what is in use of each."""
        tiers = [tier.name for tier in self.site.tiers if not tier.users or self.user in tier.users]
        pairs = [
            ("user", self.user),
            *(("account", name) for name in own_accounts),
            *(("tier", name) for name in tiers),
        ]
        return [LimitView(*one) for one in self.engine.limits_in_use(pairs)]

    def compare(self, first: int, second: int) -> str:
        """Which of two waiting jobs stands ahead, and by which part. Raises :class:`Refused` when one doesn't wait."""
        with self.lock:
            jobs = [self._find(number) for number in (first, second)]
            for job in jobs:
                if job.phase is not Phase.WAITING:
                    raise Refused(f"{job.label} is {job.phase}; only waiting jobs stand before one another")
            return self._explainer().compare(*jobs)

    def room(self, queue: str) -> list[RoomView]:
        """The most that could start now in a queue, by walltime and kind. Raises :class:`Refused` for no such queue."""
        with self.lock:
            known = self.site.queue.get(queue)
            if known is None:
                raise Refused(f'there is no queue "{queue}"; there are {", ".join(self.site.queue)}')
            account = self.site.default_account(self.user) or ""
            tier = known.tier or self.site.default_tier
            plain = Request("room", account, (queue,), tier, 60, Memory(1))
            base = self.engine.before(self.engine.hypothetical_job(self.user, plain, self.now()), self.now())
            timeline = base.timeline_of(
                self.engine.plan_request_of(self.engine.hypothetical_job(self.user, plain, self.now()))
            )
            found = rooms(self.engine.planner, timeline, self.site, known, account, self.user, base.limits)
            return [room_view(one) for one in found]

    def _recent_jobs(self) -> list[Job]:
        since = self.now() - RECENT_MS
        if self._recent is None:
            self._recent = self.journal.ended(EndedFilter(since_ms=since, limit=2000))
        while self._recent and (self._recent[-1].ended_ms or 0) < since:
            self._recent.pop()
        return self._recent

    def forget_recent(self) -> None:
        """Read recently ended jobs from the journal again, after a past was added to it."""
        with self.lock:
            self._recent = None
            self.version += 1
            self._changed.notify_all()

    def _nodes(self, own_accounts: set[str]) -> Iterable[NodeView]:
        occupants: dict[str, list[Occupant]] = {}
        for job in self.engine.state.running():
            owner: Literal["mine", "accounts", "others"] = "others"
            if job.user == self.user:
                owner = "mine"
            elif job.request.account in own_accounts:
                owner = "accounts"
            for allocation in job.allocations:
                occupants.setdefault(allocation.node, []).append(
                    Occupant(
                        job.number,
                        owner,
                        job.request.name,
                        job.user,
                        allocation.cores,
                        allocation.memory_mib,
                        len(allocation.gpus),
                        job.end_limit_ms or 0,
                        job.label,
                    )
                )
        queues: dict[str, list[str]] = {}
        for queue in self.site.queues:
            for name in queue.nodes:
                queues.setdefault(name, []).append(queue.name)
        for node in self.site.nodes:
            if node.runs_jobs:
                yield NodeView(
                    node.name,
                    tuple(queues.get(node.name, ())),
                    node.cores,
                    node.memory_mib,
                    node.gpus,
                    node.scratch_mib,
                    node.traits,
                    self.engine.state.closures.get(node.name, ""),
                    tuple(occupants.get(node.name, ())),
                )


def _strata(nodes: Iterable[NodeView]) -> Strata:
    counts = {"mine": 0, "accounts": 0, "others": 0}
    closed = free = total = 0
    for node in nodes:
        for occupant in node.occupants:
            counts[occupant.owner] += len(occupant.cores)
        rest = node.cores - node.cores_used
        total += node.cores
        if node.closed:
            closed += rest
        else:
            free += rest
    return Strata(counts["mine"], counts["accounts"], counts["others"], closed, free, total)
