"""The plan as it might go: with run times drawn from what is known, in place of the walltimes that were asked for.

One pass of the planner is one draw; over several, each waiting job has a distribution of its start.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from lazy_quarry.core.advice.forecast_calibration import OUTSIDE, Waits
from lazy_quarry.core.advice.run_times import RunKind, RunTimes, shares_of
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.plans import owner_of
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import EACH, Job, Phase
from lazy_quarry.core.plan.limits import LimitRows
from lazy_quarry.core.plan.placement import Claim, Owner, PlannedAllocation, PlanRequest
from lazy_quarry.core.plan.plan import Plan, expected_end, make_plan
from lazy_quarry.core.plan.planner import Planner, duration_ms
from lazy_quarry.core.plan.timeline import Timeline
from lazy_quarry.core.site import Closure, Site, Window

MOST_BLOCKED = 200
Instants = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Running:
    """A running job as a draw needs it."""

    job: int
    array: int | None
    kind: RunKind
    started_ms: int
    limit_ms: int
    allocations: tuple[PlannedAllocation, ...]
    owner: Owner
    queue: str
    claim: Claim


@dataclass(frozen=True, slots=True)
class Waiting:
    """A job that may start, or that waits for others: by number and condition."""

    wanted: PlanRequest
    kind: RunKind
    after: tuple[tuple[int, str], ...] = ()
    begun: bool = False
    """True for an array of which some task has started."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene:
    """A site at one instant, as values: all that a plan of it depends on.

    ``waiting`` are in their turns, as far as they are looked at.
    """

    site: Site
    now_ms: int
    running: tuple[Running, ...]
    waiting: tuple[Waiting, ...]
    blocked: tuple[Waiting, ...]
    closures: tuple[Closure, ...]
    windows: tuple[Window, ...]
    left: Mapping[str, int]
    coming: Mapping[str, int]


def scene_of(engine: Engine, at_ms: int, most: int) -> Scene:
    """The present of a site, with so many waiting jobs at most."""
    plans, state = engine.plans, engine.state
    limits = plans.limit_rows(at_ms)
    waiting = list[Waiting]()
    for job in plans.in_turn(at_ms):
        if len(waiting) == most:
            break
        begun = job.request.array is not None and state.begun(job)
        waiting.append(Waiting(plans.plan_request(job, at_ms), kind_of(plans.planner, job), begun=begun))
    return Scene(
        site=engine.site,
        now_ms=at_ms,
        running=tuple(_running(job) for job in state.running() if job.allocations),
        waiting=tuple(waiting),
        blocked=tuple(_blocked(engine, state, at_ms)),
        closures=tuple(Closure(node, reason) for node, reason in sorted(state.closures.items())),
        windows=plans.windows,
        left=dict(limits.left),
        coming=dict(limits.coming),
    )


def kind_of(planner: Planner, job: Job) -> RunKind:
    """The kind by which the run of a job, or of a task of an array, is known."""
    if job.cores_allocated:
        return kind_of_run(job)
    request = job.request if job.request.array is None else replace(job.request, array=None)
    needs = planner.needs_of(PlanRequest(job.number, request, owner=owner_of(job)))
    cores = needs[0].cores if needs else request.ranks * request.threads
    return RunKind(job.user, job.request.name, cores, job.request.walltime_s)


def kind_of_run(job: Job) -> RunKind:
    """The kind by which a run is known that has begun."""
    return RunKind(job.user, job.request.name, job.cores_allocated, job.request.walltime_s)


def _running(job: Job) -> Running:
    limit = job.end_limit_ms or 0
    return Running(
        job.number,
        job.parent,
        kind_of_run(job),
        job.started_ms or 0,
        limit,
        tuple(PlannedAllocation(one.node, limit, one.amount, one.ranks) for one in job.allocations),
        owner_of(job),
        job.queue,
        job.claim,
    )


def _blocked(engine: Engine, state: State, at_ms: int) -> Iterator[Waiting]:
    """Jobs that wait for others which may yet end as they must, those that are waited for first."""
    found = dict[int, Waiting]()
    rest = [job for job in state.jobs.values() if job.phase is Phase.BLOCKED and not job.skip_reason][:MOST_BLOCKED]
    while rest:
        again = []
        for job in rest:
            before = [(number, how) for number, how in job.unmet if number in state.jobs]
            if any(state.jobs[number].phase is Phase.BLOCKED and number not in found for number, _ in before):
                again.append(job)
                continue
            wanted = engine.plans.plan_request(job, at_ms)
            if job.request.array is None:
                found[job.number] = Waiting(wanted, kind_of(engine.plans.planner, job), tuple(before))
        if len(again) == len(rest):
            break
        rest = again
    return iter(found.values())


class Times(Protocol):
    """The supposed run times of jobs in each draw."""

    def end_ms(self, one: Running, draw: int) -> int:
        """When a running job ends."""
        ...

    def takes_ms(self, one: Waiting, draw: int) -> int:
        """Time in ms that a waiting job takes."""
        ...


class Drawn:
    """One draw: when everything would start and end if it took so long."""

    def __init__(self, planner: Planner, scene: Scene, times: "Times", draw: int) -> None:
        self.planner, self.scene = planner, scene
        self.ends = {one.job: times.end_ms(one, draw) for one in scene.running}
        self._busy: dict[int, list[int]] = {}
        for one in scene.running:
            if one.array is not None:
                self._busy.setdefault(one.array, []).append(self.ends[one.job])
        self._takes = {one.wanted.job: times.takes_ms(one, draw) for one in (*scene.waiting, *scene.blocked)}
        self.plan = self._made(planner, [self._wanted(one) for one in scene.waiting], self._limits())
        self.plan.finish()
        self.starts = {job: place.start_ms for job, place in self.plan.placements.items()}
        self._follow()

    def _limits(self) -> LimitRows:
        scene = self.scene
        limits = LimitRows(scene.site, scene.now_ms, dict(scene.left))
        limits.coming = dict(scene.coming)
        if limits.bounded:
            for one in scene.running:
                limits.use(
                    one.owner, one.queue, scene.now_ms, expected_end(self.ends[one.job], scene.now_ms), one.claim
                )
        return limits

    def _made(self, planner: Planner, waiting: list[PlanRequest], limits: LimitRows) -> Plan:
        scene = self.scene
        return make_plan(
            planner,
            scene.now_ms,
            [replace(held, until_ms=self.ends[one.job]) for one in scene.running for held in one.allocations],
            waiting,
            closures=scene.closures,
            windows=scene.windows,
            limits=limits,
        )

    def _wanted(self, one: Waiting) -> PlanRequest:
        wanted = replace(one.wanted, takes_ms=self._takes[one.wanted.job])
        if wanted.at_once is None:
            return wanted
        return replace(wanted, busy_until=tuple(self._busy.get(wanted.job, ())))

    def _follow(self) -> None:
        """Place those that wait for others behind these, if all goes well."""
        ends = {**self.ends, **{job: place.end_ms for job, place in self.plan.placements.items()}}
        for array, busy in self._busy.items():
            ends[array] = max([ends.get(array, 0), *busy])
        field: dict[frozenset[Window], Timeline] = {}
        for one in self.scene.blocked:
            begin = self.scene.now_ms
            for other, how in one.after:
                known = self.starts.get(other, self.scene.now_ms) if how in ("begins", EACH) else ends.get(other)
                if known is None:
                    break
                begin = max(begin, known)
            else:
                wanted = self._wanted(one)
                timeline = field.get(wanted.access)
                if timeline is None:
                    timeline = field[wanted.access] = self.plan.timeline_of(wanted).copy()
                placed = self.planner.place(timeline, wanted, begin)
                if placed is not None:
                    self.planner.occupy(timeline, placed)
                    self.starts[wanted.job], ends[wanted.job] = placed.start_ms, placed.end_ms

    def never(self, job: int) -> bool:
        """True when no node, limit or budget lets a job start as things stand."""
        unplaced = self.plan.unplaced.get(job)
        return job not in self.starts and unplaced is not None and unplaced.kind in ("nodes", "limit", "budget")

    def wait_s(self, job: int) -> float | None:
        """Seconds until a job starts; None where it has no place."""
        start = self.starts.get(job)
        return None if start is None else max(0.0, (start - self.scene.now_ms) / 1000)

    def behind(self, ahead: Collection[int], wanted: PlanRequest, planner: Planner) -> tuple[Timeline, LimitRows]:
        """Room, and what limits leave, behind these jobs alone, for one that stands there."""
        limits = self._limits()
        timeline = self._made(planner, [wanted], limits).timeline_of(wanted)
        owners = {one.wanted.job: one.wanted.owner for one in self.scene.waiting}
        for job, place in self.plan.placements.items():
            if job in ahead and all(one.node in planner.table.index for one in place.allocations):
                planner.occupy(timeline, place)
                if limits.bounded and (owner := owners[job]) is not None:
                    limits.use(owner, place.queue, place.start_ms, place.end_ms, place.claim)
        return timeline, limits


class WholeWalltimes:
    """The plan's own supposition: everything lasts for all of its walltime and grace."""

    def end_ms(self, one: Running, draw: int) -> int:
        """When a running job must have ended."""
        return one.limit_ms

    def takes_ms(self, one: Waiting, draw: int) -> int:
        """All of its walltime and grace, in ms."""
        return duration_ms(one.wanted)


class EmptySite:
    """The site as if nothing ran and nobody else waited: closed nodes and windows are all that is in the way.

    A job starts no sooner than it would here, however short the others turn out to be.
    """

    def __init__(self, planner: Planner, scene: Scene) -> None:
        self.planner, self.scene = planner, scene
        self._soonest = dict[tuple[int, frozenset[Window]], int | None]()

    def soonest_ms(self, wanted: PlanRequest) -> int | None:
        """The first instant at which a request could start; None for never."""
        key = (self.planner.kind(wanted), wanted.access)
        if key not in self._soonest:
            free = make_plan(
                self.planner,
                self.scene.now_ms,
                [],
                [wanted],
                closures=self.scene.closures,
                windows=self.scene.windows,
            )
            self._soonest[key] = self.planner.earliest(free.timeline_of(wanted), wanted)
        return self._soonest[key]

    def bounds(self) -> dict[int, int]:
        """For each job that waits, by number, an instant before which it can't start; those without one never can."""
        found = dict[int, int]()
        for one in (*self.scene.waiting, *self.scene.blocked):
            own = self.soonest_ms(one.wanted)
            if own is not None:
                found[one.wanted.job] = max([own, *(found.get(other, 0) for other, _ in one.after)])
        return found


class DrawnTimes:
    """Run times drawn for all jobs of a scene, so many for each."""

    def __init__(self, scene: Scene, times: RunTimes, seed: int, count: int) -> None:
        now = scene.now_ms
        self.seed, self.times, self.count = seed, times, count
        self._ends = dict[int, Instants]()
        for one in scene.running:
            elapsed = max(0.0, (now - one.started_ms) / 1000)
            if one.started_ms + one.kind.walltime_s * 1000 <= now:  # it is being stopped
                self._ends[one.job] = np.full(count, expected_end(one.limit_ms, now))
                continue
            drawn = one.started_ms + times.draw(one.kind, elapsed, shares_of(seed, one.job, count)) * 1000
            self._ends[one.job] = np.minimum(np.maximum(drawn, now + 1), max(now + 1, one.limit_ms)).astype(np.int64)
        self._takes = {
            one.wanted.job: self._drawn(one.kind, one.wanted.job) for one in (*scene.waiting, *scene.blocked)
        }

    def _drawn(self, kind: RunKind, job: int) -> Instants:
        seconds = self.times.draw(kind, 0.0, shares_of(self.seed, job, self.count))
        return np.maximum(1000, seconds * 1000).astype(np.int64)

    def end_ms(self, one: Running, draw: int) -> int:
        """When a running job ends in a draw."""
        return int(self._ends[one.job][draw])

    def takes_ms(self, one: Waiting, draw: int) -> int:
        """Time in ms that a waiting job takes in a draw."""
        return int(self._takes[one.wanted.job][draw])


def range_of(starts: Sequence[int], now_ms: int, outside: float = OUTSIDE) -> Waits:
    """The range and the middle of what was drawn; a share of ``outside`` lies beyond its ends."""
    early, likely, late = np.quantile(np.array(starts, dtype=np.float64), (outside / 2, 0.5, 1 - outside / 2))
    waits = [max(0.0, (float(one) - now_ms) / 1000) for one in (early, likely, late)]
    return Waits(waits[0], waits[1], waits[2])


def ranges_of(draws: Sequence[Drawn], jobs: Collection[int]) -> dict[int, Waits]:
    """Work out the range of each job that has a place in at least half of the draws."""
    found = dict[int, Waits]()
    for job in jobs:
        starts = [draw.starts[job] for draw in draws if job in draw.starts]
        if 2 * len(starts) >= max(1, len(draws)):
            found[job] = range_of(starts, draws[0].scene.now_ms)
    return found
