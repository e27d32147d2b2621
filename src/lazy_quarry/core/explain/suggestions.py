"""Smaller requests that would start sooner.

Nothing is guessed: each is put in the job's place in the order, and the plan made of it says when it would start. So
applying the change does just that.
"""

from collections.abc import Iterable, Iterator
from datetime import tzinfo

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.plans import owner_of
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.queue_fit import longest_walltime_s
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.units import HOUR_MS, clock_time, exact_duration, exact_size, format_duration, format_size, plural
from lazy_quarry.core.values import replace

_Try = tuple[tuple[tuple[str, str], ...], str, Request]
"""A smaller request: the header keys to set, in words, and itself."""
SHORTER_S = tuple(minutes * 60 for minutes in (15, 30, 45, 60, 90, 120, 180, 240, 360, 480, 720, 1440, 2880))
"""Walltimes that are tried for a sooner start."""
LESS = (3 / 4, 1 / 2, 1 / 4)
"""StandingParts of the memory that are tried."""
SOONER_MS = HOUR_MS
"""A change that doesn't start the job now is told when it gains so much."""


class Suggestions:
    """Tries smaller requests in one plan. Times are told in ``zone``."""

    def __init__(self, engine: Engine, plan: Plan, zone: tzinfo) -> None:
        self.engine, self.plan, self.zone = engine, plan, zone
        self.site, self.plans, self.planner = engine.site, engine.plans, engine.plans.planner

    def ladder(self, job: Job) -> Iterator[Suggestion]:
        """When a waiting job would start with other walltimes, the shortest first; its own is among them.

        If several walltimes have the same start, only the longest is listed: a shorter one gains nothing.
        """
        limit = longest_walltime_s(job.request, self.site, job.user)
        steps = sorted({*SHORTER_S, job.request.walltime_s})
        rungs: list[tuple[int, int]] = []
        for walltime in steps:
            if limit is not None and walltime > limit:
                break
            start = self.start_with(job, replace(job.request, walltime_s=walltime))
            if start is not None:
                if rungs and rungs[-1][1] == start and rungs[-1][0] != job.request.walltime_s:
                    rungs.pop()
                rungs.append((walltime, start))
        for walltime, start in rungs:
            yield Suggestion((("walltime", exact_duration(walltime)),), format_duration(walltime), start)

    def sooner(self, job: Job) -> Iterator[Suggestion]:
        """Smaller requests that would start now, or an hour sooner: for each kind, the one nearest to the present request."""
        placement = self.plan.placements.get(job.number)
        now = self.plan.now_ms
        if job.phase is not Phase.WAITING or (placement is not None and placement.start_ms <= now):
            return
        asked = placement.start_ms if placement else None
        array, tasks = job.request.array, self.engine.state.tasks.get(job.number, ())
        if array is not None and array.at_once is not None and len(tasks) >= array.at_once:
            # Whatever else is asked for, the next task starts when one of them ends.
            if self.start_with(job, job.request) == now:
                more = len(tasks) + 1
                how = f"with {more} at once"
                yield Suggestion((("array.at-once", str(more)),), f"It would start now {how}.", now, how, at_once=True)
            return
        for tries in (self._shorter(job), self._fewer(job), self._leaner(job), self._elsewhere(job)):
            best: Suggestion | None = None
            for settings, words, request in tries:
                start = self.start_with(job, request)
                if start is None:
                    continue
                if start <= now:
                    best = Suggestion(settings, f"It would start now {words}.", start, words, at_once=True)
                    break
                if best is None and asked is not None and start <= asked - SOONER_MS:
                    gain = format_duration((asked - start) // 1000)
                    best = Suggestion(
                        settings,
                        f"It would start at {clock_time(start, now, self.zone)}, {gain} sooner, {words}.",
                        start,
                        words,
                    )
            if best is not None:
                yield best

    def start_with(self, job: Job, request: Request) -> int | None:
        """When a job would start with another request; None for never."""
        changed = replace(job, request=request)
        if self.engine.limit_use.problem(job.user, request, except_job=job.number):
            return None
        plan = self.plans.plan_before(changed, self.plan.now_ms)
        if self.planner.policy != "planned":
            order = [*self.plans.ahead_of(changed, self.plan.now_ms), changed]
            placement = self.plans.plan_of(self.plan.now_ms, order).placements.get(job.number)
            return placement.start_ms if placement else None
        wanted = self.plans.plan_request_of(changed)
        placement = self.planner.place(plan.timeline_of(wanted), wanted, 0, plan.limits)
        if placement is None or not plan.limits.pays(
            owner_of(changed), self.planner.greatest_charge(wanted.request.tier, placement)
        ):
            return None
        return placement.start_ms

    def _shorter(self, job: Job) -> Iterable[_Try]:
        for walltime in sorted((one for one in SHORTER_S if one < job.request.walltime_s), reverse=True):
            words = f"if it asked for at most {format_duration(walltime)}"
            yield (("walltime", exact_duration(walltime)),), words, replace(job.request, walltime_s=walltime)

    def _fewer(self, job: Job) -> Iterable[_Try]:
        request = job.request
        nodes = request.nodes or max((need.node_count for need in self.planner.needs(request, job.user)[:1]), default=1)
        if nodes < 2 or request.anywhere or request.most_nodes:
            return
        counts = (
            range(nodes - 1, 0, -1)
            if nodes <= 17
            else sorted({nodes * part // 16 for part in range(1, 16)} - {0})[::-1]
        )
        for fewer in counts:
            ranks = max(fewer, request.ranks * fewer // nodes)
            settings: tuple[tuple[str, str], ...] = (("nodes", str(fewer)),)
            if not request.ranks_per_node:
                settings += (("ranks", str(ranks)),)
            smaller = replace(
                request, nodes=fewer, ranks=request.ranks_per_node * fewer if request.ranks_per_node else ranks
            )
            words = f"with {plural(fewer, 'node')} and {plural(smaller.ranks * smaller.threads, 'core')}"
            if self.planner.needs(smaller, job.user):
                yield settings, words, smaller

    def _leaner(self, job: Job) -> Iterable[_Try]:
        memory = job.request.memory
        for part in LESS:
            mib = max(1, int(memory.mib * part))
            written = f"{exact_size(mib)}/{memory.per}"
            less = replace(job.request, memory=replace(memory, mib=mib))
            yield (("memory", written),), f"with {format_size(mib)} of memory for each {memory.per}", less

    def _elsewhere(self, job: Job) -> Iterable[_Try]:
        for queue in self.site.queues:
            other = replace(job.request, queues=(queue.name,))
            if queue.name not in job.request.queues and self.planner.needs(other, job.user):
                yield (("queue", queue.name),), f"in queue {queue.name}", other
