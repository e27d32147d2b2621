"""The work on a plan: jobs are placed one after another, in priority order, and the work is resumed as it is needed."""

from collections.abc import Iterable, Iterator
from heapq import heapify, heappop, heappush

from lazy_quarry.core.plan.kept_places import Earlier
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import FAR, Placement, PlanRequest
from lazy_quarry.core.plan.planner import Planner, user_of
from lazy_quarry.core.plan.policies import POLICIES
from lazy_quarry.core.plan.queue import TurnQueue
from lazy_quarry.core.plan.startable_kinds import Kind, OpenKinds
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Window
from lazy_quarry.core.values import replace

ARRAY_ROUNDS, BLOCKS = 4, 8
"""Number of times that tasks of an array are placed, as many as fit or as at-once allows. The rest are placed as blocks: places
that are held for several tasks, one after another."""
_NO_NODE = Unplaced("nodes", "no node that could take it is open")
_AT_ONCE = Unplaced("at-once", "as many of its tasks run as at-once allows")


class Placing:
    """Owns everything that changes while a plan is made: the timelines with what is taken from them, and the places.

    ``timelines`` say what is free to those who may use each set of reservations; the empty set is everybody's.
    """

    def __init__(
        self,
        planner: Planner,
        now_ms: int,
        *,
        timelines: dict[frozenset[Window], Timeline],
        limits: LimitRows,
        queue: TurnQueue,
        samples: Iterable[tuple[PlanRequest, int]],
        valid_until_ms: int,
        earlier: Earlier,
    ) -> None:
        self.planner, self.now_ms = planner, now_ms
        self.timelines, self.limits = timelines, limits
        self.valid_until_ms = valid_until_ms
        self.tried: dict[int, None] = {}
        """The jobs that were tried so far, in the order of their turns."""
        self.placed: dict[int, Placement] = {}
        self.starting: dict[int, None] = {}
        """Jobs of them that start now, in the order in which that was found."""
        self.unplaced: dict[int, Unplaced] = {}
        self.more_tasks: list[Placement] = []
        """All places of arrays at *now* but each array's first, which is among ``placed``."""
        self._policy = POLICIES[planner.policy]
        self._first_waiting = 0
        """The first job that has to wait, once it has been placed."""
        self._held_kinds: set[Kind] = set()
        """Kinds of request that hold places later on, as many as the plan is deep. What starts now counts for nothing."""
        self._no_sooner: dict[Kind, int] = {}
        """For each kind of request, the last start that was found. Equal requests further back never start earlier."""
        self._queue, self._earlier = queue, earlier
        self._rest: Iterator[PlanRequest] | None = None
        """Jobs that were not tried yet; None where they must be asked for again."""
        self._all_tried = False
        self._kinds, self._taken = OpenKinds(), 0
        """Kinds that may still start now, and the number of places taken."""
        for wanted, count in samples:
            self._count(wanted, count)

    # -- resuming ----------------------------------------------------------------------------------

    def until_nothing_more_starts(self) -> None:
        """Place jobs until none of the rest could start now."""
        while self._something_may_start() and self._place_next():
            pass

    def work(self, most: int) -> bool:
        """Place some more jobs; True when every job was tried."""
        return not all(self._place_next() for _ in range(most))

    def until_tried(self, job: int) -> None:
        """Place jobs until this one was tried, or all."""
        while job not in self.tried and self._place_next():
            pass

    def finish(self) -> None:
        """Place jobs until every job was tried."""
        while self._place_next():
            pass

    def follow(self, queue: TurnQueue, added: PlanRequest | None = None) -> None:
        """The rest of the queue has changed: jobs left it, or one was added, behind all that were tried."""
        self._queue = queue
        # Once all were tried, only what is added is left.
        self._rest = iter([added] if added is not None else []) if self._all_tried else None
        self._all_tried = self._all_tried and added is None
        if added is not None:
            self._count(added, 1)

    def _count(self, wanted: PlanRequest, count: int) -> None:
        kind = self._kind(wanted)
        self._kinds.add(kind, wanted, count, self._no_sooner.get(kind, 0) > self.now_ms)

    def _something_may_start(self) -> bool:
        """True when a kind is left of which one could start now, as far as can be seen without placing all that stand before it."""
        if self._first_waiting and self._policy.strict:
            return False
        return self._kinds.any(self._taken, self._could_start)

    def _could_start(self, kind: Kind, wanted: PlanRequest) -> bool:
        if wanted.each:
            return True  # its tasks differ, so they are tried
        not_before = wanted.request.not_before_ms or 0
        if not_before > self.now_ms:
            self._changes_at(not_before)
            return False
        if not self.planner.fits(wanted, self._timeline(wanted).idle()):
            return False
        start = self.planner.earliest(self._timeline(wanted), wanted, self._no_sooner.get(kind, 0), self.limits)
        self._no_sooner[kind] = FAR if start is None else start
        if start is None:
            return False
        if start > self.now_ms:
            self._changes_at(start)
            return False
        return True

    def move_to(self, now_ms: int) -> None:
        """Move the plan's present to a later instant."""
        self.now_ms = now_ms
        for timeline in self.timelines.values():
            timeline.now_ms = now_ms

    def started(self, job: int) -> None:
        """A job was started at its place; it goes on having it, so only the plan's validity changes."""
        placement = self.placed.pop(job)
        self.starting.pop(job, None)
        # The plan counts on this end. When it comes the plan must be made again, even if nobody reports it.
        self.valid_until_ms = min(self.valid_until_ms, placement.end_ms)

    # -- one job -----------------------------------------------------------------------------------

    def _place_next(self) -> bool:
        """Try the next job of the queue; False when there is none."""
        if self._rest is None:
            self._rest = (wanted for wanted in self._queue.in_turn() if wanted.job not in self.tried)
        wanted = next(self._rest, None)
        if wanted is None:
            self._all_tried = True
            return False
        self.tried[wanted.job] = None
        kind = self._kind(wanted)
        self._place_one(wanted, kind, self._earlier.place_of(wanted.job))
        self._kinds.tried(kind)
        return True

    def _place_one(self, wanted: PlanRequest, kind: Kind, known: Placement | None) -> None:
        # Equal requests cannot start before the last one that was placed, so the search begins there.
        no_sooner = self._no_sooner.get(kind, 0)
        if no_sooner > self.now_ms and not self._within_depth(kind):
            return  # beyond the depth a job may only start now
        if self._first_waiting and self._policy.strict:
            self._wait_turn(wanted)
        elif (wanted.request.not_before_ms or 0) > self.now_ms and not self._policy.all_hold_places:
            self._not_yet(wanted)
        elif wanted.each:
            self._place_tasks(wanted, kind)
        elif wanted.count > 1 or wanted.at_once is not None:
            self._place_array(wanted, kind, no_sooner)
        else:
            self._place_job(wanted, kind, no_sooner, known)

    def _kind(self, wanted: PlanRequest) -> Kind:
        alike = self.planner.kind(wanted)
        kind: Kind = alike if wanted.takes_ms is None else (alike, wanted.takes_ms)
        return (kind, wanted.access, wanted.owner) if wanted.access or self.limits.bounded else kind

    def _place_job(self, wanted: PlanRequest, kind: Kind, no_sooner: int, known: Placement | None) -> None:
        placement = known or self._find(wanted, no_sooner)
        if placement is None:
            self._no_sooner[kind] = FAR
            self.unplaced[wanted.job] = self._never(wanted)
            return
        if placement.start_ms > self.now_ms and not self._holds_place(wanted, kind):
            self._no_sooner[kind] = placement.start_ms
            self._changes_at(placement.start_ms)
            return
        if not self._paid(wanted, placement, kind):
            return
        self._no_sooner[kind] = placement.start_ms
        self._take(wanted, placement)
        self.placed[wanted.job] = placement
        if placement.start_ms > self.now_ms:
            self._waits(wanted, placement.start_ms, kind)
        else:
            self.starting[wanted.job] = None

    def _timeline(self, wanted: PlanRequest) -> Timeline:
        return self.timelines.get(wanted.access, self.timelines[frozenset()])

    def _find(self, wanted: PlanRequest, not_before_ms: int) -> Placement | None:
        return self.planner.place(self._timeline(wanted), wanted, not_before_ms, self.limits)

    def _never(self, wanted: PlanRequest) -> Unplaced:
        """Why nothing would ever let it start: no queue may run it, or no node is open."""
        if self.planner.needs_of(wanted):
            return _NO_NODE
        return Unplaced("limit", self.planner.misfit_words(wanted.request, user_of(wanted)))

    def _changes_at(self, start_ms: int) -> None:
        self.valid_until_ms = min(self.valid_until_ms, max(start_ms, self.now_ms + 1))

    def _waits(self, wanted: PlanRequest, start_ms: int, kind: Kind) -> None:
        if self._policy.all_hold_places:
            self._held_kinds.add(kind)
        self._first_waiting = self._first_waiting or wanted.job
        self._changes_at(start_ms)

    def _wait_turn(self, wanted: PlanRequest) -> None:
        first = self._first_waiting
        self.unplaced[wanted.job] = Unplaced(
            "turn", f"waits its turn: jobs start strictly in order here, and {first} comes first"
        )

    def _not_yet(self, wanted: PlanRequest) -> None:
        """Where only the first of the queue holds a place, a job that may not start yet isn't in the queue yet."""
        self.unplaced[wanted.job] = Unplaced("not-before", "asked to start later; it stands in the queue from then on")
        self._changes_at(wanted.request.not_before_ms or 0)

    def _within_depth(self, kind: Kind) -> bool:
        return kind in self._held_kinds or len(self._held_kinds) < self.planner.depth

    def _holds_place(self, wanted: PlanRequest, kind: Kind) -> bool:
        """True when a job that can't start now gets a place later on, by the policy and the depth of the plan."""
        if self._policy.all_hold_places:
            return self._within_depth(kind)
        if self._first_waiting in (0, wanted.job):
            return True
        words = f"only the first job of the queue, {self._first_waiting}, holds a place here; no forecast"
        self.unplaced[wanted.job] = Unplaced("turn", words)
        return False

    def _paid(self, wanted: PlanRequest, placement: Placement, kind: Kind, count: int = 1) -> int:
        """Count jobs like it on its account's budget, as many of ``count`` as that covers; else say why it has no place."""
        limits, owner = self.limits, wanted.owner
        if owner is None or not limits.bounded:
            return count
        most = self.planner.greatest_charge(wanted.request.tier, placement)
        if limits.pays(owner, most):
            if placement.start_ms > self.now_ms:
                limits.hold(owner)
                count = min(count, limits.left_for(owner) // most) if most else count
            else:
                most = self.planner.charge_here(wanted.request.tier, placement)  # the rest is for those behind it
            limits.spend(owner, most * count, comes_back=True)
            return count
        self.unplaced[wanted.job] = Unplaced("budget", limits.refusal(owner, most, self._within_depth(kind)))
        return 0

    def _take(self, wanted: PlanRequest, placement: Placement) -> None:
        self._taken += 1
        for timeline in self.timelines.values():
            self.planner.occupy(timeline, placement)
        if wanted.owner is not None and self.limits.bounded:
            self.limits.use(wanted.owner, placement.queue, placement.start_ms, placement.end_ms, placement.claim)

    # -- arrays ------------------------------------------------------------------------------------

    def _slots(self, wanted: PlanRequest) -> list[int] | None:
        """When each of the tasks that may run at once can start: a heap; None when there is no limit.

        Where only the first of the queue holds a place, tasks that wait for their own array aren't in the queue yet.
        """
        if wanted.at_once is None:
            return None
        slots = [self.now_ms] * min(wanted.at_once, wanted.count)
        if self._policy.all_hold_places:
            slots += wanted.busy_until
        heapify(slots)
        return slots

    def _use_slot(self, slots: list[int] | None, end_ms: int) -> None:
        """A task has a place in the first slot, which is free again when it ends."""
        if slots is None:
            return
        heappop(slots)
        if self._policy.all_hold_places:
            heappush(slots, end_ms)

    def _place_array(self, wanted: PlanRequest, kind: Kind, no_sooner: int) -> None:
        """Place what may start now, task by task; the rest together, as many at a time as fit, a few times over."""
        left, slots, placement = wanted.count, self._slots(wanted), None
        # Each start changes what is free, so tasks that start now are placed one by one.
        while left and (slots is None or (slots and slots[0] <= self.now_ms)):
            placement = self._find(wanted, no_sooner)
            if placement is None or placement.start_ms > self.now_ms:
                break
            if not self._paid(wanted, placement, kind):
                return
            self._take(wanted, placement)
            self._starts(wanted, placement)
            self._use_slot(slots, placement.end_ms)
            left -= 1
        if not left:
            return
        if slots == []:
            if wanted.job not in self.placed:
                self.unplaced[wanted.job] = _AT_ONCE
        elif self._holds_place(wanted, kind):
            self._place_rest(wanted, kind, left, no_sooner, slots)
        else:
            # The next may start where there is room, without a place that is held for it.
            self._changes_at(placement.start_ms if placement else FAR)
            if wanted.job in self.placed:
                self.unplaced.pop(wanted.job, None)

    def _starts(self, wanted: PlanRequest, placement: Placement) -> None:
        """A task of an array starts now; the first of them stands for the array."""
        first = self.placed.get(wanted.job)
        if first is None or first.start_ms > self.now_ms:
            self.placed[wanted.job] = placement
            self.starting[wanted.job] = None
        else:
            self.more_tasks.append(placement)

    def _place_tasks(self, wanted: PlanRequest, kind: Kind) -> None:
        """Place tasks one by one, each where it alone may run, and always the one that can start soonest: so they will start."""
        slots = self._slots(wanted)
        tasks = [replace(wanted, request=request, count=1, at_once=None, each=()) for _, request in wanted.each]
        # A start only grows while others take places, so one that is still the least when it is asked again is the next.
        heap = [(self.now_ms, place, -1) for place in range(len(tasks))]
        while heap and slots != []:
            start, place, taken = heappop(heap)
            free = max(self.now_ms, slots[0]) if slots else self.now_ms
            one = tasks[place]
            if taken != self._taken or start < free:
                placement = self._find(one, free)
                if placement is not None:
                    heappush(heap, (placement.start_ms, place, self._taken))
                continue
            placement = self._find(one, free)
            if placement is None:
                continue
            if start > self.now_ms and not self._holds_place(wanted, kind):
                self._changes_at(start)
                break
            if self._paid(one, placement, kind):
                self._place_task(wanted, kind, one, replace(placement, index=wanted.each[place][0]))
                self._use_slot(slots, placement.end_ms)
        if wanted.job in self.placed:
            self.unplaced.pop(wanted.job, None)
        elif slots == []:
            self.unplaced.setdefault(wanted.job, _AT_ONCE)
        else:
            self.unplaced.setdefault(wanted.job, _NO_NODE)

    def _place_task(self, wanted: PlanRequest, kind: Kind, one: PlanRequest, placement: Placement) -> None:
        self._take(one, placement)
        if placement.start_ms <= self.now_ms:
            self._starts(wanted, placement)
        else:
            self._waits(wanted, placement.start_ms, kind)
            self.placed.setdefault(wanted.job, placement)  # the soonest stands for the array

    def _place_rest(self, wanted: PlanRequest, kind: Kind, left: int, no_sooner: int, slots: list[int] | None) -> None:
        """Places for the tasks of an array that can't start now."""
        ends = list[int]()
        for round_ in range(ARRAY_ROUNDS):
            first = self._find(wanted, max(no_sooner, slots[0]) if slots else no_sooner)
            if first is None:
                if not round_ and wanted.job not in self.placed:
                    self.unplaced[wanted.job] = self._never(wanted)
                return
            several = min(left, sum(slot <= first.start_ms for slot in slots)) if slots else left
            count = self._take_several(wanted, kind, first, several)
            if not count:
                return
            self.placed.setdefault(wanted.job, first)
            self._waits(wanted, first.start_ms, kind)
            ends = [end for end in ends if end > first.start_ms] + [first.end_ms] * count
            left -= count
            for _ in range(count):
                self._use_slot(slots, first.end_ms)
            no_sooner = max(no_sooner, first.start_ms)
            if not left or slots == []:
                return
        self._place_blocks(wanted, kind, left, len(ends), no_sooner, slots)

    def _take_several(self, wanted: PlanRequest, kind: Kind, first: Placement, several: int) -> int:
        """Take a place and others like it at that instant, as many as nodes, limits and budgets allow; returns how many."""
        owner = wanted.owner if self.limits.bounded else None
        if owner is not None:
            length = first.end_ms - first.start_ms
            several = self.limits.allowed(owner, first.queue, first.start_ms, length, first.claim, several)
        places = self.planner.alike(self._timeline(wanted), wanted, first, several)
        several = self._paid(wanted, first, kind, sum(count for _, count in places) or 1)
        if not places:
            if several:
                self._take(wanted, first)
            return several
        if not several:
            return 0
        self._taken += 1
        for timeline in self.timelines.values():
            self.planner.occupy_several(timeline, first, places, several)
        if owner is not None:
            jobs, cores, gpus = first.claim
            claim = jobs * several, cores * several, gpus * several
            self.limits.use(owner, first.queue, first.start_ms, first.end_ms, claim)
        return several

    def _place_blocks(
        self, wanted: PlanRequest, kind: Kind, left: int, width: int, no_sooner: int, slots: list[int] | None
    ) -> None:
        """Hold places for the tasks that are left, each for several of them one after another, as if ``width`` ran at a time.

        So jobs behind a long array aren't told that they start before it is through.
        """
        for _ in range(BLOCKS):
            not_before = max(no_sooner, slots[0]) if slots else no_sooner
            one = self._find(wanted, not_before)
            if one is None:
                return
            deep, found = -(-left // max(1, width)), None
            while found is None or (found.start_ms > one.start_ms and deep > 1):
                deep = deep if found is None else deep // 2  # a window may leave time for some of them
                block = replace(wanted, takes_ms=deep * (one.end_ms - one.start_ms))
                found = self._find(block, not_before) if deep > 1 else one
                if found is None:
                    return
            several = min(-(-left // deep), sum(slot <= found.start_ms for slot in slots) if slots else left)
            count = self._take_several(block if deep > 1 else wanted, kind, found, several)
            for _ in range(count):
                self._use_slot(slots, found.end_ms)
            left -= count * deep
            no_sooner = max(no_sooner, found.start_ms)
            if left <= 0 or not count or slots == []:
                return
