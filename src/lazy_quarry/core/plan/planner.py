"""Finding places: where and when a timeline has room for a request.

A request further back may start sooner where that delays nobody in front, so backfill needs no rule of its own.
"""

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from itertools import accumulate, repeat
from operator import attrgetter
from types import ModuleType
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from lazy_quarry.core.header.keys import PLANNED
from lazy_quarry.core.job.needs import Need, NodeShare
from lazy_quarry.core.job.queue_fit import queue_fit
from lazy_quarry.core.job.rates import charge, counted, most_counted
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.bounds import Form, form_of
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.node_order import node_order
from lazy_quarry.core.plan.node_table import NodeTable
from lazy_quarry.core.plan.placement import (
    CORES,
    FAR,
    MEMORY,
    Amount,
    Claim,
    Placement,
    PlannedAllocation,
    PlanRequest,
    Slot,
)
from lazy_quarry.core.plan.search import count_at, find, find_anywhere
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Limits, Site

MOST_PREPARED, MOST_JOBS = 5_000, 200_000
"""Number of different requests, and of jobs, of which findings are kept; a site that runs for months sees more."""


_allocation = partial(tuple.__new__, PlannedAllocation)
"""One of its four values: a wide job has hundreds, and a plan places it again and again."""


class _PreparedNeed(Struct, eq=False):
    """A need as arrays, made once for each different request."""

    need: Need
    nodes: NDArray[np.int64] | slice
    parts: list[tuple[int, NDArray[np.int32]]]
    order: NDArray[np.int64]
    """Place of each node in the order in which they are taken."""
    least: Claim
    """The least that it counts for in limits, wherever it is placed."""
    counts: int
    """The thousandths of a core that it is charged as at most, wherever it is placed."""
    by_measure: dict[int, NDArray[np.int64]] = field(default_factory=dict)
    """The order where a measure of nodes is limited."""
    form: Form | None = None

    @property
    def fewest_cores(self) -> int:
        """The cores that a node must have to be of any use to it."""
        return min((part.cores for part in self.need.parts), default=0)

    @property
    def claim_varies(self) -> bool:
        """True when its amounts in limits depend on the nodes that it gets."""
        return self.need.whole or bool(self.need.anywhere and self.need.gpus)


class Planner:
    """Finds places on one site. It keeps only what follows from the site and from the requests it has seen."""

    def __init__(self, site: Site, depth: int | None = None) -> None:
        self.site = site
        self.depth = site.plan_depth if depth is None else depth
        self.policy = site.policy
        self.table = NodeTable(site)
        owners = [*(limits for _, limits in site.user_limits), *(account.limits for account in site.accounts)]
        self._by_owner = any(queue.users for queue in site.queues) or any(limits != Limits() for limits in owners)
        """True when the queues that may run a job depend on its owner."""
        self.kernels: ModuleType | None = None
        """:mod:`lazy_quarry.core.plan.compiled`, where somebody has loaded it: the same places, found faster."""
        self._prepared: dict[int, list[_PreparedNeed]] = {}
        self._numbers: dict[tuple, int] = {}
        self._count = 0
        self._kinds: dict[int, tuple[Request, int]] = {}

    def greatest_charge(self, tier: str, placement: Placement) -> int:
        """Core-ms that a job may be charged at most, its grace too; the same wherever it is placed, so that turns don't matter."""
        return charge(self.site, tier, placement.counts, placement.end_ms - placement.start_ms)

    def charge_here(self, tier: str, placement: Placement) -> int:
        """Core-ms that a job may be charged at most where it is placed, as when it runs there."""
        here = counted(self.site, placement.queue, placement.allocations)
        return charge(self.site, tier, here, placement.end_ms - placement.start_ms)

    def trim(self) -> None:
        """Forget what is known of requests when that is too much; between plans, since kinds get other numbers then."""
        if len(self._numbers) > MOST_PREPARED or len(self._kinds) > MOST_JOBS:
            for known in (self._prepared, self._numbers, self._kinds):
                known.clear()

    def kind(self, wanted: PlanRequest) -> int:
        """A number, equal for requests that the planner treats alike; found once for each job."""
        known = self._kinds.get(wanted.job)
        if known is None or known[0] is not wanted.request:
            request = wanted.request
            owner = (user_of(wanted), request.account) if self._by_owner else None
            key = (*request_key(request), owner)
            number = self._numbers.get(key)
            if number is None:
                self._count += 1  # never used again, also after what was known is forgotten
                number = self._numbers[key] = self._count
            known = self._kinds[wanted.job] = (request, number)
        return known[1]

    def place(
        self, timeline: Timeline, wanted: PlanRequest, not_before_ms: int = 0, limits: LimitRows | None = None
    ) -> Placement | None:
        """Where a job would go on this timeline, without taking the place; None when never."""
        if limits is None or not limits.bounded or wanted.owner is None:
            return self._placed(wanted, self._best(timeline, wanted, self._prepare(wanted), not_before_ms))
        best: tuple[bool, int] | None = None
        chosen: Placement | None = None
        for prepared in self._prepare(wanted):
            found = self._within(timeline, wanted, prepared, not_before_ms, limits)
            if found is None:
                continue
            # A smaller number of nodes that the budget covers comes before a larger one that it doesn't.
            unpaid = not limits.pays(wanted.owner, self.greatest_charge(wanted.request.tier, found))
            if best is None or (unpaid, found.start_ms) < best:
                best, chosen = (unpaid, found.start_ms), found
        return chosen

    def earliest(
        self, timeline: Timeline, wanted: PlanRequest, not_before_ms: int = 0, limits: LimitRows | None = None
    ) -> int | None:
        """When a job would start on this timeline; None for never."""
        if limits is None or not limits.bounded or wanted.owner is None:
            best = self._best(timeline, wanted, self._prepare(wanted), not_before_ms)
            return best[1].start_ms if best else None
        found = self.place(timeline, wanted, not_before_ms, limits)
        return found.start_ms if found else None

    def _within(
        self, timeline: Timeline, wanted: PlanRequest, prepared: _PreparedNeed, not_before_ms: int, limits: LimitRows
    ) -> Placement | None:
        """The earliest place at which its limits have room too: nodes and limits put it off in turn until both agree."""
        assert wanted.owner is not None
        owner = wanted.owner
        # Where it counts for more on larger nodes, the smallest are tried, by each measure that a limit has.
        smallest = limits.node_measures(owner, prepared.need.queue) if prepared.claim_varies else [None]
        while True:
            for measure in smallest:
                found = self._placed(wanted, self._best(timeline, wanted, [prepared], not_before_ms, measure))
                if found is None:
                    return None
                length = found.end_ms - found.start_ms
                if limits.earliest(owner, found.queue, found.start_ms, length, found.claim) == found.start_ms:
                    return found
            assert found is not None  # there is a measure, if only None
            later = limits.earliest(owner, found.queue, found.start_ms, length, prepared.least)
            if later is None:
                return None
            if later == found.start_ms:
                # Other nodes would count for less. They may come free before the limit has more room.
                changes = timeline.next_change(found.start_ms), limits.next_change(owner, found.queue, found.start_ms)
                later = min(changes)
            not_before_ms = later

    def _placed(self, wanted: PlanRequest, best: tuple[_PreparedNeed, Slot] | None) -> Placement | None:
        return self._placement(wanted, *best, _duration_ms(wanted)) if best else None

    def _best(
        self,
        timeline: Timeline,
        wanted: PlanRequest,
        choices_: Sequence[_PreparedNeed],
        not_before_ms: int,
        measure: int | None = None,
    ) -> tuple[_PreparedNeed, Slot] | None:
        request = wanted.request
        duration = _duration_ms(wanted)
        not_before = max(request.not_before_ms or 0, not_before_ms, timeline.now_ms)
        if not_before >= FAR:
            return None
        best = None
        for prepared in choices_:
            order = prepared.order if measure is None else self._order_by(prepared, measure)
            if prepared.need.anywhere:
                levels = [amount for _, amount in prepared.parts]
                ranks = prepared.need.anywhere
                slot = find_anywhere(timeline, prepared.nodes, levels, ranks, duration, not_before, order=order)
            elif timeline.bounds is not None and measure is None:
                slot = timeline.bounds.find(timeline, prepared, wanted.owner, duration, not_before)
            else:
                slot = find(timeline, prepared.nodes, prepared.parts, duration, not_before, order=order)
            if slot and (best is None or slot.start_ms < best[1].start_ms):
                best = (prepared, slot)
        return best

    def _order_by(self, prepared: _PreparedNeed, measure: int) -> NDArray[np.int64]:
        known = prepared.by_measure.get(measure)
        if known is None:
            known = prepared.by_measure[measure] = node_order(self.table, prepared.nodes, prepared.need, measure)
        return known

    def alike(self, timeline: Timeline, wanted: PlanRequest, first: Placement, most: int) -> list[tuple[str, int]]:
        """On which nodes, and how many on each, jobs like one that has a place would start with it, up to ``most`` in all.

        Empty where they must be placed one by one: on several nodes, on whole ones, or with queues or shapes to choose from.
        """
        prepared = self._prepare(wanted)
        need = prepared[0].need if len(prepared) == 1 else None
        if most == 1 or need is None or need.node_count > 1 or need.whole or need.anywhere:
            return []
        amount = np.asarray(prepared[0].parts[0][1])
        length = first.end_ms - first.start_ms
        nodes, order = prepared[0].nodes, prepared[0].order
        if timeline.kernels is None:
            found = count_at(timeline, nodes, amount, most, length, first.start_ms, order=order)
        else:
            found = self._count_compiled(timeline, prepared[0], amount, most, length, first.start_ms)
        return [(self.table.names[node], count) for node, count in found]

    def _count_compiled(
        self, timeline: Timeline, prepared: _PreparedNeed, amount: NDArray[np.int32], most: int, length: int, start: int
    ) -> list[tuple[int, int]]:
        assert timeline.kernels is not None
        in_turn = self.table.numbers[prepared.nodes][prepared.order.argsort()]
        counts = np.zeros(len(in_turn), dtype=np.int64)
        seen = timeline.kernels.count_at(
            timeline.times, timeline.free, timeline.used, in_turn, amount, most, length, start, counts
        )
        taken = np.flatnonzero(counts[:seen])
        return list(zip(in_turn[taken].tolist(), counts[taken].tolist(), strict=True))

    def fill(self, timeline: Timeline, wanted: PlanRequest, first: Placement, most: int) -> int:
        """Take the place found for one job, and those of others like it at the same time, up to ``most``; returns how many."""
        places = self.alike(timeline, wanted, first, most)
        if not places:
            self.occupy(timeline, first)
            return 1
        several = sum(count for _, count in places)
        self.occupy_several(timeline, first, places, several)
        return several

    def occupy_several(
        self, timeline: Timeline, first: Placement, places: Sequence[tuple[str, int]], several: int
    ) -> None:
        """Take the places of ``several`` jobs like one: on each node so many of them, in this order."""
        cores, memory, gpus, scratch = first.allocations[0].amount
        nodes, amounts = [], []
        for name, count in places:
            here = min(count, several)
            several -= here
            if here:
                nodes.append(self.table.index[name])
                amounts.append((cores * here, memory * here, gpus * here, scratch * here))
        timeline.take(nodes, amounts, first.start_ms, first.end_ms)

    def _placement(self, wanted: PlanRequest, prepared: _PreparedNeed, slot: Slot, duration: int) -> Placement:
        end, names, allocations = slot.start_ms + duration, self.table.names, list[PlannedAllocation]()
        # The part with most ranks first, and the nodes of each by name.
        for part, chosen in sorted(zip(prepared.need.parts, slot.chosen, strict=True), key=lambda one: -one[0].ranks):
            nodes = sorted(chosen, key=self.table.rank_of)
            amounts = self._amounts(prepared, part, nodes)
            rows = zip([names[node] for node in nodes], repeat(end), amounts, repeat(part.ranks), strict=False)
            allocations += map(_allocation, rows)
        return Placement(wanted.job, prepared.need.queue, slot.start_ms, end, tuple(allocations), prepared.counts)

    def occupy(self, timeline: Timeline, placement: Placement) -> None:
        """Take a placement out of the timeline, so that nobody else gets it."""
        nodes = [self.table.index[placed.node] for placed in placement.allocations]
        timeline.take(nodes, [placed.amount for placed in placement.allocations], placement.start_ms, placement.end_ms)

    def _amounts(self, prepared: _PreparedNeed, part: NodeShare, nodes: Sequence[int]) -> Iterable[Amount]:
        if prepared.need.whole:
            return zip(*self.table.capacity[:, list(nodes)].tolist(), strict=True)
        return repeat((part.cores, part.memory_mib, prepared.need.gpus, prepared.need.scratch_mib), len(nodes))

    def _prepare(self, wanted: PlanRequest) -> list[_PreparedNeed]:
        kind = self.kind(wanted)
        known = self._prepared.get(kind)
        if known is None:
            if len(self._prepared) > MOST_PREPARED:
                self._prepared.clear()
            known = [self._arrays(need) for need in self.needs(wanted.request, user_of(wanted))]
            self._prepared[kind] = known
        return known

    def needs_of(self, wanted: PlanRequest) -> list[Need]:
        """As :meth:`needs`, worked out once for all requests like it."""
        return [prepared.need for prepared in self._prepare(wanted)]

    def needs(self, request: Request, user: str | None = None) -> list[Need]:
        """Needs of a user's request in each of its queues that may run it; empty for none.

        In a range of nodes the largest number comes first, so that it is chosen where it starts as soon as a smaller one.
        """
        found: list[Need] = []
        for name in request.queues:
            if queue := self.site.queue.get(name):
                found += reversed(queue_fit(request, queue, self.site, user).needs)
        return found

    def fits(self, wanted: PlanRequest, idle: NDArray[np.signedinteger]) -> bool:
        """True when a job would fit on what is idle (4 × nodes) at an instant, whatever comes later, whoever comes first."""
        for prepared in self._prepare(wanted):
            if self.kernels is not None:
                form = form_of(self.table, prepared)
                if self.kernels.fits(idle, form.numbers, form.need, form.counts, prepared.need.anywhere):
                    return True
                continue
            there = idle[:, prepared.nodes]
            if there[CORES].max(initial=-1) < prepared.fewest_cores:
                continue
            hosts = [int((there >= amount.reshape(4, -1)).all(axis=0).sum()) for _, amount in prepared.parts]
            if prepared.need.anywhere:  # level k is met by each node that hosts k ranks
                if sum(hosts) >= prepared.need.anywhere:
                    return True
                continue
            needed = accumulate(count for count, _ in prepared.parts)
            if all(host >= count for host, count in zip(hosts, needed, strict=True)):
                return True
        return False

    def queues(self, wanted: PlanRequest) -> Iterable[str]:
        """The queues that may run a job."""
        return dict.fromkeys(prepared.need.queue for prepared in self._prepare(wanted))

    def misfit_words(self, request: Request, user: str | None = None) -> str:
        """Why none of its queues may run a request."""
        queues = [queue for name in request.queues if (queue := self.site.queue.get(name))]
        found = (misfit.words for queue in queues for misfit in queue_fit(request, queue, self.site, user).misfits)
        return "; ".join(dict.fromkeys(found)) or f"there is no queue {', '.join(request.queues)}"

    def _arrays(self, need: Need) -> _PreparedNeed:
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
        order = node_order(self.table, nodes, need)
        return _PreparedNeed(need, nodes, parts, order, self._least(need), most_counted(self.site, need))

    def _least(self, need: Need) -> Claim:
        if not need.whole:
            return 1, need.cores, need.node_count * need.gpus
        nodes = [self.site.node[name] for name in need.eligible]
        cores, gpus = (
            sum(sorted(amounts)[: need.node_count]) for amounts in ((n.cores for n in nodes), (n.gpus for n in nodes))
        )
        return 1, cores, gpus


def _duration_ms(wanted: PlanRequest) -> int:
    """Time for which a request must have room to be started, in ms: what it is supposed to take, else its walltime and grace."""
    if wanted.takes_ms is not None:
        return wanted.takes_ms
    return (wanted.request.walltime_s + wanted.request.grace_s) * 1000


def user_of(wanted: PlanRequest) -> str | None:
    """Whose job it is; None when that is unknown."""
    return wanted.owner.user if wanted.owner else None


request_key: Callable[[Request], tuple[Any, ...]] = attrgetter(*PLANNED)
"""Equal for requests that the planner treats alike."""
