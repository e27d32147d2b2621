"""What a site says of a draft: problems, place, start ladder, cost. A part of reading a site in use."""

from collections.abc import Iterable
from dataclasses import replace

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.header.check import Checked, Outside, check_script
from lazy_quarry.core.header.script_checks import compared_with_earlier
from lazy_quarry.core.header.surroundings import EarlierRuns
from lazy_quarry.core.job.request import Need, Request, eligible_nodes
from lazy_quarry.core.ledger.charges import AccountLine, greatest_charge
from lazy_quarry.core.plan.array_finish import through
from lazy_quarry.core.plan.planner import Placement, Plan, PlanRequest
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Node, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import format_duration
from lazy_quarry.site.views import DraftReport, FinishRung, PlacedNode, Rung, Submission, TraitRung
from lazy_quarry.store.journal import EndedFilter, Journal

LADDER_S = (900, 3600, 4 * 3600, 12 * 3600, 2 * 86400)
DRAWN_NODES = 64
"""Nodes of a placement that are told one by one."""


class Drafts:
    """Answers for drafts at one instant, from the one plan."""

    def __init__(
        self, engine: Engine, plan: Plan, journal: Journal, user: str, accounts: tuple[AccountLine, ...], now_ms: int
    ) -> None:
        self.engine, self.plan, self.journal, self.user = engine, plan, journal, user
        self.site: Site = engine.site
        self.accounts = {line.account: line for line in accounts}
        self.now_ms = now_ms

    def check(self, submission: Submission) -> Checked:
        """The script checked, with what only the site knows added."""
        outside = Outside(
            self.user,
            submission.path,
            submission.directory,
            submission.overrides,
            submission.arguments,
            submission.findings,
            {name: line.left_core_ms for name, line in self.accounts.items()},
            replace(submission.surroundings, now_ms=self.now_ms),
        )
        checked = check_script(submission.script, self.site, outside)
        if checked.request is None or not checked.needs:
            return checked
        earlier = self._earlier(checked.request.name)
        if earlier is None:
            return checked
        more = compared_with_earlier(checked.request, checked.needs[0], earlier, dict(checked.lines))
        found = sorted([*checked.diagnostics, *more], key=lambda one: one.rank)
        return replace(checked, diagnostics=tuple(found))

    def _earlier(self, name: str) -> EarlierRuns | None:
        """What the last runs of this name took that were done."""
        wanted = EndedFilter(user=self.user, name=name, phase="done", limit=10)
        runs = [job for job in self.journal.ended(wanted) if job.started_ms is not None and job.ended_ms is not None]
        runs = [job for job in runs if job.request.array is None]
        if not runs:
            return None
        took = [max(1, ((job.ended_ms or 0) - (job.started_ms or 0)) // 1000) for job in runs]
        busy = [job.use.cpu_ms / 1000 / seconds for job, seconds in zip(runs, took, strict=True)]
        peak = max(job.use.memory_peak_mib for job in runs)
        return EarlierRuns(len(runs), max(took), peak, max(busy), runs[0].cores_allocated)

    def report(self, submission: Submission) -> DraftReport:
        """All that can be said of a draft."""
        checked = self.check(submission)
        request = checked.request
        needs = checked.needs or (self.engine.planner.needs(request) if request else ())
        traits = tuple(self._traits(request)) if request else ()
        if request is None or not needs:
            return DraftReport(checked.diagnostics, self.now_ms, traits=traits, trial=self.site.trial)
        self.base = self.engine.before(self.engine.hypothetical_job(self.user, request, self.now_ms), self.now_ms)
        timeline = self.base.timeline_of(self._plan_request(request))
        placement = self._place(timeline, request)
        need = self._need(request, placement) or needs[0]
        tasks = request.array.count if request.array else 0
        line = self.accounts.get(request.account)
        matching = self._matching(request)
        nodes = placement.nodes if placement else ()
        return DraftReport(
            checked.diagnostics,
            self.now_ms,
            request.name,
            request.account,
            placement.queue if placement else need.queue,
            len(nodes) or need.node_count,
            need.ranks,
            request.threads,
            sum(one.amount[0] for one in nodes) or need.cores,
            sum(one.amount[1] for one in nodes) or need.memory_mib,
            request.walltime_s,
            request.whole_nodes,
            tuple(self._placed(placement)) if placement else (),
            tuple(self._ladder(timeline, request)),
            greatest_charge(
                self.site,
                request.tier,
                sum(one.amount[0] for one in nodes) or need.cores,
                request.walltime_s,
                tasks or 1,
            ),
            line.left_core_ms if line else None,
            len(nodes),
            tuple(self._fewer(timeline, request, need)),
            tasks,
            tuple(self._through(timeline, request)),
            traits,
            (len(matching), sum(node.cores for node in matching)),
            request.gpus,
            placement.start_ms if placement else None,
            self.site.trial,
        )

    def _place(self, timeline: Timeline, request: Request, not_before_ms: int = 0) -> Placement | None:
        return self.engine.planner.place(timeline, self._plan_request(request), not_before_ms, self.base.limits)

    def _plan_request(self, request: Request) -> PlanRequest:
        return self.engine.plan_request_of(self.engine.hypothetical_job(self.user, request, self.now_ms))

    def _need(self, request: Request, placement: Placement | None) -> Need | None:
        """What is asked of the queue and number of nodes that the placement has."""
        if placement is None:
            return None
        found = [need for need in self.engine.planner.needs(request) if need.queue == placement.queue]
        exact = [need for need in found if need.node_count == len(placement.nodes)]
        return next(iter(exact or found), None)

    def _placed(self, placement: Placement) -> Iterable[PlacedNode]:
        held: dict[str, set[int]] = {}
        for job in self.engine.state.running():
            if (job.end_limit_ms or 0) > placement.start_ms:
                for allocation in job.allocations:
                    held.setdefault(allocation.node, set()).update(allocation.cores)
        for one in placement.nodes[:DRAWN_NODES]:
            node = self.site.node[one.node]
            taken = held.get(one.node, set())
            free = [core for core in range(node.cores) if core not in taken]
            own = free[: one.amount[0]]
            yield PlacedNode(one.node, node.cores, tuple(sorted(taken)), tuple(own), one.ranks)

    # -- the ladder --------------------------------------------------------------------------------

    def _longest(self, request: Request) -> int | None:
        limits = [self.site.queue[name].walltime_limit_s for name in request.queues]
        longest = None if None in limits else max(limit for limit in limits if limit)
        tier = self.site.tier[request.tier].walltime_limit_s
        return min((one for one in (longest, tier) if one), default=None)

    def _ladder(self, timeline: Timeline, request: Request) -> Iterable[Rung]:
        longest = self._longest(request)
        steps = {min(step, longest) if longest else step for step in LADDER_S}
        start: int | None = 0
        for walltime in sorted({*steps, request.walltime_s}):
            asked = walltime == request.walltime_s
            if longest and walltime > longest:
                yield Rung(walltime, None, asked, f"over the limit of {format_duration(longest)}")
                continue
            longer = replace(request, walltime_s=walltime)
            placement = self._place(timeline, longer, start) if start is not None else None  # longer is never sooner
            start = placement.start_ms if placement else None
            yield Rung(walltime, start, asked, "" if placement else "no forecast")

    def _fewer(self, timeline: Timeline, request: Request, need: Need) -> Iterable[Rung]:
        """The same on fewer nodes: as many ranks on each as now where the ranks don't fit otherwise."""
        nodes = request.nodes or need.node_count
        if request.anywhere or request.most_nodes or nodes < 2:
            return
        counts = sorted({max(1, nodes * part // 4) for part in (1, 2, 3)} - {nodes}, reverse=True)
        for count in counts:
            same = replace(request, nodes=count, most_nodes=None)
            less = replace(same, ranks=max(count, request.ranks * count // nodes))
            for smaller in (same, less):
                placement = self._place(timeline, smaller)
                if placement is not None:
                    yield Rung(request.walltime_s, placement.start_ms, False, "", count, smaller.ranks)
                    break

    def _through(self, timeline: Timeline, request: Request) -> Iterable[FinishRung]:
        array = request.array
        if array is None:
            return
        limits: list[int | None] = [None]
        if array.at_once and array.at_once < array.count:
            limits += [array.at_once, min(array.count, array.at_once * 2), max(1, array.at_once // 2)]
        else:
            limits += [max(1, array.count // 2), max(1, array.count // 8)]
        asked = array.at_once if array.at_once and array.at_once < array.count else None
        for limit in sorted(set(limits), key=lambda one: array.count + 1 if one is None else one):
            if limit is not None and limit >= array.count and limit != asked:
                continue
            found = through(self.engine.planner, timeline, request, array.count, limit)
            first, last = (found.first_ms, found.last_ms) if found else (None, None)
            yield FinishRung(limit, limit == asked, first, last, bool(found and found.reckoned))

    # -- traits ------------------------------------------------------------------------------------

    def _matching(self, request: Request) -> list[Node]:
        found = {
            node.name: node
            for name in request.queues
            for node in eligible_nodes(request, self.site.queue[name], self.site)
        }
        return list(found.values())

    def _traits(self, request: Request) -> Iterable[TraitRung]:
        """For each trait of the queues' nodes, what would match with it beside what is asked for."""
        names = {name for queue in request.queues for name in self.site.queue[queue].nodes}
        nodes = [self.site.node[name] for name in sorted(names)]
        chosen = parse_traits(request.traits).names if request.traits else frozenset[str]()
        used = dict.fromkeys(names, 0)
        for job in self.engine.state.running():
            for allocation in job.allocations:
                if allocation.node in used:
                    used[allocation.node] += len(allocation.cores)
        for trait in sorted({trait for node in nodes for trait in node.traits}):
            both = request.traits if trait in chosen else f"({request.traits}) and {trait}" if request.traits else trait
            wanted = parse_traits(both)
            match = [node for node in nodes if wanted.met_by(set(node.traits))]
            closed = self.engine.state.closures
            free = sum(node.cores - used[node.name] for node in match if node.name not in closed)
            yield TraitRung(trait, trait in chosen, len(match), sum(node.cores for node in match), free)
