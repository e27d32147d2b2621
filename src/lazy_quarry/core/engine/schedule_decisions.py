"""Events that follow from time alone: arrays end, jobs are skipped, jobs start where the plan places them, some give way."""

from collections.abc import Container, Iterable

from lazy_quarry.core.engine.commands import Schedule
from lazy_quarry.core.engine.events import Ended, Event, Started, Stopping, TaskMade, Unreserved
from lazy_quarry.core.engine.meters import reached
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.job.by import NOBODY
from lazy_quarry.core.job.job import Allocation, Job, Phase, task_id
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.plan.placement import Placement

MOST_GIVEN_WAY = 3
"""Number of the first waiting jobs that are tried when others may have to give way."""


def schedule(now: Situation, command: Schedule) -> list[Event]:
    """Everything that happens at this instant by itself."""
    closed = list(_array_ends(now))
    starts = _starts(now, command.later)
    events = [*closed, *_skips(now, {end.job for end in closed}), *starts, *_expired_reservations(now)]
    events += reached(now.site, now.state, now.at_ms)
    # Whoever starts just now changes the plan; who must give way is asked when nothing starts any more.
    if not command.later and not any(isinstance(event, Started) for event in events):
        events += _giving_way(now)
    return events


def _array_ends(now: Situation) -> Iterable[Ended]:
    """End an array when none of its tasks waits or runs. Its state follows from theirs."""
    for number in sorted(now.state.jobs.arrays):
        job = now.state.jobs[number]
        if job.unmade_tasks or now.state.tasks.get(number):
            continue
        counts = dict(job.counts)
        phase = Phase.DONE
        planned = job.planned_count == counts.get("skipped", 0)
        if set(counts) == {"skipped"}:
            phase = Phase.SKIPPED
        # A task that was skipped against the plan counts as a failure: a part of the work is missing.
        elif any(left_undone(Phase(word), planned) for word in counts):
            phase = Phase.FAILED
        elif counts.get("cancelled"):
            phase = Phase.CANCELLED
        words = ", ".join(f"{count:,} {word}" for word, count in sorted(counts.items()))
        yield Ended(
            at_ms=now.at_ms,
            job=job.number,
            attempt=job.attempt,
            phase=phase,
            planned=phase is Phase.SKIPPED and planned,
            reason=f"of its tasks {words}",
            use=job.use,
        )


def _skips(now: Situation, closed: Container[int]) -> Iterable[Event]:
    """End jobs that can never start, and haven't been closed just now."""
    for job in [now.state.jobs[number] for number in sorted(now.state.jobs.doomed)]:
        if job.skip_reason:
            if job.phase is not Phase.RUNNING and job.number not in closed:
                yield _skipped(now, job.number, job.attempt, job.skip_reason, job.planned)
            continue
        for index in job.doomed_tasks:
            number = task_id(job.number, index)
            reason = "the task of the same number that it waited for did not succeed"
            yield TaskMade(now.at_ms, number, job.number, index)
            yield _skipped(now, number, 0, reason, index in job.planned_tasks)


def _skipped(now: Situation, number: int, attempt: int, reason: str, planned: bool) -> Ended:
    return Ended(now.at_ms, number, attempt, Phase.SKIPPED, planned=planned, reason=reason)


def _expired_reservations(now: Situation) -> Iterable[Event]:
    return (
        Unreserved(now.at_ms, name, NOBODY)
        for name, one in sorted(now.state.reserved.items())
        if one.ends_ms <= now.at_ms
    )


# -- starting -------------------------------------------------------------------------------------


def _starts(now: Situation, later: Container[int]) -> Iterable[Event]:
    """Start exactly the jobs that the plan places at this instant. Those whose nodes aren't ready keep their places in it."""
    starting = now.plans.plan(now.at_ms).starting()
    numbers = _FreeNumbers(now, starting)
    next_index: dict[int, int] = {}
    for placement in starting:
        job = now.state.jobs[placement.job]
        allocations = tuple(numbers.allocate(placement))
        if job.request.array is None:
            if job.number not in later:
                yield Started(now.at_ms, job.number, job.attempt + 1, placement.queue, allocations)
            continue
        # Without an index any task will do: the next one that nothing has handled.
        index = placement.index
        if index is None:
            index = next_index.get(job.number, job.next_index)
            while index in job.handled_tasks or index in job.held_tasks:
                index += 1
            next_index[job.number] = index + 1
        number = task_id(job.number, index)
        if number in later:
            continue
        yield TaskMade(now.at_ms, number, job.number, index)
        yield Started(now.at_ms, number, 1, placement.queue, allocations)


class _FreeNumbers:
    """The free cores and GPUs of each node by number: the plan counts them, a start needs to know which."""

    def __init__(self, now: Situation, placements: Iterable[Placement]) -> None:
        self.site = now.site
        nodes = {one.node for placement in placements for one in placement.allocations}
        self.cores: dict[str, set[int]] = {node: set() for node in nodes}
        self.gpus: dict[str, set[int]] = {node: set() for node in nodes}
        """GPUs in use, by node."""
        for job in now.state.jobs.running.values() if nodes else ():
            for one in job.allocations:
                if one.node in nodes:
                    self.cores[one.node].update(one.cores)
                    self.gpus[one.node].update(one.gpus)

    def allocate(self, placement: Placement) -> Iterable[Allocation]:
        """The lowest free numbers of each node of a placement, which are in use from then on."""
        for placed in placement.allocations:
            node = self.site.node[placed.node]
            cores, memory, gpus, scratch = placed.amount
            yield Allocation(
                node=node.name,
                ranks=placed.ranks,
                cores=_lowest(node.cores, self.cores[node.name], cores),
                memory_mib=memory,
                gpus=_lowest(node.gpus, self.gpus[node.name], gpus),
                scratch_mib=scratch,
            )


def _lowest(count: int, in_use: set[int], wanted: int) -> tuple[int, ...]:
    own = [number for number in range(count) if number not in in_use][:wanted]
    if len(own) < wanted:
        raise AssertionError("the plan gave more than the node has")  # the invariant "never over"
    in_use.update(own)
    return tuple(own)


# -- giving way -----------------------------------------------------------------------------------


def _giving_way(now: Situation) -> list[Event]:
    """Jobs of tiers that give way are told to stop where that lets the first of the others start sooner.

    They are chosen so that every one of them is needed: the plan made without them places that job within their
    grace. One waiting job at a time; the next is looked at when this one has its place.
    """
    at, plans = now.at_ms, now.plans
    running = {job.number: job for job in now.state.running() if _gives_way(now, job)}
    # While some are still stopping, the room that they leave is not there yet; more jobs stopped now could be too many.
    if not running or any(job.stopping is not None for job in running.values()):
        return []
    plan = plans.plan(at)
    by_ms = at + max(job.request.grace_s for job in running.values()) * 1000
    ahead, tried = list[Job](), 0
    for job in plans.in_turn(at):
        ahead.append(job)
        if _gives_way(now, job):
            continue
        tried += 1
        if tried > MOST_GIVEN_WAY:
            break
        place = plan.place_of(job.number)
        if place is None or place.start_ms <= by_ms:
            continue
        sooner = plans.plan_of(at, ahead, giving_way=running).placements.get(job.number)
        if sooner is None or sooner.start_ms > by_ms:
            continue
        # Only jobs on the nodes of the earlier place can be in its way.
        wanted = {one.node for one in sooner.allocations}
        last_first = sorted(running.values(), key=lambda one: (-(one.started_ms or 0), -one.number))
        chosen: list[int] = [one.number for one in last_first if wanted & {each.node for each in one.allocations}]
        for number in chosen[::-1]:  # whoever is not needed stays: the longest running first
            fewer = [one for one in chosen if one != number]
            found = plans.plan_of(at, ahead, giving_way=fewer).placements.get(job.number)
            if found is not None and found.start_ms <= by_ms:
                chosen = fewer
        return [Stopping(at, number, "gave-way", due_to=str(job.number)) for number in chosen]
    return []


def _gives_way(now: Situation, job: Job) -> bool:
    return now.site.gives_way(job.request.tier)
