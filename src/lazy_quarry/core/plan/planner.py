"""Waiting jobs × timeline → placements, now and forecast.

Jobs are taken in priority order; each is placed at the earliest time at which nodes that satisfy it are
free together for its whole walltime and grace, and then occupies that time for those behind it. So a
job further back may start sooner where that delays nobody in front: backfill needs no rule of its own.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.job.request import Need, Part, Request, choices
from lazy_quarry.core.ledger.charges import charge
from lazy_quarry.core.plan.limits import LimitRows, Owner
from lazy_quarry.core.plan.timeline import CORES, FAR, GPUS, MEMORY, Amount, Hold, NodeTable, Slot, Timeline
from lazy_quarry.core.site import Closure, Site, Window
from lazy_quarry.errors import Refused

OVERDUE_MS = 60_000
"""A job past its end is expected to last this much longer, until its end is recorded."""


@dataclass(frozen=True, slots=True)
class PlanRequest:
    """A waiting job as the planner sees it."""

    job: int
    request: Request
    count: int = 1
    """Of an array, the tasks that wait; ``request`` is that of one."""
    at_once: int | None = None
    """Of an array, how many more may run now."""
    owner: Owner | None = None
    """Whose limits and budget it is under; None for no limits."""
    access: frozenset[Window] = frozenset()
    """Reservations that it may use."""
    each: tuple[tuple[int, Request], ...] = ()
    """Of an array whose tasks aren't alike, or wait each for another: (place in the array, request) of those that may start."""


@dataclass(frozen=True, slots=True)
class PlannedAllocation:
    """What a running job holds on one node, until its walltime and grace are over."""

    node: str
    until_ms: int
    amount: Amount


@dataclass(frozen=True, slots=True)
class Placed:
    """One node of a placement, and what it gives."""

    node: str
    ranks: int
    amount: Amount


@dataclass(frozen=True, slots=True)
class Placement:
    """Where and when a job is expected to run; ``start_ms`` equal to the plan's now means: start it."""

    job: int
    queue: str
    start_ms: int
    end_ms: int
    nodes: tuple[Placed, ...]
    index: int | None = None
    """Which task of an array it is, where that matters."""

    @property
    def claim(self) -> tuple[int, int, int]:
        """What it counts for in limits: a job, its cores, its GPUs."""
        return 1, sum(one.amount[CORES] for one in self.nodes), sum(one.amount[GPUS] for one in self.nodes)


@dataclass(slots=True)
class _Prepared:
    """A need as arrays, made once for each different request."""

    need: Need
    nodes: NDArray[np.int64] | slice
    parts: list[tuple[int, NDArray[np.int32]]]


class Plan:
    """Where and when every waiting job is expected to run.

    Places are worked out in priority order, and only as far as somebody requests: :meth:`starting` stops
    where nothing more could start now, and what is read afterwards goes on from there. So both see the
    same plan. It holds until something ends, or the clock reaches ``valid_until_ms``.
    """

    def __init__(
        self,
        now_ms: int,
        timelines: dict[frozenset[Window], Timeline],
        limits: LimitRows,
        requests: list[PlanRequest],
        valid_until_ms: int,
    ) -> None:
        self.now_ms = now_ms
        self.timelines = timelines
        """What is free to those that may use these reservations; :attr:`timeline` is everybody's."""
        self.timeline = timelines[frozenset()]
        self.limits = limits
        self.requests = requests
        self.valid_until_ms = valid_until_ms
        self.taken: dict[int, Placement] = {}
        self.reasons: dict[int, str] = {}
        self.tasks: list[Placement] = []
        """Of arrays, all places at *now* but the first, which is among the others."""
        self.steps: Iterator[bool] = iter(())

    def at(self, now_ms: int) -> bool:
        """Look at it from a later instant; False when it doesn't hold any more."""
        if not self.now_ms <= now_ms < self.valid_until_ms:
            return False
        self.now_ms = now_ms
        for timeline in self.timelines.values():
            timeline.now_ms = now_ms
        return True

    def starting(self) -> list[Placement]:
        """Placements at *now*, in priority order."""
        for room_left in self.steps:
            if not room_left:
                break
        found = [placement for placement in self.taken.values() if placement.start_ms <= self.now_ms]
        return found + self.tasks

    def extend(self, wanted: PlanRequest) -> None:
        """One more job, behind all others."""
        self.requests.append(wanted)

    def timeline_of(self, wanted: PlanRequest) -> Timeline:
        """What is free to this job."""
        return self.timelines.get(wanted.access, self.timeline)

    def started(self, job: int) -> None:
        """A job was started at its place, which it goes on holding."""
        self.taken.pop(job, None)

    def _finish(self) -> None:
        for _ in self.steps:
            pass

    @property
    def placements(self) -> dict[int, Placement]:
        """Every job that has a place, by number."""
        self._finish()
        return self.taken

    @property
    def unplaced(self) -> dict[int, str]:
        """Why a job has no place at any time, by number."""
        self._finish()
        return self.reasons

    def whole(self) -> Timeline:
        """The timeline with every place taken: what somebody behind all others would find."""
        self._finish()
        return self.timeline

    def next_start_ms(self) -> int | None:
        """The earliest expected start after now."""
        later = (place.start_ms for place in self.placements.values() if place.start_ms > self.now_ms)
        return min(later, default=None)


class Steps:
    """Places a plan's jobs one after another, as far as it is asked, and goes on when jobs are added."""

    def __init__(self, planner: "Planner", plan: Plan) -> None:
        self.planner, self.plan = planner, plan
        self.done = 0
        self.first = 0
        """The first job that has to wait, once it has been placed."""
        self.seen: set[tuple] = set()
        self.no_sooner: dict[tuple, int] = {}
        """Equal requests behind one another never start earlier."""
        self.least = min((wanted.request.threads for wanted in plan.requests), default=1)
        self._look()

    def _look(self) -> None:
        timelines, now = self.plan.timelines.values(), self.plan.now_ms
        self.room = max(int(timeline.free_at(now)[CORES].max(initial=0)) for timeline in timelines)

    def __iter__(self) -> "Steps":
        return self

    def __next__(self) -> bool:
        """Place one job; True while any of the rest could still start now."""
        plan, planner = self.plan, self.planner
        if self.done >= len(plan.requests):
            raise StopIteration
        if self.done == 0 and self.room < self.least:
            self.least = 0  # say so once, before anything is placed
            return False
        wanted = plan.requests[self.done]
        self.done += 1
        key = planner.key(wanted)
        if wanted.access or plan.limits.bounded:
            key = (*key, wanted.access, wanted.owner)
        if key not in self.seen and len(self.seen) < planner.depth:
            self.seen.add(key)
        no_sooner = self.no_sooner.get(key, 0)
        if key not in self.seen and no_sooner > plan.now_ms:
            return self.room >= self.least
        if wanted.each:
            self._each(wanted)
            return self.room >= self.least
        if wanted.count > 1 or wanted.at_once is not None:
            self._array(wanted, no_sooner)
            return self.room >= self.least
        if self.first and planner.policy == "first-come":
            self._wait_turn(wanted)
            return self.room >= self.least
        placement = planner.place(plan.timeline_of(wanted), wanted, no_sooner, plan.limits)
        if placement is None:
            self.no_sooner[key] = FAR
            plan.reasons[wanted.job] = "no node that could take it is open"
        elif self._paid(wanted, placement):
            self.no_sooner[key] = placement.start_ms
            now = placement.start_ms <= plan.now_ms
            if now or (key in self.seen and self._holds_place(wanted)):
                self._take(wanted, placement)
                plan.taken[wanted.job] = placement
            if now:
                self._look()
            else:
                self.first = self.first or wanted.job
                plan.valid_until_ms = min(plan.valid_until_ms, placement.start_ms)
        return self.room >= self.least

    def _wait_turn(self, wanted: PlanRequest) -> None:
        words = f"waits its turn: jobs start strictly in order here, and {self.first} comes first"
        self.plan.reasons[wanted.job] = words

    def _holds_place(self, wanted: PlanRequest) -> bool:
        """Whether a job that can't start now gets a place later on, by the policy."""
        if self.planner.policy == "planned" or not self.first:
            return True
        self.plan.reasons[wanted.job] = (
            f"only the first job of the queue, {self.first}, holds a place here; no forecast"
        )
        return False

    def _paid(self, wanted: PlanRequest, placement: Placement) -> bool:
        """Count it on its account's budget, if that covers it; else say why it has no place."""
        limits, owner = self.plan.limits, wanted.owner
        if owner is None or not limits.bounded:
            return True
        most = self.planner.greatest(wanted, placement)
        if limits.pays(owner.account, most):
            limits.spend(owner.account, most, comes_back=True)
            return True
        left = f"{max(0, limits.left[owner.account]) / 3_600_000:,.0f} core-hours are left"
        asked = f"it could be charged {most / 3_600_000:,.0f}"
        if limits.may_pay(owner.account, most):
            limits.spend(owner.account, most)  # what comes back is for the first that waits for it
            self.plan.reasons[wanted.job] = (
                f"waits for the budget of {owner.account}: {asked}, and {left} while jobs run that may yet use theirs"
            )
        else:
            self.plan.reasons[wanted.job] = f"the budget of {owner.account} does not cover it: {asked}, and {left}"
        return False

    def _take(self, wanted: PlanRequest, placement: Placement) -> None:
        plan = self.plan
        for timeline in plan.timelines.values():
            self.planner.occupy(timeline, placement)
        if wanted.owner is not None and plan.limits.bounded:
            plan.limits.hold(wanted.owner, placement.queue, placement.start_ms, placement.end_ms, placement.claim)

    def _array(self, wanted: PlanRequest, no_sooner: int) -> None:
        """Place what may start now, task by task; the rest together, as many at a time as fit, a few times over."""
        plan, planner = self.plan, self.planner
        left, room = wanted.count, wanted.count if wanted.at_once is None else min(wanted.count, wanted.at_once)
        ends: list[int] = []
        strict = bool(self.first) and planner.policy == "first-come"
        while room and not strict:
            placement = planner.place(plan.timeline_of(wanted), wanted, no_sooner, plan.limits)
            if placement is None or placement.start_ms > plan.now_ms:
                break
            if not self._paid(wanted, placement):
                return
            self._take(wanted, placement)
            if wanted.job in plan.taken:
                plan.tasks.append(placement)
            else:
                plan.taken[wanted.job] = placement
            ends.append(placement.end_ms)
            left, room = left - 1, room - 1
        self._look()
        if not left:
            return
        if wanted.at_once is not None and wanted.at_once <= 0:
            plan.reasons[wanted.job] = "as many of its tasks run as may at once"
            return
        if strict:
            self._wait_turn(wanted)
            return
        if not self._holds_place(wanted) and wanted.job not in plan.taken:
            return
        self.first = self.first or wanted.job
        if planner.policy == "planned" or self.first == wanted.job:
            self._waves(wanted, left, min(ends) if ends and not room else no_sooner)

    def _each(self, wanted: PlanRequest) -> None:
        """Place tasks one by one, each where it alone may run; those that may not start yet hold no place."""
        plan, planner = self.plan, self.planner
        room = len(wanted.each) if wanted.at_once is None else wanted.at_once
        for index, request in wanted.each:
            one = replace(wanted, request=request, count=1, at_once=None, each=())
            placement = planner.place(plan.timeline_of(one), one, 0, plan.limits)
            if placement is None:
                if wanted.job not in plan.taken:
                    plan.reasons[wanted.job] = "no node that could take it is open"
                continue
            now = placement.start_ms <= plan.now_ms
            if (now and room <= 0) or not self._paid(one, placement):
                if wanted.job not in plan.taken:
                    plan.reasons.setdefault(wanted.job, "as many of its tasks run as may at once")
                continue
            if not now and planner.policy != "planned":
                continue
            placement = replace(placement, index=index)
            self._take(one, placement)
            room -= now
            if wanted.job not in plan.taken:
                plan.taken[wanted.job] = placement
            elif now and plan.taken[wanted.job].start_ms > plan.now_ms:
                plan.taken[wanted.job] = placement  # the soonest stands for the array
            elif now:
                plan.tasks.append(placement)
            if not now:
                self.first = self.first or wanted.job
                plan.valid_until_ms = min(plan.valid_until_ms, placement.start_ms)
        self._look()

    def _waves(self, wanted: PlanRequest, left: int, not_before: int) -> None:
        """Places for what is left of an array."""
        plan, planner = self.plan, self.planner
        several_timelines = len(plan.timelines) > 1 or plan.limits.bounded
        for wave in range(ARRAY_WAVES):
            several = left if wanted.at_once is None else min(left, max(1, wanted.at_once))
            first = planner.place(plan.timeline_of(wanted), wanted, not_before, plan.limits)
            if first is None:
                if not wave and wanted.job not in plan.taken:
                    plan.reasons[wanted.job] = "no node that could take it is open"
                return
            if several_timelines and not self._paid(wanted, first):
                return
            plan.taken.setdefault(wanted.job, first)
            plan.valid_until_ms = min(plan.valid_until_ms, max(first.start_ms, plan.now_ms + 1))
            if several_timelines:
                self._take(wanted, first)
                placed: tuple[int, int, int] | None = (first.start_ms, first.end_ms, 1)
            else:
                placed = planner.place_many(plan.timeline, wanted, several, not_before)
            if placed is None:
                return
            left -= placed[2]
            if not left:
                return
            not_before = placed[1] if wanted.at_once is not None else placed[0]


ARRAY_WAVES = 8
"""So often an array's tasks are placed as many as fit; what is left then holds no place yet."""


class Planner:
    """Plans for one site. It keeps nothing but what follows from the site and the requests it has seen."""

    def __init__(self, site: Site, depth: int | None = None) -> None:
        self.site = site
        self.depth = site.plan_depth if depth is None else depth
        self.policy = site.policy
        self.table = NodeTable(site)
        self._prepared: dict[tuple, list[_Prepared]] = {}
        self._keys: dict[int, tuple[Request, tuple]] = {}

    def plan(
        self,
        now_ms: int,
        running: Sequence[PlannedAllocation],
        waiting: Iterable[PlanRequest],
        closures: Sequence[Closure] = (),
        windows: Sequence[Window] = (),
        limits: LimitRows | None = None,
        accesses: Iterable[frozenset[Window]] = (),
    ) -> Plan:
        """Place all of ``waiting``, which is in priority order, beside what is running.

        ``limits`` are the site's limits with what is held of them now; None for none. ``accesses`` are
        sets of reservations for which it will be asked later what is free to those who may use them.
        """
        requests = list(waiting)
        index = self.table.index
        holds = [
            Hold(index[held.node], held.until_ms if held.until_ms > now_ms else now_ms + OVERDUE_MS, held.amount)
            for held in running
            if held.node in index
        ]
        timeline = Timeline(self.table, now_ms, holds)
        for closure in closures:
            if closure.node in index:
                timeline.close(index[closure.node], now_ms, FAR)
        timelines = {}
        for access in {frozenset[Window](), *accesses, *(wanted.access for wanted in requests)}:
            timelines[access] = timeline.copy() if access else timeline
        for access, each in timelines.items():
            for window in windows:
                if window.ends_ms > now_ms and window not in access:
                    for name in window.nodes:
                        if name in index:
                            each.close(index[name], window.begins_ms, window.ends_ms)
        until = min((hold.until_ms for hold in holds), default=FAR)
        plan = Plan(now_ms, timelines, limits or LimitRows(self._unlimited, now_ms), requests, until)
        plan.steps = Steps(self, plan)
        return plan

    @cached_property
    def _unlimited(self) -> Site:
        return Site("", "rehearsal", (), (), (), (), "", "")

    def greatest(self, wanted: PlanRequest, placement: Placement) -> int:
        """Core-ms that a job may be charged at most at this place, its grace too."""
        return charge(self.site, wanted.request.tier, placement.claim[1] * (placement.end_ms - placement.start_ms))

    def key(self, wanted: PlanRequest) -> tuple:
        """Equal for requests that need not be told apart; worked out once for each job."""
        known = self._keys.get(wanted.job)
        if known is None or known[0] is not wanted.request:
            if len(self._keys) > 200_000:
                self._keys.clear()
            known = self._keys[wanted.job] = (wanted.request, request_key(wanted.request))
        return known[1]

    def place(
        self, timeline: Timeline, wanted: PlanRequest, not_before_ms: int = 0, limits: LimitRows | None = None
    ) -> Placement | None:
        """Where a job would go on this timeline, without taking the place; None when never."""
        if limits is None or not limits.bounded or wanted.owner is None:
            return self._place(timeline, wanted, self._prepare(wanted), not_before_ms)
        best: Placement | None = None
        for prepared in self._prepare(wanted):
            found = self._within(timeline, wanted, prepared, not_before_ms, limits)
            if found and (best is None or found.start_ms < best.start_ms):
                best = found
        return best

    def _within(
        self, timeline: Timeline, wanted: PlanRequest, prepared: _Prepared, not_before_ms: int, limits: LimitRows
    ) -> Placement | None:
        """The earliest place at which its limits have room too: nodes and limits put it off in turn until both agree."""
        assert wanted.owner is not None
        while True:
            found = self._place(timeline, wanted, [prepared], not_before_ms)
            if found is None:
                return None
            length = found.end_ms - found.start_ms
            start = limits.earliest(wanted.owner, found.queue, found.start_ms, length, found.claim)
            if start is None or start == found.start_ms:
                return found if start is not None else None
            not_before_ms = start

    def _place(
        self, timeline: Timeline, wanted: PlanRequest, choices_: Sequence[_Prepared], not_before_ms: int
    ) -> Placement | None:
        request = wanted.request
        duration = (request.walltime_s + request.grace_s) * 1000
        not_before = max(request.not_before_ms or 0, not_before_ms, timeline.now_ms)
        if not_before >= FAR:
            return None
        best = None
        for prepared in choices_:
            if prepared.need.anywhere:
                levels = [amount for _, amount in prepared.parts]
                slot = timeline.find_anywhere(prepared.nodes, levels, prepared.need.anywhere, duration, not_before)
            else:
                slot = timeline.find(prepared.nodes, prepared.parts, duration, not_before)
            if slot and (best is None or slot.start_ms < best[1].start_ms):
                best = (prepared, slot)
        if best is None:
            return None
        return self._placement(wanted, *best, duration)

    def place_many(
        self, timeline: Timeline, wanted: PlanRequest, most: int, not_before_ms: int = 0
    ) -> tuple[int, int, int] | None:
        """Place up to ``most`` jobs like this, all at the earliest start of one, and take their places.

        Returns start, end and how many; None for never. Those of one node are placed together; others,
        and where queues or shapes are to be chosen from, one by one.
        """
        prepared = self._prepare(wanted)
        need = prepared[0].need if len(prepared) == 1 else None
        if need is None or need.node_count > 1 or need.whole or need.anywhere:
            one = self.place(timeline, wanted, not_before_ms)
            if one is None:
                return None
            self.occupy(timeline, one)
            return one.start_ms, one.end_ms, 1
        duration = (wanted.request.walltime_s + wanted.request.grace_s) * 1000
        not_before = max(wanted.request.not_before_ms or 0, not_before_ms, timeline.now_ms)
        amount = np.asarray(prepared[0].parts[0][1])
        found = timeline.find_many(prepared[0].nodes, amount, most, duration, not_before)
        if found is None:
            return None
        start, nodes = found
        cores, memory, gpus, scratch = (int(value) for value in amount)
        for node, count in nodes:
            timeline.hold(node, start, start + duration, (cores * count, memory * count, gpus * count, scratch * count))
        return start, start + duration, sum(count for _, count in nodes)

    def _placed(self, prepared: _Prepared, part: Part, node: int) -> Placed:
        return Placed(self.table.names[node], part.ranks, self._amount(prepared, part, node))

    def _placement(self, wanted: PlanRequest, prepared: _Prepared, slot: Slot, duration: int) -> Placement:
        placed = []
        for part, chosen in zip(prepared.need.parts, slot.chosen, strict=True):
            placed += [self._placed(prepared, part, node) for node in chosen]
        placed.sort(key=lambda one: (-one.ranks, self.table.rank[self.table.index[one.node]]))
        return Placement(wanted.job, prepared.need.queue, slot.start_ms, slot.start_ms + duration, tuple(placed))

    def occupy(self, timeline: Timeline, placement: Placement) -> None:
        """Take the placement's time for nobody else."""
        for placed in placement.nodes:
            timeline.hold(self.table.index[placed.node], placement.start_ms, placement.end_ms, placed.amount)

    def _amount(self, prepared: _Prepared, part: Part, node: int) -> Amount:
        if prepared.need.whole:
            cores, memory, gpus, scratch = (int(value) for value in self.table.capacity[:, node])
            return cores, memory, gpus, scratch
        return part.cores, part.memory_mib, prepared.need.gpus, prepared.need.scratch_mib

    def _prepare(self, wanted: PlanRequest) -> list[_Prepared]:
        key = self.key(wanted)
        if key not in self._prepared:
            self._prepared[key] = [self._arrays(need) for need in self.needs(wanted.request)]
        return self._prepared[key]

    def needs(self, request: Request) -> list[Need]:
        """What the request requests of each of its queues that could ever serve it; empty for none.

        Of a range of nodes the most come first, so that they are taken where they start as soon as fewer.
        """
        found: list[Need] = []
        for name in request.queues:
            queue = self.site.queue.get(name)
            if queue and queue.open:
                try:
                    found += reversed(choices(request, queue, self.site))
                except Refused:
                    continue
        return found

    def _arrays(self, need: Need) -> _Prepared:
        numbers = np.array([self.table.index[name] for name in need.eligible], dtype=np.int64)
        nodes: NDArray[np.int64] | slice = numbers
        if len(numbers) == len(self.table.names):
            nodes = slice(None)
        if need.whole:
            capacity = self.table.capacity[:, nodes]
            never = np.int32(2**30)
            parts = [
                (
                    part.nodes,
                    np.where((capacity[CORES] >= part.cores) & (capacity[MEMORY] >= part.memory_mib), capacity, never),
                )
                for part in need.parts
            ]
        else:
            parts = [
                (part.nodes, np.array((part.cores, part.memory_mib, need.gpus, need.scratch_mib), dtype=np.int32))
                for part in need.parts
            ]
        return _Prepared(need, nodes, parts)


def request_key(request: Request) -> tuple:
    """Equal for requests that the planner need not tell apart."""
    return (
        request.queues,
        request.walltime_s + request.grace_s,
        request.memory,
        request.nodes,
        request.most_nodes,
        request.anywhere,
        request.ranks,
        request.ranks_per_node,
        request.threads,
        request.whole_nodes,
        request.gpus,
        request.gpu_memory_mib,
        request.scratch_mib,
        request.traits,
        request.on_nodes,
        request.not_before_ms,
    )
