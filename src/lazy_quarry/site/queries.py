"""What can be read of a site in use: jobs, the board, room now. Nothing here changes the site."""

from collections.abc import Iterable
from typing import Literal

from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.request import Memory, Request
from lazy_quarry.core.plan.room_search import rooms
from lazy_quarry.errors import Refused
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.site.board import Board, LimitView, NodeView, Occupant, Owner, PersonView, SiteNames, SiteView, Strata
from lazy_quarry.site.job_detail import JobDetail, Record
from lazy_quarry.site.job_view import JobView
from lazy_quarry.site.job_views import JobViews
from lazy_quarry.site.present import Present
from lazy_quarry.site.record import record_words
from lazy_quarry.site.room_view import room_view
from lazy_quarry.site.sentences import verdict
from lazy_quarry.site.views import RoomView
from lazy_quarry.store.journal import EndedFilter

_WAITS = (Phase.WAITING, Phase.HELD, Phase.BLOCKED)


class Queries:
    """Answers about jobs and about the site."""

    def __init__(self, present: Present) -> None:
        self.present = present
        self.views = JobViews(present)

    # -- jobs --------------------------------------------------------------------------------------

    def jobs(
        self, ended: bool = False, since_ms: int | None = None, everyone: bool = True, limit: int = 500
    ) -> list[JobView]:
        """Live jobs in the order of their numbers, or the newest ended ones."""
        present = self.present
        with present.lock:
            if ended:
                user = None if everyone else present.user
                found = present.journal.ended(EndedFilter(user=user, since_ms=since_ms, limit=limit))
            else:
                live = (job for _, job in sorted(present.engine.state.jobs.items()))
                found = [job for job in live if (everyone or job.user == present.user) and job.parent is None]
            explainer = present.explainer()
            return [self.views.view(job, explainer) for job in found]

    def job(self, number: int) -> JobView:
        """One job, live or ended. Raises :class:`NoSuchJob`."""
        with self.present.lock:
            return self.views.view(self.present.find(number), self.present.explainer())

    def detail(self, number: int) -> JobDetail:
        """One job with its record, script and verdict."""
        present = self.present
        with present.lock:
            job = present.find(number)
            explainer = present.explainer()
            view = self.views.view(job, explainer)
            script = job.origin.script
            if job.parent is not None and not script:  # it is kept once, with the array
                script = present.find(job.parent).origin.script
            events = present.journal.events_of(number)
            return JobDetail(
                view=view,
                record=tuple(Record(event.at_ms, record_words(event, present.zone)) for event in events),
                script=script,
                script_path=job.origin.path,
                directory=job.paths.folder,
                overrides=job.origin.overrides,
                verdict=verdict(view) if job.phase.final else "",
                tasks=tuple(self.views.tasks(job)) if job.request.array is not None else (),
                explained=explainer.explained(job) if job.phase in _WAITS else None,
            )

    def output(self, number: int, which: Literal["output", "errors"], from_byte: int = 0) -> OutputChunk:
        """A piece of what a job printed; a negative ``from_byte`` counts from the end."""
        with self.present.lock:
            job = self.present.find(number)
            path = job.paths.output if which == "output" else job.paths.errors
            return self.present.runner.output(job, path, from_byte, self.present.now())

    def samples(self, number: int) -> list[tuple[int, float, int]]:
        """What was measured of a running job: (instant in ms, cores busy, memory in MiB), oldest first."""
        with self.present.lock:
            job = self.present.engine.state.jobs.get(number)
            running = job is not None and job.phase is Phase.RUNNING
            return self.present.runner.samples(job, self.present.now()) if job and running else []

    # -- waiting jobs ------------------------------------------------------------------------------

    def turns(self) -> list[int]:
        """One's own waiting jobs in the order of their turns."""
        with self.present.lock:
            order = self.present.engine.plans.in_order(self.present.now())
            return [job.number for job in order if job.user == self.present.user and job.parent is None]

    def ladder(self, number: int) -> list[Suggestion]:
        """When a waiting job would start with other walltimes."""
        with self.present.lock:
            job = self.present.find(number)
            return list(self.present.explainer().ladder(job)) if job.phase is Phase.WAITING else []

    def compare(self, first: int, second: int) -> str:
        """Which of two waiting jobs stands ahead, and by which part. Raises :class:`Refused` when one doesn't wait."""
        with self.present.lock:
            jobs = [self.present.find(number) for number in (first, second)]
            for job in jobs:
                if job.phase is not Phase.WAITING:
                    raise Refused(f"{job.label} is {job.phase}; only waiting jobs have an order")
            return self.present.explainer().compare(*jobs)

    # -- the site ----------------------------------------------------------------------------------

    def board(self) -> Board:
        """Everything that the interface shows of the present."""
        present = self.present
        with present.lock:
            explainer = present.explainer()
            live = [job for _, job in sorted(present.engine.state.jobs.items())]
            nodes = tuple(self._nodes())
            return Board(
                version=present.version,
                now_ms=present.now(),
                clock=present.clock_view,
                site=self._site(),
                person=self._person(),
                strata=_strata(nodes),
                nodes=nodes,
                jobs=tuple(self.views.view(job, explainer) for job in [*live, *present.recently_ended()]),
                accounts=present.account_lines(),
                notices=self.notices(),
            )

    def notices(self) -> tuple[str, ...]:
        """What stands in the way of the site or of certain jobs now, in sentences."""
        present = self.present
        with present.lock:
            return tuple(notice for notice in [present.damage, present.unwritable, *present.runner.notices()] if notice)

    def _site(self) -> SiteView:
        site, now = self.present.site, self.present.now()
        return SiteView(
            name=site.name,
            head=site.head,
            contact=site.contact,
            queues=site.queues,
            tiers=site.tiers,
            default_queue=site.default_queue,
            default_tier=site.default_tier,
            trial=site.trial,
            software=site.software,
            storage=site.storage,
            login_nodes=tuple(node for node in site.nodes if not node.runs_jobs),
            examples=site.examples,
            windows=tuple(window for window in self.present.engine.plans.windows if window.ends_ms > now),
        )

    def _person(self) -> PersonView:
        site, user = self.present.site, self.present.user
        accounts = site.accounts_of(user)
        tiers = [tier.name for tier in site.tiers if not tier.users or user in tier.users]
        owners = [("user", user), *(("account", name) for name in accounts), *(("tier", name) for name in tiers)]
        limits = tuple(LimitView(*one) for one in self.present.engine.limit_use.in_use(owners))
        return PersonView(user, site.default_account(user) or "", accounts, limits)

    def names(self) -> SiteNames:
        """The names that may stand in a request of this person."""
        with self.present.lock:
            site, user = self.present.site, self.present.user
            nodes = [node for node in site.nodes if node.runs_jobs]
            return SiteNames(
                accounts=site.accounts_of(user),
                queues=tuple(queue.name for queue in site.queues if not queue.users or user in queue.users),
                tiers=tuple(tier.name for tier in site.tiers if not tier.users or user in tier.users),
                traits=tuple(sorted({trait for node in nodes for trait in node.traits})),
                nodes=tuple(node.name for node in nodes),
                modules=site.modules,
            )

    def room(self, queue: str) -> list[RoomView]:
        """The most that could start now in a queue, by walltime and kind. Raises :class:`Refused` for no such queue."""
        present, site = self.present, self.present.site
        with present.lock:
            known = site.queue.get(queue)
            if known is None:
                raise Refused(f'there is no queue "{queue}"; there are {", ".join(site.queue)}')
            account, tier = site.default_account(present.user) or "", known.tier or site.default_tier
            plain = Request("room", account, (queue,), tier, 60, Memory(1))
            job = present.engine.plans.hypothetical_job(present.user, plain, present.now())
            plan = present.engine.plans.plan_before(job, present.now())
            timeline = plan.timeline_of(present.engine.plans.plan_request_of(job))
            found = rooms(present.engine.plans.planner, timeline, site, known, account, present.user, plan.limits)
            return [room_view(one) for one in found]

    def _nodes(self) -> Iterable[NodeView]:
        site, state = self.present.site, self.present.engine.state
        accounts = set(site.accounts_of(self.present.user))
        occupants: dict[str, list[Occupant]] = {}
        for job in state.running():
            for node, occupant in self._occupied(job, accounts):
                occupants.setdefault(node, []).append(occupant)
        queues: dict[str, list[str]] = {}
        for queue in site.queues:
            for name in queue.nodes:
                queues.setdefault(name, []).append(queue.name)
        for node_ in site.nodes:
            if node_.runs_jobs:
                yield NodeView(
                    name=node_.name,
                    queues=tuple(queues.get(node_.name, ())),
                    cores=node_.cores,
                    memory_mib=node_.memory_mib,
                    gpus=node_.gpus,
                    scratch_mib=node_.scratch_mib,
                    traits=node_.traits,
                    closed=state.closures.get(node_.name, ""),
                    occupants=tuple(occupants.get(node_.name, ())),
                )

    def _occupied(self, job: Job, accounts: set[str]) -> Iterable[tuple[str, Occupant]]:
        """What a running job has of each of its nodes."""
        owner: Owner = "accounts" if job.request.account in accounts else "others"
        if job.user == self.present.user:
            owner = "mine"
        for allocation in job.allocations:
            yield (
                allocation.node,
                Occupant(
                    job=job.number,
                    label=job.label,
                    owner=owner,
                    name=job.request.name,
                    user=job.user,
                    cores=allocation.cores,
                    memory_mib=allocation.memory_mib,
                    gpus=len(allocation.gpus),
                    until_ms=job.end_limit_ms or 0,
                ),
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
