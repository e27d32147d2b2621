"""The site as it might go on from now: the engine itself, with run times that are drawn, and nobody else who comes.

A waiting job is admitted by the walltime that it asked for, as it will be, and then runs for as long as was drawn. Over several
draws each has a distribution of its start.
"""

import heapq
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Protocol

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from lazy_quarry.core.advice.forecast_calibration import OUTSIDE, Waits
from lazy_quarry.core.advice.run_times import Chance, RunKind, RunTimes
from lazy_quarry.core.engine.commands import Finish, Schedule, Submit
from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.engine.events import Started, Stopping
from lazy_quarry.core.engine.live_jobs import WaitingLine
from lazy_quarry.core.engine.plans import LineQueue, Plans
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import EACH, Job, Origin, Phase
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.ledger.budgets import next_turn_ms
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.core.plan.placement import PlanRequest
from lazy_quarry.core.plan.plan import expected_end
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Site, Window
from lazy_quarry.core.values import replace

MOST_WAITING, MOST_BLOCKED = 400, 200
"""Maximum number of waiting jobs, in queue order, that are looked at, and of those that wait for others."""
MOST_ENDS = 5_000
"""A draw is followed to so many ends of jobs; what hasn't started by then starts by the plan, or later."""
Instants = NDArray[np.int64]
Pause = Callable[[], object]
"""Is called now and then during the work, and may take its time."""
PARTS = 40
"""An end is drawn to one of so many parts of the time until then, or twice as many: the engine is asked once for all together."""
MOST_UPDATES = 144
"""So many updates of recent use are followed while nothing else happens: those of a day."""


class SupposedJob(Struct, frozen=True):
    """A job that nobody has submitted: what it asks for, and (name, condition) of those before it that it waits for."""

    name: str
    request: Request
    after: tuple[tuple[str, str], ...] = ()


class Present(Struct, frozen=True):
    """A site at one instant, apart from the one in use: all that forecasts are worked out from.

    Its state has what runs, the jobs that wait, in their turns, as far as they are looked at, and those that wait for them.
    """

    site: Site
    planner: Planner
    at_ms: int
    state: State
    requests: dict[tuple, PlanRequest] = field(default_factory=dict)
    """By waiting line what a job of it asks for, once that was worked out."""
    _soonest: dict[tuple[int, frozenset[Window]], tuple[int, int | None]] = field(default_factory=dict)

    def engine(self) -> Engine:
        """An engine of it that goes on apart."""
        return Engine(self.site, self.state.copy(), self.planner)

    def soonest_ms(self, plans: Plans, wanted: PlanRequest, at_ms: int) -> int | None:
        """The first instant from ``at_ms`` on at which a request could start if nothing ran and nobody else waited; None for never.

        Closed nodes and windows are all that is in the way: a job starts no sooner, however short the others turn out to be.
        """
        key = self.planner.kind(wanted), wanted.access
        since, known = self._soonest.get(key, (at_ms + 1, None))
        if since > at_ms or (known is not None and known < at_ms):
            known = self.planner.earliest(plans.empty(at_ms, wanted).timeline_of(wanted), wanted)
            self._soonest[key] = at_ms, known
        return known

    def begun(self, job: Job) -> bool:
        """True for an array of which some task has started."""
        return job.request.array is not None and self.state.begun(job)

    def with_jobs(self, user: str, jobs: Iterable[SupposedJob]) -> "tuple[Present, dict[str, int]]":
        """The same with more jobs, submitted now, and their numbers by name. Raises :class:`Refused` for one that is refused."""
        engine, numbers = self.engine(), dict[str, int]()
        for one in jobs:
            number = numbers[one.name] = engine.state.next_number
            outside = (
                other for other in one.request.after if other[0].isdecimal() and int(other[0]) in self.state.jobs
            )
            after = (*outside, *((str(numbers[name]), how) for name, how in one.after if name in numbers))
            request = replace(one.request, after=tuple(dict(after).items()))
            engine.apply(engine.decide(Submit(self.at_ms, By(user), request, Origin(""))))
            assert number in engine.state.jobs
        return replace(self, state=engine.state), numbers


def present_of(engine: Engine, planner: Planner, at_ms: int, most: int = MOST_WAITING) -> Present:
    """The present of a site, with so many waiting jobs at most; ``planner`` is one that nobody else uses meanwhile."""
    state, waiting = engine.state, list[int]()
    for job in engine.plans.in_turn(at_ms):
        if len(waiting) == most:
            break
        waiting.append(job.number)
    running = [job for job in state.running() if job.allocations]
    arrays = {job.parent for job in running if job.parent is not None and job.parent in state.jobs}
    blocked = [job for job in state.jobs.values() if job.phase is Phase.BLOCKED and not job.skip_reason][:MOST_BLOCKED]
    only = {*waiting, *(job.number for job in running), *arrays, *(job.number for job in blocked)}
    own = state.copy(only)
    for job in blocked:  # all goes as it must for them to start
        unmet = tuple((other, how if how in ("begins", EACH) else "finishes") for other, how in job.unmet)
        own.jobs[job.number] = replace(job, unmet=unmet)
    return Present(engine.site, planner, at_ms, own)


def kind_of_run(job: Job) -> RunKind:
    """The kind by which a run is known that has begun."""
    return RunKind(job.user, job.request.name, job.cores_allocated, job.request.walltime_s)


class Times(Protocol):
    """The supposed run times of jobs in each draw."""

    def end_ms(self, job: Job, now_ms: int, draw: int) -> int:
        """When a job ends that runs now, or has just started; later than now."""
        ...


class DrawnTimes:
    """Run times drawn for jobs as they are asked for, so many for each, the same again for the same job."""

    def __init__(self, times: RunTimes, since_ms: int, seed: int, count: int) -> None:
        self.times, self.since_ms, self.chance = times, since_ms, Chance(seed, count)
        self._known = dict[tuple[int, int], NDArray[np.float64]]()

    def end_ms(self, job: Job, now_ms: int, draw: int) -> int:
        """When a job ends in a draw, as seen from now; to a few parts in a hundred, so that many end together."""
        began, limit = job.started_ms or now_ms, job.end_limit_ms or now_ms
        if began + job.request.walltime_s * 1000 <= now_ms:  # it is being stopped
            return expected_end(limit, now_ms)
        end = began + int(self._drawn(job, max(0.0, (now_ms - began) / 1000))[draw] * 1000)
        after = end - self.since_ms
        step = max(
            1000, 1 << max(0, (after // PARTS).bit_length() - 1)
        )  # doubled ever again, so that steps of all ends meet
        end = self.since_ms + (after + step // 2) // step * step
        return max(now_ms + 1, min(end, limit))

    def _drawn(self, job: Job, elapsed_s: float) -> NDArray[np.float64]:
        key = job.number, int(elapsed_s * 1000)
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = self.times.draw(kind_of_run(job), elapsed_s, self.chance, job.number)
        return known


class Course(Struct, frozen=True):
    """What a draw says: the first start and the last end of each job and array, by number, as far as it was followed."""

    starts: Mapping[int, int]
    ends: Mapping[int, int] = field(default_factory=dict)
    left: Collection[int] = ()
    """Jobs that hadn't started when it was followed no further,"""
    until_ms: int = 0
    """which was at this instant."""

    def start_ms(self, job: int, planned_ms: int | None) -> int | None:
        """The start of a job; where it was followed no further that by the plan, or the end of what was followed."""
        return max(self.until_ms, planned_ms or 0) if job in self.left else self.starts.get(job)


def course_of(
    present: Present,
    times: Times,
    draw: int,
    jobs: Collection[int],
    pause: Pause = lambda: None,
    *,
    to_end: bool = False,
) -> Course:
    """Follow a draw until these jobs have started, or ``to_end`` until they are over, or nothing more will happen."""
    return _Draw(present, times, draw).follow(jobs, pause, to_end)


class _Draw:
    """The site as it goes on from its present when all takes as long as was drawn."""

    def __init__(self, present: Present, times: Times, draw: int) -> None:
        self.present, self.times, self.draw = present, times, draw
        self.engine = present.engine()
        self.at_ms = present.at_ms
        self.starts: dict[int, int] = {}
        self.ends: dict[int, int] = {}
        self._plans, self._state = self.engine.plans, self.engine.state
        self._ends = [
            (times.end_ms(job, self.at_ms, draw), job.number, job.attempt)
            for job in self._state.running()
            if job.allocations
        ]
        heapq.heapify(self._ends)
        dated = (self._state.jobs[number].request.not_before_ms or 0 for number in self._state.jobs.dated)
        bounds = (instant for one in self._plans.windows for instant in (one.begins_ms, one.ends_ms))
        self._wakes = [instant for instant in (*dated, *bounds) if instant > self.at_ms]
        """Instants at which something may start though nothing ends."""
        heapq.heapify(self._wakes)
        self._turns_ms = next_turn_ms(present.site, self.at_ms)
        self._idly = 0
        """Number of updates of recent use since anything else happened."""
        self._fits: bool | None = None
        """Whether something may start on what is idle; None while that isn't known."""
        self._fitted: tuple | None = None
        """The waiting line that would fit when that was asked last."""
        self._idle = self._idle_now()

    def follow(self, jobs: Collection[int], pause: Pause, to_end: bool) -> Course:
        """Go on until these have started, or are over, or nothing more will happen."""
        wanted, ended = set(jobs), 0
        self._schedule()
        while (wanted := self._wanted(wanted, to_end)) and (at := self._next()) is not None:
            if ended > MOST_ENDS:
                return Course(self.starts, self.ends, wanted - self.starts.keys(), self.at_ms)
            woken = (self._wakes and self._wakes[0] <= at) or at >= self._turns_ms
            self.at_ms = at
            while self._wakes and self._wakes[0] <= at:
                heapq.heappop(self._wakes)
            if at >= self._turns_ms:
                self._turns_ms = next_turn_ms(self.present.site, at)
            while self._ends and self._ends[0][0] <= at:
                woken |= self._end(*heapq.heappop(self._ends)[1:])
                ended += 1
            if woken or self._may_start():
                self._schedule()
            pause()
        return Course(self.starts, self.ends)

    def _wanted(self, jobs: set[int], to_end: bool) -> set[int]:
        return {job for job in jobs if job in self._state.jobs} if to_end else jobs - self.starts.keys()

    def _next(self) -> int | None:
        """The next instant at which something may happen; None for never."""
        known = [one for one in (self._ends[0][0] if self._ends else 0, self._wakes[0] if self._wakes else 0) if one]
        if not known:
            return None
        if self._turns_ms > self.at_ms:
            known.append(self._turns_ms)
        following = min(known)
        updated = use_updated_at(self.at_ms) + USE_UPDATE_MS
        if updated < following and self._idly < MOST_UPDATES and len(self._waiting()) > 1 and self._may_start():
            self._idly += 1
            return updated  # turns change with recent use
        self._idly = 0
        return following

    # -- what happens ------------------------------------------------------------------------------

    def _end(self, number: int, attempt: int) -> bool:
        """A job ends; True when others may follow from that which take no room."""
        job = self._state.jobs[number]
        self._free(job)
        self._tell_end(job, attempt, None)
        self.ends[_whole(job)] = self.at_ms
        return job.parent is not None and not self._state.tasks.get(job.parent)

    def _tell_end(self, job: Job, attempt: int, cause: str | None) -> None:
        end = Finish(self.at_ms, job.number, attempt, exit=None if cause else 0, cause=cause, mark=job.mark)
        self.engine.apply(self.engine.decide(end))

    def _schedule(self) -> None:
        engine = self.engine
        while events := engine.decide(Schedule(self.at_ms)):
            engine.apply(events)
            for event in events:
                if isinstance(event, Started):
                    self._begin(self._state.jobs[event.job])
                elif isinstance(event, Stopping):  # it gives way at once, and begins anew
                    job = self._state.jobs[event.job]
                    self._ends = [one for one in self._ends if one[1] != job.number]
                    heapq.heapify(self._ends)
                    self._free(job)
                    self._tell_end(job, job.attempt, "gave-way")
        self._fits = None

    def _begin(self, job: Job) -> None:
        self.starts.setdefault(_whole(job), self.at_ms)
        self._take(job, 1, self._idle)
        heapq.heappush(self._ends, (self.times.end_ms(job, self.at_ms, self.draw), job.number, job.attempt))

    # -- whether anything may start ----------------------------------------------------------------

    def _idle_now(self) -> NDArray[np.int64]:
        """(4 × nodes) that no job has; less than nothing where a node is closed."""
        table = self.present.planner.table
        idle = table.capacity.astype(np.int64)
        for name in {*self._state.closures, *self._state.quiet}:
            if name in table.index:
                idle[:, table.index[name]] = -1
        for job in self._state.running():
            self._take(job, 1, idle)
        return idle

    def _take(self, job: Job, sign: int, idle: NDArray[np.int64]) -> None:
        index = self.present.planner.table.index
        for one in job.allocations:
            if one.node in index:
                idle[:, index[one.node]] -= sign * np.array(one.amount)
        self._fits = None

    def _free(self, job: Job) -> None:
        self._take(job, -1, self._idle)

    def _may_start(self) -> bool:
        """False when nothing that waits would fit on what is idle, and nobody would give way; so no plan need be made."""
        if self._fits is None:
            self._fits = self._something_could()
        return self._fits

    def _waiting(self) -> dict[tuple, WaitingLine]:
        return {key: line for key, line in self._state.jobs.lines.items() if line.places}

    def _something_could(self) -> bool:
        requests, waiting = self.present.requests, self._waiting()
        if self._fitted in waiting and self._could(self._fitted):
            return True
        site = self.present.site
        if any(site.gives_way(job.request.tier) for job in self._state.jobs.running.values()):
            return bool(waiting)
        unknown = waiting.keys() - requests.keys()
        if unknown:
            by_first = {line.places[0][1]: key for key, line in waiting.items()}
            requests |= {by_first[one.job]: one for one, _ in LineQueue(self._plans, self.at_ms).samples()}
        for key in waiting:
            if self._could(key):
                self._fitted = key
                return True
        return False

    def _could(self, key: tuple) -> bool:
        wanted = self.present.requests[key]
        late = (wanted.request.not_before_ms or 0) > self.at_ms
        if late or not self.present.planner.fits(wanted, self._idle):
            return False
        soonest = self.present.soonest_ms(self._plans, wanted, self.at_ms) if self._plans.windows else self.at_ms
        return soonest is not None and soonest <= self.at_ms


def _whole(job: Job) -> int:
    """A job's number, of a task that of its array."""
    return job.number if job.parent is None else job.parent


def range_of(starts: Sequence[float], now_ms: float, outside: float = OUTSIDE) -> Waits:
    """The range and the middle of what was drawn; a share of ``outside`` lies beyond its ends."""
    early, likely, late = np.quantile(np.array(starts, dtype=np.float64), (outside / 2, 0.5, 1 - outside / 2))
    waits = [max(0.0, (float(one) - now_ms) / 1000) for one in (early, likely, late)]
    return Waits(waits[0], waits[1], waits[2])


def ranges_of(
    courses: Sequence[Course], planned: Mapping[int, int], jobs: Collection[int], now_ms: int
) -> dict[int, Waits]:
    """Work out the range of each job that starts in at least half of the draws; ``planned`` are the plan's starts."""
    found = dict[int, Waits]()
    for job in jobs:
        starts = [at for one in courses if (at := one.start_ms(job, planned.get(job))) is not None]
        if 2 * len(starts) >= max(1, len(courses)):
            found[job] = range_of(starts, now_ms)
    return found
