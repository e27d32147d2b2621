"""The work on a plan: jobs are placed one after another, in priority order, and the work is resumed as it is needed."""

from dataclasses import replace

from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import CORES, FAR, Placement, PlanRequest
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.policies import POLICIES
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import HOUR_MS

ARRAY_ROUNDS = 8
"""So often as many tasks of an array are placed as fit; what is left then has no place yet."""
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
        requests: list[PlanRequest],
        valid_until_ms: int,
    ) -> None:
        self.planner, self.now_ms = planner, now_ms
        self.timelines, self.limits, self.requests = timelines, limits, requests
        self.valid_until_ms = valid_until_ms
        self.placed: dict[int, Placement] = {}
        self.unplaced: dict[int, Unplaced] = {}
        self.more_tasks: list[Placement] = []
        """All places of arrays at *now* but each array's first, which is among ``placed``."""
        self._policy = POLICIES[planner.policy]
        self._done = 0
        """How many of the requests have been tried."""
        self._first_waiting = 0
        """The first job that has to wait, once it has been placed."""
        self._kinds_seen: set[tuple] = set()
        self._no_sooner: dict[tuple, int] = {}
        """For each kind of request, the last start that was found. Equal requests further back never start earlier."""
        self._fewest_cores = min((wanted.request.threads for wanted in requests), default=1)
        """No request needs fewer; while no node has so many free, nothing can start."""
        self._most_free = 0
        self._look()

    # -- resuming ----------------------------------------------------------------------------------

    def until_nothing_more_starts(self) -> None:
        """Place jobs until none of the rest could start now."""
        while self._done < len(self.requests) and self._most_free >= self._fewest_cores:
            self._place_next()

    def finish(self) -> None:
        """Place jobs until every job was tried."""
        while self._done < len(self.requests):
            self._place_next()

    def extend(self, wanted: PlanRequest) -> None:
        """Add a job behind all others."""
        self.requests.append(wanted)
        self._fewest_cores = min(self._fewest_cores, wanted.request.threads)

    def move_to(self, now_ms: int) -> None:
        """Move the plan's present to a later instant."""
        self.now_ms = now_ms
        for timeline in self.timelines.values():
            timeline.now_ms = now_ms

    def started(self, job: int) -> None:
        """A job was started at its place; it goes on having it, so only the plan's validity changes."""
        placement = self.placed.pop(job)
        # The plan counts on this end. When it comes the plan must be made again, even if nobody reports it.
        self.valid_until_ms = min(self.valid_until_ms, placement.end_ms)

    def _look(self) -> None:
        """Update how much the emptiest node has free now."""
        free = (timeline.free_at(self.now_ms)[CORES].max(initial=0) for timeline in self.timelines.values())
        self._most_free = max(int(cores) for cores in free)

    # -- one job -----------------------------------------------------------------------------------

    def _place_next(self) -> None:
        wanted = self.requests[self._done]
        self._done += 1
        kind = self._kind(wanted)
        if kind not in self._kinds_seen and len(self._kinds_seen) < self.planner.depth:
            self._kinds_seen.add(kind)
        # Equal requests cannot start before the last one that was placed, so the search begins there.
        no_sooner = self._no_sooner.get(kind, 0)
        if kind not in self._kinds_seen and no_sooner > self.now_ms:
            return  # beyond the depth a job may only start now
        if wanted.each:
            self._place_tasks(wanted)
        elif wanted.count > 1 or wanted.at_once is not None:
            self._place_array(wanted, no_sooner)
        elif self._first_waiting and self._policy.strict:
            self._wait_turn(wanted)
        else:
            self._place_job(wanted, kind, no_sooner)

    def _kind(self, wanted: PlanRequest) -> tuple:
        kind = self.planner.key(wanted)
        return (*kind, wanted.access, wanted.owner) if wanted.access or self.limits.bounded else kind

    def _place_job(self, wanted: PlanRequest, kind: tuple, no_sooner: int) -> None:
        placement = self._find(wanted, no_sooner)
        if placement is None:
            self._no_sooner[kind] = FAR
            self.unplaced[wanted.job] = _NO_NODE
            return
        if not self._paid(wanted, placement):
            return
        self._no_sooner[kind] = placement.start_ms
        now = placement.start_ms <= self.now_ms
        if now or (kind in self._kinds_seen and self._holds_place(wanted)):
            self._take(wanted, placement)
            self.placed[wanted.job] = placement
        if now:
            self._look()
        else:
            self._waits(wanted, placement.start_ms)

    def _find(self, wanted: PlanRequest, not_before_ms: int) -> Placement | None:
        timeline = self.timelines.get(wanted.access, self.timelines[frozenset()])
        return self.planner.place(timeline, wanted, not_before_ms, self.limits)

    def _waits(self, wanted: PlanRequest, start_ms: int) -> None:
        self._first_waiting = self._first_waiting or wanted.job
        self.valid_until_ms = min(self.valid_until_ms, start_ms)

    def _wait_turn(self, wanted: PlanRequest) -> None:
        words = f"waits its turn: jobs start strictly in order here, and {self._first_waiting} comes first"
        self.unplaced[wanted.job] = Unplaced("turn", words)

    def _holds_place(self, wanted: PlanRequest) -> bool:
        """Whether a job that can't start now gets a place later on, by the policy."""
        if self._policy.all_hold_places or not self._first_waiting:
            return True
        words = f"only the first job of the queue, {self._first_waiting}, holds a place here; no forecast"
        self.unplaced[wanted.job] = Unplaced("turn", words)
        return False

    def _paid(self, wanted: PlanRequest, placement: Placement) -> bool:
        """Count it on its account's budget, if that covers it; else say why it has no place."""
        limits, owner = self.limits, wanted.owner
        if owner is None or not limits.bounded:
            return True
        most = self.planner.greatest_charge(wanted, placement)
        if limits.pays(owner.account, most):
            limits.spend(owner.account, most, comes_back=True)
            return True
        left = f"{max(0, limits.left[owner.account]) / HOUR_MS:,.0f} core-hours are left"
        cost = f"it could be charged {most / HOUR_MS:,.0f}"
        if limits.may_pay(owner.account, most):
            limits.spend(owner.account, most)  # what comes back is for the first that waits for it
            words = (
                f"waits for the budget of {owner.account}: {cost}, and {left} while jobs run that may yet use theirs"
            )
        else:
            words = f"the budget of {owner.account} does not cover it: {cost}, and {left}"
        self.unplaced[wanted.job] = Unplaced("budget", words)
        return False

    def _take(self, wanted: PlanRequest, placement: Placement) -> None:
        for timeline in self.timelines.values():
            self.planner.occupy(timeline, placement)
        if wanted.owner is not None and self.limits.bounded:
            self.limits.use(wanted.owner, placement.queue, placement.start_ms, placement.end_ms, placement.claim)

    # -- arrays ------------------------------------------------------------------------------------

    def _place_array(self, wanted: PlanRequest, no_sooner: int) -> None:
        """Place what may start now, task by task; the rest together, as many at a time as fit, a few times over."""
        left = wanted.count
        room = left if wanted.at_once is None else min(left, wanted.at_once)
        ends: list[int] = []
        strict = bool(self._first_waiting) and self._policy.strict
        # Each start changes what is free, so tasks that start now are placed one by one.
        while room and not strict:
            placement = self._find(wanted, no_sooner)
            if placement is None or placement.start_ms > self.now_ms:
                break
            if not self._paid(wanted, placement):
                return
            self._take(wanted, placement)
            if wanted.job in self.placed:
                self.more_tasks.append(placement)
            else:
                self.placed[wanted.job] = placement
            ends.append(placement.end_ms)
            left, room = left - 1, room - 1
        self._look()
        if not left:
            return
        if wanted.at_once is not None and wanted.at_once <= 0:
            self.unplaced[wanted.job] = _AT_ONCE
            return
        if strict:
            self._wait_turn(wanted)
            return
        if not self._holds_place(wanted) and wanted.job not in self.placed:
            return
        self._first_waiting = self._first_waiting or wanted.job
        if self._policy.all_hold_places or self._first_waiting == wanted.job:
            self._place_rest(wanted, left, min(ends) if ends and not room else no_sooner)

    def _place_tasks(self, wanted: PlanRequest) -> None:
        """Place tasks one by one, each where it alone may run; those that may not start yet hold no place."""
        room = len(wanted.each) if wanted.at_once is None else wanted.at_once
        for index, request in wanted.each:
            one = replace(wanted, request=request, count=1, at_once=None, each=())
            placement = self._find(one, 0)
            if placement is None:
                if wanted.job not in self.placed:
                    self.unplaced[wanted.job] = _NO_NODE
                continue
            now = placement.start_ms <= self.now_ms
            if (now and room <= 0) or not self._paid(one, placement):
                if wanted.job not in self.placed:
                    self.unplaced.setdefault(wanted.job, _AT_ONCE)
                continue
            if not now and not self._policy.all_hold_places:
                continue
            placement = replace(placement, index=index)
            self._take(one, placement)
            room -= now
            first = self.placed.get(wanted.job)
            if first is None or (now and first.start_ms > self.now_ms):
                self.placed[wanted.job] = placement  # the soonest stands for the array
            elif now:
                self.more_tasks.append(placement)
            if not now:
                self._waits(wanted, placement.start_ms)
        self._look()

    def _place_rest(self, wanted: PlanRequest, left: int, not_before_ms: int) -> None:
        """Places for the tasks of an array that can't start now."""
        # Several places at once are only correct while one timeline and no limit has to agree.
        one_by_one = len(self.timelines) > 1 or self.limits.bounded
        for round_ in range(ARRAY_ROUNDS):
            several = left if wanted.at_once is None else min(left, max(1, wanted.at_once))
            first = self._find(wanted, not_before_ms)
            if first is None:
                if not round_ and wanted.job not in self.placed:
                    self.unplaced[wanted.job] = _NO_NODE
                return
            if one_by_one and not self._paid(wanted, first):
                return
            self.placed.setdefault(wanted.job, first)
            self.valid_until_ms = min(self.valid_until_ms, max(first.start_ms, self.now_ms + 1))
            if one_by_one:
                self._take(wanted, first)
                placed: tuple[int, int, int] | None = (first.start_ms, first.end_ms, 1)
            else:
                placed = self.planner.place_many(self.timelines[frozenset()], wanted, several, not_before_ms)
            if placed is None:
                return
            left -= placed[2]
            if not left:
                return
            not_before_ms = placed[1] if wanted.at_once is not None else placed[0]
