"""A site's report on a draft: problems, place, start ladder, cost."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from lazy_quarry.core.advice.forward_draws import SupposedJob
from lazy_quarry.core.advice.next_time import RunToLearnFrom, round_time, walltime_bound
from lazy_quarry.core.header.check import CheckContext, Checked, check_script
from lazy_quarry.core.header.earlier_runs import EarlierRuns, EnoughForMost, compared_with_earlier
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.nearest_request import nearest_request
from lazy_quarry.core.job.needs import Need, choices, eligible_nodes
from lazy_quarry.core.job.queue_fit import longest_walltime_s, queue_fit
from lazy_quarry.core.job.rates import greatest_charge, most_counted
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.paths import start_folder
from lazy_quarry.core.plan.array_finish import array_finish
from lazy_quarry.core.plan.placement import CORES, FAR, MEMORY, Placement, PlanRequest
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.plan.room import WALLTIMES_S
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Node
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import format_duration
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Impossible
from lazy_quarry.site.alike_runs import AlikeRuns, past_run
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.session import Session
from lazy_quarry.site.supposed_jobs import Foreseen
from lazy_quarry.views.draft_view import (
    DraftCost,
    DraftPlacement,
    DraftReport,
    DraftShape,
    DraftStarts,
    DraftTraits,
    FinishRung,
    PlacedNode,
    Rung,
    TraitRung,
)
from lazy_quarry.views.expanded import Expanded, expanded
from lazy_quarry.wording.advice_words import stop_costs

DRAWN_NODES = 64
"""Nodes of a placement that are told one by one."""


class Drafts:
    """Answers for drafts, from the one plan. ``foreseen`` says what is expected of a user's jobs, where that is known."""

    def __init__(self, session: Session, foreseen: Callable[[str, tuple[SupposedJob, ...]], Foreseen | None]) -> None:
        self.session, self.foreseen = session, foreseen
        self.alike = AlikeRuns(session)
        self._apart: tuple[Submission, Checked] | None = None
        """A submission that was checked in a process of its own a moment ago, with what was found."""
        self._looked: tuple[Submission, Submission] | None = None
        """The submission that was checked last, without and with what is known of files and programs."""

    @contextmanager
    def knowing(self, apart: tuple[Submission, Checked] | None) -> Iterator[None]:
        """Within this, a submission that was checked apart already isn't checked again."""
        self._apart = apart
        try:
            yield
        finally:
            self._apart = None

    def check(self, caller: Caller, submission: Submission) -> DraftReport:
        """The report on a draft: problems, place, start, cost."""
        with self.session.lock:
            checked = self.checked(caller, submission)
            request = checked.request
            if request is None:
                return DraftReport(
                    diagnostics=checked.diagnostics, now_ms=self.session.now(), trial=self.session.site.trial
                )
            report = _DraftAnswer(self.session, caller.user, checked, request).report()
            known = self._earlier(caller.user, request, submission)
            if report.place.start_ms is not None:
                found = self.foreseen(caller.user, (SupposedJob("", request),))
                report = replace(report, range=found.ranges.get("") if found else None)
            return replace(report, earlier=(known.runs, known.shortest_s, known.longest_s)) if known else report

    def expand(self, caller: Caller, submission: Submission) -> Expanded:
        """The tasks of a draft's array. Raises :class:`Refused` where it has none."""
        with self.session.lock:
            checked = self.checked(caller, submission)
            wrong = next((one for one in checked.diagnostics if one.severity == "error"), None)
            return expanded(submission.script, checked.request, f"line {wrong.line}: {wrong.message}" if wrong else "")

    def checked(self, caller: Caller, submission: Submission, compared: bool = True) -> Checked:
        """The script checked, with what only the site knows added; ``compared``: also with what earlier runs used."""
        if self._apart is not None and self._apart[0] == submission:
            checked = self._apart[1]
        else:
            looked = submission if submission.surroundings.looked else self.session.look_up(submission)
            self._looked = submission, looked
            checked = check_script(looked.script, self.session.site, self.context(caller, looked))
        if checked.request is None or not checked.needs or not compared:
            return checked
        earlier = self._earlier(caller.user, checked.request, submission)
        if earlier is None:
            return checked
        more = compared_with_earlier(checked.request, checked.needs[0], earlier, dict(checked.lines))
        found = sorted([*checked.diagnostics, *more], key=lambda one: one.rank)
        return replace(checked, diagnostics=tuple(found))

    def looked(self, submission: Submission) -> Submission:
        """A submission that was just checked, with what was known of files and programs."""
        if submission.surroundings.looked:
            return submission
        known = self._looked
        return known[1] if known is not None and known[0] == submission else self.session.look_up(submission)

    def context(self, caller: Caller, submission: Submission) -> CheckContext:
        """The context for the check of a submission."""
        session = self.session
        left = {line.account: line.left_core_ms for line in session.account_lines()}
        unseen = dict[str, tuple[str, frozenset[str]]]()
        for key, folder in session.folders_of(submission).items() if session.site.apart else ():
            blind = frozenset(name for name, seen in session.runner.sees(folder).items() if not seen)
            unseen[key] = folder, blind
        rates = (
            {one.node: one.copied_a_second for one in session.runner.hosts() if one.copied_a_second} if unseen else {}
        )
        surroundings = replace(submission.surroundings, now_ms=session.now(), unseen=unseen, copied_a_second=rates)
        return CheckContext(caller.user, replace(submission, surroundings=surroundings), left)

    def _earlier(self, user: str, request: Request, submission: Submission) -> EarlierRuns | None:
        """Use of the runs that are alike: the very same that advice is from."""
        folder = start_folder(submission.directory, request.directory)
        kind = self.alike.kind(request.name, submission.script, folder)
        found = [job for job, _ in self.alike.of(kind, user, submission.script)]
        runs = [(job, run) for job in found if (run := past_run(job)) is not None]
        if not runs:
            return None
        took = [int(run.took_s) for _, run in runs]
        return EarlierRuns(
            runs=len(runs),
            longest_s=max(took),
            memory_peak_mib=max(job.use.memory_peak_mib for job, _ in runs),
            busiest=max(run.busy for _, run in runs),
            cores=runs[0][0].cores_allocated,
            shortest_s=min(took),
            for_most=_enough_for_most([run for _, run in runs], request),
        )


def _enough_for_most(runs: Sequence[RunToLearnFrom], request: Request) -> EnoughForMost | None:
    found = walltime_bound(runs)  # of memory nothing is asked here, and a draft is checked at every key
    most = found.for_most if found is not None else None
    if most is None:
        return None
    return EnoughForMost(most.count, max(1, round(most.most)), round_time(most.value), stop_costs(request, "walltime"))


class _DraftAnswer:
    """The answer for one draft at one instant, asked at the place in the order that the draft would have."""

    def __init__(self, session: Session, user: str, checked: Checked, request: Request) -> None:
        self.engine, self.site, self.planner = session.engine, session.site, session.engine.plans.planner
        self.now_ms = session.now()
        self.checked, self.asked_s = checked, request.walltime_s
        self.instead: tuple[str, ...] = ()
        if not checked.needs and (nearest := nearest_request(request, self.site, user)):
            request, self.instead = nearest
        self.request = request
        self.job = self.engine.plans.hypothetical_job(user, request, self.now_ms)
        self.closed = session.obstacle()
        self.plan: Plan = self.engine.plans.plan_before(self.job, self.now_ms)
        self.timeline = self.plan.timeline_of(self._plan_request(request))
        above = self.site.lineage(request.account)
        left = (one.left_core_ms for one in session.account_lines() if one.account in above)
        self.left_core_ms = min((amount for amount in left if amount is not None), default=None)

    def report(self) -> DraftReport:
        request, now = self.request, self.now_ms
        # What is over a limit has a shape all the same, and so it can be drawn.
        needs = self.checked.needs or self._needs() or tuple(self._shapes())
        report = DraftReport(
            diagnostics=self.checked.diagnostics,
            now_ms=now,
            traits=self._traits(),
            trial=self.site.trial,
        )
        if not needs:
            return report
        placement = self._place(request)
        drawn = placement or self._place(replace(request, walltime_s=min(request.walltime_s, self._longest_s() or FAR)))
        obstacle = self._obstacle(request, placement)
        need = self._need_at(drawn) or needs[0]
        shape = self._shape(need, drawn)
        return replace(
            report,
            name=request.name,
            instead=self.instead,
            shape=shape,
            place=replace(
                self._draft_place(need, drawn),
                start_ms=placement.start_ms if placement is not None and obstacle is None else None,
                obstacle=obstacle.words if obstacle is not None else "",
            ),
            starts=DraftStarts(tuple(self._ladder()), tuple(self._fewer(need)), tuple(self._finish())),
            cost=DraftCost(
                request.account,
                greatest_charge(self.site, request, need, shape.tasks or 1),
                self.left_core_ms,
                most_counted(self.site, need),
                self.site.tier[request.tier].charge_permille if request.tier in self.site.tier else 1000,
            ),
        )

    def _needs(self) -> tuple[Need, ...]:
        fits = (
            queue_fit(self.request, self.site.queue[name], self.site, self.job.user) for name in self.request.queues
        )
        return tuple(need for fit in fits for need in fit.needs[:1])

    def _shapes(self) -> Iterable[Need]:
        for name in self.request.queues:
            with suppress(Impossible):
                yield from choices(self.request, self.site.queue[name], self.site)

    def _plan_request(self, request: Request) -> PlanRequest:
        return self.engine.plans.plan_request_of(replace(self.job, request=request))

    def _place(self, request: Request, not_before_ms: int = 0) -> Placement | None:
        return self.planner.place(self.timeline, self._plan_request(request), not_before_ms, self.plan.limits)

    def _obstacle(self, request: Request, placement: Placement | None) -> Unplaced | None:
        """The reason why it could not start at a place that is free for it."""
        return self.closed or self.plan.obstacle(self._plan_request(request), placement)

    def _need_at(self, placement: Placement | None) -> Need | None:
        """The need in the queue, and with the number of nodes, that the placement has."""
        if placement is None:
            return None
        found = [need for need in self.planner.needs(self.request, self.job.user) if need.queue == placement.queue]
        exact = [need for need in found if need.node_count == len(placement.allocations)]
        return next(iter(exact or found), None)

    def _shape(self, need: Need, placement: Placement | None) -> DraftShape:
        request, allocations = self.request, placement.allocations if placement else ()
        return DraftShape(
            nodes=len(allocations) or need.node_count,
            ranks=need.ranks,
            threads=request.threads,
            cores=sum(one.amount[CORES] for one in allocations) or need.cores,
            gpus=request.gpus,
            memory_mib=sum(one.amount[MEMORY] for one in allocations) or need.memory_mib,
            walltime_s=request.walltime_s,
            grace_s=request.grace_s,
            whole_nodes=request.whole_nodes,
            tasks=request.array.count if request.array else 0,
        )

    def _draft_place(self, need: Need, placement: Placement | None) -> DraftPlacement:
        if placement is None:
            return DraftPlacement(queue=need.queue)
        return DraftPlacement(
            queue=placement.queue,
            start_ms=placement.start_ms,
            nodes=tuple(self._placed(placement)),
            node_count=len(placement.allocations),
        )

    def _placed(self, placement: Placement) -> Iterable[PlacedNode]:
        in_use: dict[str, set[int]] = {}
        for job in self.engine.state.running():
            if (job.end_limit_ms or 0) > placement.start_ms:
                for allocation in job.allocations:
                    in_use.setdefault(allocation.node, set()).update(allocation.cores)
        for one in placement.allocations[:DRAWN_NODES]:
            node = self.site.node[one.node]
            taken = in_use.get(one.node, set())
            free = [core for core in range(node.cores) if core not in taken]
            own = free[: one.amount[CORES]]
            yield PlacedNode(one.node, node.cores, tuple(sorted(taken)), tuple(own), one.ranks)

    # -- the ladder --------------------------------------------------------------------------------

    def _longest_s(self) -> int | None:
        return longest_walltime_s(self.request, self.site, self.job.user)

    def _ladder(self) -> Iterable[Rung]:
        longest, own = self._longest_s(), self.asked_s
        steps = {min(step, longest) if longest else step for step in WALLTIMES_S}
        start: int | None = 0
        refused = "no forecast"
        for walltime in sorted({*steps, own}):
            if longest and walltime > longest:
                yield Rung(walltime, None, walltime == own, f"over the limit of {format_duration(longest)}")
                continue
            if start is not None:  # a longer one never starts sooner, so the search goes on from there
                asked = replace(self.request, walltime_s=walltime)
                placement = self._place(asked, start)
                start = placement.start_ms if placement else None
                if obstacle := self._obstacle(asked, placement):  # nor is a longer one charged less
                    refused, start = obstacle.short, None
            yield Rung(walltime, start, walltime == own, "" if start is not None else refused)

    def _fewer(self, need: Need) -> Iterable[Rung]:
        """The same on fewer nodes; where the ranks don't fit otherwise, as many on each node as now."""
        request = self.request
        nodes = request.nodes or need.node_count
        if request.anywhere or request.most_nodes or nodes < 2:
            return
        counts = sorted({max(1, nodes * part // 4) for part in (1, 2, 3)} - {nodes}, reverse=True)
        for count in counts:
            same = replace(request, nodes=count, most_nodes=None)
            less = replace(same, ranks=max(count, request.ranks * count // nodes))
            for smaller in (same, less):
                placement = self._place(smaller)
                if placement is not None and self._obstacle(smaller, placement) is None:
                    yield Rung(request.walltime_s, placement.start_ms, False, "", count, smaller.ranks)
                    break

    def _finish(self) -> Iterable[FinishRung]:
        array = self.request.array
        if array is None:
            return
        blocked = self._obstacle(self.request, self._place(self.request)) is not None
        limited = array.at_once if array.at_once and array.at_once < array.count else None
        if limited is not None:
            limits = {None, limited, min(array.count, limited * 2), max(1, limited // 2)}
        else:
            limits = {None, max(1, array.count // 2), max(1, array.count // 8)}
        for limit in sorted(limits, key=lambda one: array.count + 1 if one is None else one):
            if limit is not None and limit >= array.count and limit != limited:
                continue
            found = None if blocked else array_finish(self.planner, self.timeline, self.request, array.count, limit)
            first, last = (found.first_ms, found.last_ms) if found else (None, None)
            yield FinishRung(limit, limit == limited, first, last, bool(found and found.estimated))

    # -- traits ------------------------------------------------------------------------------------

    def _traits(self) -> DraftTraits:
        queues = [self.site.queue[name] for name in self.request.queues]
        matching = {node.name for queue in queues for node in eligible_nodes(self.request, queue, self.site)}
        return DraftTraits(tuple(self._each_trait()), len(matching))

    def _each_trait(self) -> Iterable[TraitRung]:
        """For each trait of the queues' nodes, what would match with it beside what is requested."""
        request, closed = self.request, {**self.engine.state.quiet, **self.engine.state.closures}
        nodes: list[Node] = [
            self.site.node[name]
            for name in sorted({name for queue in request.queues for name in self.site.queue[queue].nodes})
        ]
        chosen = parse_traits(request.traits).names if request.traits else frozenset[str]()
        used = dict.fromkeys((node.name for node in nodes), 0)
        for job in self.engine.state.running():
            for allocation in job.allocations:
                if allocation.node in used:
                    used[allocation.node] += len(allocation.cores)
        for trait in sorted({trait for node in nodes for trait in node.traits}):
            both = request.traits if trait in chosen else f"({request.traits}) and {trait}" if request.traits else trait
            wanted = parse_traits(both)
            match = [node for node in nodes if wanted.met_by(set(node.traits))]
            free = sum(node.cores - used[node.name] for node in match if node.name not in closed)
            yield TraitRung(trait, trait in chosen, len(match), sum(node.cores for node in match), free)
