"""Makes views of jobs from the state, the plan and the runner."""

from collections.abc import Iterable

from msgspec import Struct

from lazy_quarry.core.advice.warnings import LikeIt, warning_of
from lazy_quarry.core.engine.plans import owner_of
from lazy_quarry.core.engine.task_numbers import unstarted
from lazy_quarry.core.explain.explainer import Explainer
from lazy_quarry.core.explain.reasons import stated
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.inside import Inside
from lazy_quarry.core.job.job import Allocation, Job, Phase, Use
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.job.rates import charge_so_far
from lazy_quarry.core.plan.placement import PlanRequest
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.values import replace
from lazy_quarry.site.alike_runs import AlikeRuns
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.runs_again import run_before
from lazy_quarry.site.session import Session
from lazy_quarry.store.journal import MOST_TASKS, EndedFilter
from lazy_quarry.views.job_view import JobView

WARN_EVERY_MS, MOST_WARN_EVERY_MS, WARNINGS = 10_000, 60_000, 300
"""A warning is worked out anew so many times within a walltime, but at most every ten seconds and at least every minute."""
MOST_FAILED = 8
USUAL_RUNS = 20
"""Number of earlier runs that say what is usual; fewer than three say nothing."""


class Expected(Struct, frozen=True):
    """When and where a job is expected to run."""

    start_ms: int | None = None
    end_ms: int | None = None
    nodes: tuple[str, ...] = ()


class Seen(Struct, frozen=True):
    """A running job as it was read: its use and how many cores were busy, what it told of itself, what is wrong."""

    live: tuple[Use, float] | None = None
    inside: Inside | None = None
    warning: str = ""
    attempt: int = 0
    parts: tuple[NodeUse, ...] = ()
    """Its use by node, where it has several."""


def seen_by(caller: Caller, view: JobView) -> JobView:
    """A view as a person may see it: what others gave their scripts is theirs."""
    return replace(view, arguments=()) if view.arguments and view.user != caller.user else view


class JobViews:
    """Views of jobs, as those who submitted them see them. A view of a job that has ended is made once."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.alike = AlikeRuns(session)
        self._ended: dict[int, tuple[Job, JobView]] = {}
        self._warned: dict[int, tuple[tuple[int, int, int], str]] = {}
        """By job: its attempt, when the warning was worked out and with which past, and the warning."""
        self._usual: dict[tuple[int, int, int], tuple[LikeIt, ...]] = {}
        """By job, when it began, and how often an earlier past was added: earlier runs like it."""
        self._followed, self._newly = -1, set[int]()
        self._chained: dict[int, tuple[int, str]] = {}
        """By job: the chain that it belongs to, and that chain's name."""
        self._records: dict[int, ChainRecord] = {}

    def view(self, job: Job, explainer: Explainer | None = None) -> JobView:
        """A job as it is shown; why it waits is told where an explainer is given."""
        if job.parent is not None and unstarted(self.session.engine.state, job.number):
            why = f"it has not started; tasks of {job.parent} start in turn"
            if job.index in self.session.engine.state.jobs[job.parent].held_tasks:
                why = f"it is held until it is released, while other tasks of {job.parent} start in turn"
            return self._made(job, (), Expected(), why=why, warning="")
        if not job.phase.final:
            plan, waits = self.session.plan(), job.phase is Phase.WAITING
            expected = self.expected(job, plan) if waits else None
            why = self.why(job, explainer) if waits and explainer else ""
            return self.shown(job, expected, plan.unplaced_so_far(job.number), why)
        known = self._ended.get(job.number)
        if known is None or known[0] is not job:
            if len(self._ended) > MOST_TASKS:
                self._ended.clear()
            known = self._ended[job.number] = (job, self._made(*self._summed(job), Expected(), why="", warning=""))
        return known[1]

    def take_chained(self) -> set[int]:
        """Jobs of which it is new, since this was asked last, to which chain they belong."""
        self._follow_chains()
        new, self._newly = self._newly, set()
        return new

    def _follow_chains(self) -> None:
        if self._followed == self.session.version:
            return
        self._followed = self.session.version
        for number, record in self.session.engine.state.chains.items():
            if self._records.get(number) is not record:
                self._records[number] = record
                told = {part.job: (number, record.name) for part in record.parts if part.job}
                self._newly |= {job for job, chain in told.items() if self._chained.get(job) != chain}
                self._chained |= told

    def why(self, job: Job, explainer: Explainer) -> str:
        """Say what a waiting job waits for, or what stands in the way of all."""
        closed = self.session.obstacle() if job.phase is Phase.WAITING else None
        return closed.words if closed is not None else explainer.why(job, job.reason).because

    def read(self, job: Job) -> Seen:
        """Read what a running job does now, where it runs; nothing of any other."""
        if job.phase is not Phase.RUNNING or job.request.array is not None:
            return Seen()
        files, now = self.session.runner.files, self.session.now()
        parts = files.parts(job, now) if len(job.allocations) > 1 else ()
        return Seen(files.live(job, now), files.inside(job, now), self._running_warning(job), job.attempt, parts)

    def shown(
        self, job: Job, expected: Expected | None, unplaced: Unplaced | None, why: str, seen: Seen | None = None
    ) -> JobView:
        """A live job as the board shows it, with what is known of its start by now. ``seen``: what it does; None: it is read."""
        alone, (job, counts) = job, self._summed(job)
        array, running = job.request.array is not None, job.phase is Phase.RUNNING
        stuck = ""
        if job.phase is Phase.WAITING:
            closed = self.session.obstacle()
            if closed is not None:
                expected, unplaced, why = None, closed, closed.words
            stuck = unplaced.short if unplaced is not None else ""
        seen = self.read(job) if seen is None else seen
        warning = seen.warning if running and not array else self.hopeless(job, unplaced)
        if running and array:
            expected, why = self._array_expected(job, dict(counts)), ""
        elif job.phase in (Phase.HELD, Phase.BLOCKED):
            why = stated(alone, alone.reason).because
        return self._made(job, counts, expected or Expected(), why=why, warning=warning, stuck=stuck, seen=seen)

    def _copying(self, job: Job) -> Copying | None:
        """A copy that is under way; only hosts have any."""
        here = self.session.site.apart and job.phase is Phase.RUNNING and job.request.array is None
        return self.session.runner.files.copying(job) if here else None

    def _quiet_since(self, job: Job) -> int | None:
        quiet = self.session.engine.state.quiet
        if not quiet or job.phase is not Phase.RUNNING:
            return None
        return min((quiet[one.node] for one in job.allocations if one.node in quiet), default=None)

    def tasks(self, job: Job) -> Iterable[JobView]:
        """The tasks of an array that have been made, in their order."""
        ended = self.session.journal.ended(EndedFilter(array=job.number, limit=MOST_TASKS))
        for task in sorted([*ended, *self.session.tasks_of(job.number)], key=lambda one: one.number):
            yield self.view(task)

    def _made(
        self,
        job: Job,
        counts: tuple[tuple[str, int], ...],
        expected: Expected,
        *,
        why: str,
        warning: str,
        stuck: str = "",
        seen: Seen | None = None,
    ) -> JobView:
        session, request, now = self.session, job.request, self.session.now()
        array = request.array is not None
        self._follow_chains()
        chain, chain_name = self._chained.get(job.number, (0, ""))
        live, told, charged, parts = None, job.inside, job.charge_core_ms, job.parts
        if job.phase is Phase.RUNNING and not array:
            live, told, parts = (seen.live, seen.inside, seen.parts) if seen is not None else (None, None, ())
            charged += charge_so_far(session.site, job, now)
        planner, need = session.engine.plans.planner, None
        if not job.allocations:
            need = next(iter(planner.needs_of(PlanRequest(job.number, request, owner=owner_of(job)))), None)
        node_count = need.node_count if need else 0
        paths = job.paths
        return JobView(
            job=job.number,
            name=request.name,
            label=job.label,
            phase=job.phase,
            user=job.user,
            account=request.account,
            queue=job.queue or ", ".join(request.queues),
            tier=request.tier,
            submitted_ms=job.submitted_ms,
            started_ms=job.started_ms,
            ended_ms=job.ended_ms,
            forecast_ms=expected.start_ms,
            forecast_end_ms=expected.end_ms,
            forecast_nodes=expected.nodes,
            why=why,
            nodes=tuple(one.node for one in job.allocations),
            cores_by_node={one.node: one.cores for one in job.allocations},
            node_count=len(job.allocations) or node_count,
            cores=job.cores_allocated or (need.cores if need else 0),
            ranks=sum(one.ranks for one in job.allocations) or request.ranks,
            threads=request.threads,
            gpus=sum(len(one.gpus) for one in job.allocations) or request.gpus * node_count,
            memory_mib=sum(one.memory_mib for one in job.allocations)
            or (sum(part.nodes * part.memory_mib for part in need.parts) if need else 0),
            scratch_mib=sum(one.scratch_mib for one in job.allocations) or request.scratch_mib * node_count,
            walltime_s=request.walltime_s,
            grace_s=request.grace_s,
            elapsed_s=job.elapsed_ms(now) // 1000,
            attempt_ms=job.attempt_ms(now),
            waited_before_ms=job.times.waited_ms if job.times.first_wait_ms is None else job.times.first_wait_ms,
            waiting_since_ms=job.times.waiting_since_ms if job.times.first_wait_ms is None else None,
            cpu_ms=job.cpu_ms(live[0] if live else None),
            use=live[0] if live else job.use,
            cores_busy=live[1] if live else None,
            exit=job.exit,
            signal=job.signal,
            reason=job.reason,
            quiet_since_ms=self._quiet_since(job),
            copying=self._copying(job),
            replaces=run_before(session, job),
            planned=job.planned and job.phase is Phase.SKIPPED,
            stopping=job.stopping,
            attempt=job.attempt,
            charge_core_ms=charged,
            output=paths.output,
            errors=paths.errors,
            parent=job.parent,
            task=request.task,
            parameters=request.parameters,
            arguments=request.arguments,
            rows=request.array.rows if request.array else (),
            counts=counts,
            failed_tasks=self._failed_tasks(job, dict(counts)) if array and job.phase.final else (),
            chain=chain,
            chain_name=chain_name,
            range=session.ranges.get(job.number) if job.phase in (Phase.WAITING, Phase.BLOCKED) else None,
            inside=told,
            curve=job.curve,
            warning=warning,
            stuck=stuck,
            parts=parts,
        )

    # -- arrays ------------------------------------------------------------------------------------

    def _failed_tasks(self, job: Job, counts: dict[str, int]) -> tuple[int, ...]:
        numbers: list[int] = []
        for phase in FAILING:
            if counts.get(phase.value):
                wanted = EndedFilter(array=job.number, phase=phase.value, limit=MOST_FAILED)
                numbers += [one.request.task or 0 for one in self.session.journal.ended(wanted)]
        return tuple(sorted(numbers)[:MOST_FAILED])

    def _summed(self, job: Job) -> tuple[Job, tuple[tuple[str, int], ...]]:
        """An array with the sums of its tasks, and any other job as it is."""
        return self._together(job) if job.request.array is not None else (job, ())

    def _together(self, job: Job) -> tuple[Job, tuple[tuple[str, int], ...]]:
        """An array with the sums of its tasks: what runs, since when, where; and its tasks by state."""
        live = self.session.tasks_of(job.number)
        running = [task for task in live if task.phase is Phase.RUNNING]
        counts = dict(job.counts)
        waiting = job.unmade_tasks + len(live) - len(running)
        held = len(job.held_tasks) + sum(task.phase is Phase.HELD for task in live)
        held = waiting if job.phase is Phase.HELD else held
        for word, count in (("running", len(running)), ("held", held), ("waiting", waiting - held)):
            if count and not job.phase.final:
                counts[word] = count
        ordered = tuple(sorted(counts.items()))
        if not running:
            stands = job.phase is Phase.WAITING and held and held == waiting
            return (replace(job, phase=Phase.HELD) if stands else job), ordered
        sums: dict[str, Allocation] = {}
        for one in (one for task in running for one in task.allocations):
            known = sums.get(one.node, Allocation(one.node, 0, (), 0))
            sums[one.node] = Allocation(
                node=one.node,
                ranks=known.ranks + one.ranks,
                cores=known.cores + one.cores,
                memory_mib=known.memory_mib + one.memory_mib,
                gpus=known.gpus + one.gpus,
                scratch_mib=known.scratch_mib + one.scratch_mib,
            )
        began = job.times.first_start_ms
        now, site = self.session.now(), self.session.site
        charged = sum(charge_so_far(site, task, now) for task in running)
        together = replace(
            job,
            phase=job.phase if job.phase is Phase.HELD else Phase.RUNNING,
            started_ms=began,
            allocations=tuple(sums.values()),
            charge_core_ms=job.charge_core_ms + charged,
        )
        return together, ordered

    def _array_expected(self, job: Job, counts: dict[str, int]) -> Expected:
        """For a running array: when the running tasks must have ended, and when all would have ended at this pace."""
        now = self.session.now()
        limit = max((task.end_limit_ms or 0 for task in self.session.tasks_of(job.number)), default=now)
        at_a_time = max(1, counts.get("running", 0))
        rounds = -(-counts.get("waiting", 0) // at_a_time)
        return Expected(limit, limit + rounds * (job.request.walltime_s + job.request.grace_s) * 1000)

    # -- what is expected, and what somebody should see to -----------------------------------------

    @staticmethod
    def expected(job: Job, plan: Plan) -> Expected:
        """When and where a plan has a waiting job run."""
        placed = plan.place_of(job.number)
        if placed is None:
            return Expected()
        return Expected(placed.start_ms, placed.end_ms, tuple(one.node for one in placed.allocations))

    def hopeless(self, job: Job, unplaced: Unplaced | None) -> str:
        """Why a job that waits will not start by itself, or empty."""
        kind = unplaced.kind if unplaced is not None and job.phase is Phase.WAITING else ""
        if kind == "nodes":
            return "no open node could take it; it waits until one is opened"
        if kind == "budget":
            return "its account's budget does not cover it"
        if kind == "cores" and unplaced is not None:
            return unplaced.words
        for number, _ in job.unmet:
            other = self.session.engine.state.jobs.get(number)
            if other is not None and other.phase is Phase.HELD:
                return f"{other.label}, which it waits for, is held by {other.reason or other.user}"
        return ""

    def _running_warning(self, job: Job) -> str:
        """The warning about a running job, as of the last full ten seconds, or minute: whoever looks in between sees the same."""
        now, files = self.session.now(), self.session.runner.files
        every = min(MOST_WARN_EVERY_MS, max(WARN_EVERY_MS, job.request.walltime_s * 1000 // WARNINGS))
        at = max(job.started_ms or now, now - now % every)
        known = self._warned.get(job.number)
        key = job.attempt, at, self.session.past
        if known is not None and known[0] == key:
            return known[1]
        if len(self._warned) > MOST_TASKS:
            self._warned.clear()
        live = files.live(job, at)
        words = warning_of(job, at, live[0] if live else Use(), files.samples(job, at), self._like_it(job))
        self._warned[job.number] = key, words
        return words

    def _like_it(self, job: Job) -> tuple[LikeIt, ...]:
        """The newest alike runs of this size that had come to their end when this one began."""
        key = job.number, job.started_ms or 0, self.session.past
        known = self._usual.get(key)
        if known is None:
            if len(self._usual) > MOST_TASKS:
                self._usual.clear()
            until = job.started_ms or 0
            alike = (one for one, _ in self.alike.like_job(job) if (one.ended_ms or 0) <= until)
            runs = [one for one in alike if one.phase in (Phase.DONE, Phase.OVERTIME)][:USUAL_RUNS]
            known = self._usual[key] = tuple(
                LikeIt(
                    one.attempt_ms(0) / 1000,
                    one.use.cpu_ms / 1000,
                    one.phase is Phase.OVERTIME,
                    one.use.memory_peak_mib,
                    one.curve,
                )
                for one in runs
                if one.cores_allocated == job.cores_allocated
            )
        return known
