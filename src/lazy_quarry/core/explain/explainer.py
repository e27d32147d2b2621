"""Why a job waits, read from the one plan: what it needs, who has it, until when, who is ahead, and what would help.

What would help is never guessed: each change is put in the job's place in the order, and the plan made of it says when it would
start. So applying the change does just that.
"""

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import UTC, tzinfo

import numpy as np

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.explain.answers import Ahead, Explained, Kind, Suggestion, Why
from lazy_quarry.core.job.job import EACH, Job, Phase
from lazy_quarry.core.job.request import Need, Request
from lazy_quarry.core.plan.planner import Placement, Plan
from lazy_quarry.core.plan.standing import StandingParts
from lazy_quarry.core.units import (
    HOUR_MS,
    clock_time,
    exact_duration,
    exact_size,
    fold_names,
    format_duration,
    format_size,
    plural,
)

SHORTER_S = tuple(minutes * 60 for minutes in (15, 30, 45, 60, 90, 120, 180, 240, 360, 480, 720, 1440, 2880))
"""Walltimes that are tried for a sooner start."""
LESS = (3 / 4, 1 / 2, 1 / 4)
"""StandingParts of the memory that are tried."""
SOONER_MS = HOUR_MS
"""A change that doesn't start the job now is told when it gains so much."""
MOST_AHEAD = 3


def need_words(need: Need) -> str:
    """``2 nodes with 16 free cores and 48 GiB each``."""
    part = need.parts[0]
    if need.whole:
        return f"{plural(need.node_count, 'whole node')} of {need.queue}"
    each = [plural(part.cores, "free core"), format_size(part.memory_mib)]
    if need.gpus:
        each.append(plural(need.gpus, "GPU"))
    words = " and ".join([", ".join(each[:-1]), each[-1]])
    return f"{plural(need.node_count, 'node')} of {need.queue} with {words}" + (" each" if need.node_count > 1 else "")


def hours_words(hours: float) -> str:
    """``2h 10m``, without a sign."""
    return format_duration(round(abs(hours) * 3600)) if abs(hours) >= 1 / 60 else "less than a minute"


def compared(first: Job, ahead: StandingParts, second: Job, behind: StandingParts) -> str:
    """Two jobs in a sentence: how far the first stands ahead of the second, by which part most, and what speaks against it.

    ``first`` may stand ahead though its standing is less: then its user has put it there.
    """
    if behind.gives_way and not ahead.gives_way:
        return f"{first.label} stands ahead: jobs of tier {second.request.tier} give way to all others."
    gap = ahead.total - behind.total
    if gap < 0 and first.user == second.user:
        return f"{first.label} {first.request.name} was put before it by {first.user}."
    parts = {name: value - other for (name, value), (_, other) in zip(ahead.named(), behind.named(), strict=True)}
    best = max(parts, key=lambda name: parts[name])
    worst = min(parts, key=lambda name: parts[name])
    told = f"{first.label} stands {hours_words(gap)} ahead"
    if parts[best] >= 1 / 60:
        told += f": {_part_words(best, parts[best], first, second)} (+{hours_words(parts[best])})"
    if parts[worst] <= -1 / 6:
        told += f", though {_part_words(worst, parts[worst], first, second)} (−{hours_words(parts[worst])})"
    return f"{told}."


def _part_words(part: str, hours: float, first: Job, second: Job) -> str:
    more = hours > 0
    match part:
        case "waited":
            return f"it came {hours_words(hours)} {'sooner' if more else 'later'}"
        case "account":
            return f"{first.request.account} has used {'less' if more else 'more'} of its part lately than {second.request.account}"
        case "user":
            used = f"{first.user} has used {'less' if more else 'more'} of"
            if first.user == second.user:
                return f"{used} {first.request.account} lately than of {second.request.account}"
            if first.request.account != second.request.account:
                return f"{used} {first.request.account} lately than {second.user} of {second.request.account}"
            return f"{used} {first.request.account} lately than {second.user}"
        case "tier":
            return f"tier {first.request.tier} {'stands above' if more else 'stands below'} {second.request.tier}"
    return f"it is {'larger' if more else 'smaller'}"


class Explainer:
    """Answers for one plan. Times are told in ``zone``."""

    def __init__(self, engine: Engine, at_ms: int, zone: tzinfo = UTC) -> None:
        self.engine, self.site, self.planner, self.zone = engine, engine.site, engine.planner, zone
        self.plan: Plan = engine.plan(at_ms)
        self.now_ms = at_ms
        self.running = {job.number: job for job in engine.state.running()}
        self._free = self.plan.timeline.free_at(self.plan.now_ms)
        self._ends: dict[int, list[Job]] = {}
        for job in self.running.values():
            self._ends.setdefault(job.end_limit_ms or 0, []).append(job)
        self._planned_ends: dict[int, list[Placement]] | None = None

    # -- what it waits for -------------------------------------------------------------------------

    def why(self, job: Job, held_by: str = "") -> Why:
        """What a job that has not started waits for."""
        if job.phase is Phase.HELD:
            return Why(f"held by {held_by or job.user}; it waits until it is released", "hold")
        if job.phase is Phase.BLOCKED:
            told = [
                f"a task of {number} succeeds whose number it has too" if condition == EACH else f"{number} {condition}"
                for number, condition in job.unmet
            ]
            return Why(f"waits until {' and '.join(told)}", "dependency")
        now = self.plan.now_ms
        placement = self.plan.placements.get(job.number)
        if placement is None:
            reason = self.plan.unplaced.get(job.number)
            return Why(
                reason or "it stands behind the jobs that the plan gives places; no forecast yet", _kind_of(reason)
            )
        if placement.start_ms <= now:
            return Why("it starts now", "nothing", placement.start_ms)
        starts = f"expected to start at {self._clock(placement.start_ms)}"
        not_before = job.request.not_before_ms or 0
        if not_before > now and placement.start_ms == not_before:
            return Why(f"asked not to start before {self._clock(not_before)}", "not-before", placement.start_ms)
        needs = [need for need in self.planner.needs(job.request) if need.queue == placement.queue]
        if not needs:
            return Why(starts, "nodes", placement.start_ms)
        turns, kind, ends = self._turns(placement, starts)
        able = self.able_now(needs[0])
        what = need_words(needs[0])
        if able < needs[0].node_count and not needs[0].anywhere:
            have = "none has that now" if able == 0 else f"only {able} {'has' if able == 1 else 'have'} that now"
            return Why(f"waits for {what}; {have}. {turns}", kind, placement.start_ms, ends)
        wanted = self.engine.plan_request_of(job)
        limits = self.plan.limits
        if wanted.owner and (way := limits.reached_limit(wanted.owner, placement.queue, placement.claim)):
            freed = self._frees(way.kind, way.name, placement.start_ms)
            after = f"{starts[:1].upper()}{starts[1:]}"
            after += f", when {freed[0].label} reaches its limit." if freed else "."
            return Why(
                f"waits for {way.words}. {after}", "limit", placement.start_ms, tuple(one.label for one in freed)
            )
        lasting = format_duration(job.request.walltime_s)
        because = f"waits for {what} for {lasting}; free now, but not for so long. {turns}"
        return Why(because, kind, placement.start_ms, ends)

    def _frees(self, kind: str, name: str, at_ms: int) -> list[Job]:
        """Running jobs under a limit that end at an instant."""
        under = {
            "user": lambda job: job.user,
            "account": lambda job: job.request.account,
            "tier": lambda job: job.request.tier,
        }
        of = under.get(kind, lambda job: job.queue)
        return [job for job in self._ends.get(at_ms, ()) if of(job) == name]

    def able_now(self, need: Need) -> int:
        """Nodes that could give the largest part of a need at this instant, for however short."""
        table = self.planner.table
        nodes = np.array([table.index[name] for name in need.eligible])
        part = need.parts[0]
        wanted = table.capacity[:, nodes].T
        if not need.whole:
            wanted = np.array([(part.cores, part.memory_mib, need.gpus, need.scratch_mib)])
        return int((wanted <= self._free[:, nodes].T).all(axis=1).sum())

    def _turns(self, placement: Placement, starts: str) -> tuple[str, Kind, tuple[str, ...]]:
        """Which end, window or opening the expected start hangs on."""
        nodes = {placed.node for placed in placement.nodes}
        ends = [
            (job, sorted(allocation.node for allocation in job.allocations if allocation.node in nodes))
            for job in self._ends.get(placement.start_ms, ())
            if any(allocation.node in nodes for allocation in job.allocations)
        ]
        if ends:
            job, freed = ends[0]
            where = f"{'Nodes' if len(freed) > 1 else 'Node'} {fold_names(freed)}"
            comes = "come" if len(freed) > 1 else "comes"
            limit = "has made way" if job.stopping else "reaches its limit"
            words = (
                f"{where} {comes} free at {self._clock(placement.start_ms)} at the latest, when {job.label} {limit}."
            )
            return words, "nodes", tuple(one.label for one, _ in ends)
        for window in self.engine.windows:
            if window.ends_ms == placement.start_ms and nodes & set(window.nodes):
                words = f"{window.reason} lasts until {self._clock(window.ends_ms)}; {starts}."
                return words, "window", ()
        if self._planned_ends is None:
            self._planned_ends = {}
            for other in self.plan.placements.values():
                self._planned_ends.setdefault(other.end_ms, []).append(other)
        ahead = next(
            (
                other.job
                for other in self._planned_ends.get(placement.start_ms, ())
                if any(placed.node in nodes for placed in other.nodes)
            ),
            None,
        )
        behind = f", after {ahead}" if ahead else ""
        return f"{starts[:1].upper()}{starts[1:]}{behind}.", "nodes", (str(ahead),) if ahead else ()

    # -- who is ahead, and what would help ---------------------------------------------------------

    def explained(self, job: Job) -> Explained:
        """All that can be said of a job that has not started."""
        why = self.why(job, job.reason)
        usage = self.engine.recent_use(self.now_ms)
        parts = usage.parts(job, self.now_ms)
        if job.phase is not Phase.WAITING:
            return Explained(why, None, parts)
        ahead = self.engine.ahead_of(job, self.now_ms)
        told = []
        rivals = [other for other in ahead if set(other.request.queues) & set(job.request.queues)] or ahead
        for other in rivals[-MOST_AHEAD:][::-1]:
            theirs = usage.parts(other, self.now_ms)
            words = compared(other, theirs, job, parts)
            told.append(Ahead(other.number, other.request.name, other.user, theirs.total - parts.total, words))
        return Explained(why, len(ahead) + 1, parts, tuple(told), tuple(self._changes(job)))

    def compare(self, first: Job, second: Job) -> str:
        """Which of two waiting jobs stands ahead, and why."""
        usage = self.engine.recent_use(self.now_ms)
        order = [one for one in self.engine.in_order(self.now_ms) if one.number in (first.number, second.number)]
        if len(order) == 2:
            first, second = order
        return compared(first, usage.parts(first, self.now_ms), second, usage.parts(second, self.now_ms))

    def _changes(self, job: Job) -> Iterator[Suggestion]:
        """Smaller requests that would start now or an hour sooner: of each kind the nearest to what is asked."""
        placement = self.plan.placements.get(job.number)
        now = self.plan.now_ms
        if job.phase is not Phase.WAITING or (placement is not None and placement.start_ms <= now):
            return
        asked = placement.start_ms if placement else None
        for tries in (self._shorter(job), self._fewer(job), self._leaner(job), self._elsewhere(job)):
            best: Suggestion | None = None
            for settings, words, request in tries:
                start = self.start_with(job, request)
                if start is None:
                    continue
                if start <= now:
                    best = Suggestion(settings, f"It would start now {words}.", start)
                    break
                if best is None and asked is not None and start <= asked - SOONER_MS:
                    gain = format_duration((asked - start) // 1000)
                    best = Suggestion(
                        settings, f"It would start at {self._clock(start)}, {gain} sooner, {words}.", start
                    )
            if best is not None:
                yield best

    def ladder(self, job: Job) -> Iterator[Suggestion]:
        """When a waiting job would start with other walltimes, the shortest first; its own is among them.

        Of walltimes with the same start only the longest is told: a shorter one gains nothing.
        """
        queues = [self.site.queue[name].walltime_limit_s for name in job.request.queues if name in self.site.queue]
        limit = None if None in queues else max((one for one in queues if one), default=None)
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

    def start_with(self, job: Job, request: Request) -> int | None:
        """When a job would start if it asked for something else; None for never."""
        changed = replace(job, request=request)
        if self.engine.over_limits(job.user, request, but=job.number):
            return None
        plan = self.engine.before(changed, self.now_ms)
        if self.planner.policy != "planned":
            order = [*self.engine.ahead_of(changed, self.now_ms), changed]
            placement = self.engine.plan_of(self.now_ms, order).placements.get(job.number)
            return placement.start_ms if placement else None
        wanted = self.engine.plan_request_of(changed)
        placement = self.planner.place(plan.timeline_of(wanted), wanted, 0, plan.limits)
        if placement is None or not plan.limits.pays(request.account, self.planner.greatest(wanted, placement)):
            return None
        return placement.start_ms

    def _shorter(self, job: Job) -> Iterable[tuple[tuple[tuple[str, str], ...], str, Request]]:
        for walltime in sorted((one for one in SHORTER_S if one < job.request.walltime_s), reverse=True):
            words = f"if it asked for at most {format_duration(walltime)}"
            yield (("walltime", exact_duration(walltime)),), words, replace(job.request, walltime_s=walltime)

    def _fewer(self, job: Job) -> Iterable[tuple[tuple[tuple[str, str], ...], str, Request]]:
        request = job.request
        nodes = request.nodes or max((need.node_count for need in self.planner.needs(request)[:1]), default=1)
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
            if self.planner.needs(smaller):
                yield settings, words, smaller

    def _leaner(self, job: Job) -> Iterable[tuple[tuple[tuple[str, str], ...], str, Request]]:
        memory = job.request.memory
        for part in LESS:
            mib = max(1, int(memory.mib * part))
            written = f"{exact_size(mib)}/{memory.per}"
            less = replace(job.request, memory=replace(memory, mib=mib))
            yield (("memory", written),), f"with {format_size(mib)} of memory for each {memory.per}", less

    def _elsewhere(self, job: Job) -> Iterable[tuple[tuple[tuple[str, str], ...], str, Request]]:
        tier = job.request.tier
        for queue in self.site.queues:
            mine = not queue.users or job.user in queue.users
            fits = queue.walltime_limit_s is None or job.request.walltime_s <= queue.walltime_limit_s
            narrow = queue.max_cores is None or job.request.ranks * job.request.threads <= queue.max_cores
            if queue.name in job.request.queues or not (mine and fits and narrow and queue.open):
                continue
            other = replace(job.request, queues=(queue.name,))
            if queue.tier in (None, tier) and self.planner.needs(other):
                yield (("queue", queue.name),), f"in queue {queue.name}", other

    def _clock(self, at_ms: int) -> str:
        return clock_time(at_ms, self.plan.now_ms, self.zone)


def _kind_of(reason: str | None) -> Kind:
    told = reason or ""
    if "budget" in told:
        return "budget"
    if "at once" in told:
        return "at-once"
    if "no node" in told:
        return "nodes"
    return "turn"
