"""The plan: where and when every waiting job is expected to run. It is made only as far as a reader needs it."""

from collections.abc import Callable, Iterable, Sequence

from lazy_quarry.core.plan.kept_places import Earlier
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import FAR, Placement, PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.placing import Placing
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.plan.queue import ListedQueue, TurnQueue
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.plan.waiting import Unplaced
from lazy_quarry.core.site import Closure, Site, Window

OVERDUE_MS = 60_000
"""A job past its end is expected to last to the next full minute after that end, until its real end is recorded."""
_UNLIMITED = Site("", "rehearsal", (), (), (), (), "", "")


def expected_end(until_ms: int, now_ms: int) -> int:
    """When something that must be over at an instant is expected to be over, as seen from now.

    It doesn't depend on when exactly one looks, so that a plan that is kept is the same as one that is made afresh.
    """
    if until_ms > now_ms:
        return until_ms
    return until_ms + ((now_ms - until_ms) // OVERDUE_MS + 1) * OVERDUE_MS


def make_plan(
    planner: Planner,
    now_ms: int,
    running: Sequence[PlannedAllocation],
    waiting: TurnQueue | Sequence[PlanRequest],
    *,
    closures: Sequence[Closure] = (),
    windows: Sequence[Window] = (),
    limits: LimitRows | None = None,
    accesses: Iterable[frozenset[Window]] = (),
    earlier: Earlier | None = None,
) -> "Plan":
    """Make a plan of the ``waiting`` jobs, in the order of their turns, beside the running ones.

    ``limits`` are the site's limits with what is in use of them now; None for none. ``accesses`` are
    sets of reservations for which somebody will ask what is free to those who may use them. ``earlier`` is
    what a plan found that still held when jobs were added.
    """
    planner.trim()
    index = planner.table.index
    queue = ListedQueue(waiting) if isinstance(waiting, Sequence) else waiting
    allocations = [
        one if one.until_ms > now_ms else one._replace(until_ms=expected_end(one.until_ms, now_ms))
        for one in running
        if one.node in index
    ]
    timeline = Timeline(planner.table, now_ms, allocations, planner.kernels)
    timeline.close([index[closure.node] for closure in closures if closure.node in index], now_ms, FAR)
    timelines, samples = {}, list(queue.samples())
    for access in {frozenset[Window](), *accesses, *(wanted.access for wanted, _ in samples)}:
        timelines[access] = timeline.copy() if access else timeline
    for access, each in timelines.items():
        for window in windows:
            if window.ends_ms > now_ms and window not in access:
                each.close([index[name] for name in window.nodes if name in index], window.begins_ms, window.ends_ms)
    # What is free grows when something running ends and when a window is over. Nothing else can make a job start earlier
    # than the plan found, which need not have looked at every job.
    grows = [one.until_ms for one in allocations] + [one.ends_ms for one in windows if one.ends_ms > now_ms]
    placing = Placing(
        planner,
        now_ms,
        timelines=timelines,
        limits=limits or LimitRows(_UNLIMITED, now_ms),
        queue=queue,
        samples=samples,
        valid_until_ms=min(grows, default=FAR),
        earlier=earlier or Earlier(),
    )
    return Plan(placing)


class Plan:
    """A plan as its readers see it. Everything that changes while it is made belongs to its :class:`Placing`.

    :meth:`starting` stops where nothing more could start now, and what is read afterwards goes on from there, so
    both see the same plan. It holds until something ends, or the clock reaches :attr:`valid_until_ms`.
    """

    def __init__(self, placing: Placing) -> None:
        self._placing = placing
        self.limits = placing.limits

    @property
    def now_ms(self) -> int:
        """The instant that the plan is for."""
        return self._placing.now_ms

    @property
    def valid_until_ms(self) -> int:
        """When something placed should start or something running must have ended."""
        return self._placing.valid_until_ms

    @property
    def tried(self) -> dict[int, None]:
        """The jobs that were tried so far, in the order of their turns."""
        return self._placing.tried

    def at(self, now_ms: int) -> bool:
        """Move its present to a later instant; False when the plan isn't valid any more."""
        if not self.now_ms <= now_ms < self.valid_until_ms:
            return False
        if now_ms > self.now_ms and (self._placing.starting or self._placing.more_tasks):
            return False  # what was to start then has not: it may not fit any more
        self._placing.move_to(now_ms)
        return True

    # -- what it says ------------------------------------------------------------------------------

    def starting(self) -> list[Placement]:
        """Placements at *now*, in priority order."""
        self._placing.until_nothing_more_starts()
        return [self._placing.placed[job] for job in self._placing.starting] + self._placing.more_tasks

    @property
    def placements(self) -> dict[int, Placement]:
        """Every job that has a place, by number."""
        self._placing.finish()
        return self._placing.placed

    @property
    def unplaced(self) -> dict[int, Unplaced]:
        """Why a job has no place at any time, by number."""
        self._placing.finish()
        return self._placing.unplaced

    def work(self, most: int) -> bool:
        """Work it out for some more jobs; True when every job was tried."""
        return self._placing.work(most)

    def finish(self) -> None:
        """Work out all of it."""
        self._placing.finish()

    def unplaced_so_far(self, job: int) -> Unplaced | None:
        """Why a job has no place, if the plan was worked out that far and it has none."""
        return self._placing.unplaced.get(job)

    def place_of(self, job: int) -> Placement | None:
        """The place of one job; the plan is worked out no further than to it."""
        self._placing.until_tried(job)
        return self._placing.placed.get(job)

    def as_earlier(self, waits: Callable[[int], bool]) -> Earlier:
        """Its findings so far, for a plan with more jobs; ``waits`` tells whether a job still waits."""
        return Earlier((job for job in self.tried if waits(job)), self._placing.placed)

    def placed_so_far(self, job: int) -> Placement | None:
        """The place of a job, if the plan was worked out that far."""
        return self._placing.placed.get(job)

    # -- what is free ------------------------------------------------------------------------------

    @property
    def timeline(self) -> Timeline:
        """Room that is free to everybody, as far as the plan was worked out."""
        return self._placing.timelines[frozenset()]

    def obstacle(self, wanted: PlanRequest, placement: Placement | None) -> Unplaced | None:
        """The reason why a request that is no part of this plan could not start at a place that is free for it."""
        if placement is None:
            return None
        return self.limits.obstacle(wanted.owner, self._placing.planner.greatest_charge(wanted.request.tier, placement))

    def timeline_of(self, wanted: PlanRequest) -> Timeline:
        """Room that is free to this job, which may use some reservations."""
        return self._placing.timelines.get(wanted.access, self.timeline)

    def serves(self, access: frozenset[Window]) -> bool:
        """True when it knows what is free to those who may use these reservations."""
        return access in self._placing.timelines

    def whole(self) -> Timeline:
        """The timeline with every place taken: what somebody behind all others would find."""
        self._placing.finish()
        return self.timeline

    # -- what happens to it ------------------------------------------------------------------------

    def follow(self, queue: TurnQueue, added: PlanRequest | None = None) -> None:
        """The queue has changed behind all that were tried: some have left it, or one was added."""
        self._placing.follow(queue, added)

    def started(self, job: int) -> None:
        """A job was started at its place, which it goes on having until its end."""
        self._placing.started(job)
