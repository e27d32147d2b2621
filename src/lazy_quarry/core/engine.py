"""The only place where a job changes state: commands → events → state.

:func:`decide` says which events a command makes and changes nothing; :meth:`State.apply` folds one event
in. Between the two, the caller puts the events on disk. Replaying the events gives the state again.
"""

from collections.abc import Iterable
from dataclasses import replace

from lazy_quarry.core.events import (
    BroughtForward,
    CancelJob,
    CancelTask,
    ClockHeld,
    CloseNode,
    Command,
    Ended,
    Event,
    Finish,
    Held,
    HoldJob,
    NodeClosed,
    NodeOpened,
    OpenNode,
    Released,
    ReleaseJob,
    Schedule,
    Started,
    Stopping,
    Submit,
    Submitted,
    TaskMade,
    TasksDropped,
)
from lazy_quarry.core.job import Job, Phase, Share, task_id
from lazy_quarry.core.ledger import charge, held_core_ms
from lazy_quarry.core.plan.planner import Ask, Placement, Plan, Planner, Stretch
from lazy_quarry.core.site import Closure, Site
from lazy_quarry.core.state import State
from lazy_quarry.errors import NoSuchJob, Refused

CLOCK_SLACK_MS = 2_000
"""A clock set back by less than this is held without a word."""


class Engine:
    """A site's state together with the planner that moves it on."""

    def __init__(self, site: Site, state: State | None = None) -> None:
        self.site = site
        self.state = state or State()
        self.planner = Planner(site)
        self._plan: Plan | None = None

    def apply(self, events: Iterable[Event]) -> list[Job]:
        """Fold events that are on disk into the state; returns the jobs they brought to their end."""
        ended = []
        for event in events:
            if job := self.state.apply(event):
                ended.append(job)
            self._keep_plan(event)
        return ended

    def _keep_plan(self, event: Event) -> None:
        """What is added behind all others, or starts at its place, leaves the plan as it is."""
        plan = self._plan
        if plan is None:
            return
        if isinstance(event, Submitted):
            if event.request.array is not None:
                self._plan = None  # it is asked for task by task
            elif not event.request.after:
                plan.extend(Ask(event.job, event.request))
        elif isinstance(event, Started) and event.job in plan.taken and event.at_ms == plan.taken[event.job].start_ms:
            plan.valid_until_ms = min(plan.valid_until_ms, plan.taken[event.job].end_ms)
            plan.started(event.job)
            if event.job in self.state.followers:
                self._plan = None
        elif not isinstance(event, Stopping | BroughtForward):
            self._plan = None

    def plan(self, at_ms: int) -> Plan:
        """The one plan for this instant, made anew only when something has changed."""
        if self._plan is None or not self._plan.at(at_ms):
            self._plan = self.planner.plan(
                at_ms,
                [stretch for job in self.state.running() for stretch in _stretches(job)],
                [self._ask(job) for job in self.in_order()],
                [Closure(node, reason) for node, reason in sorted(self.state.closures.items())],
                self.site.windows,
            )
        return self._plan

    def _ask(self, job: Job) -> Ask:
        array = job.request.array
        if array is None:
            return Ask(job.number, job.request)
        limit = None
        if array.at_once is not None:
            limit = max(0, array.at_once - len(self.state.tasks.get(job.number, ())))
        return Ask(job.number, replace(job.request, array=None), job.unmade, limit)

    def in_order(self) -> list[Job]:
        """Jobs that may start, first come first: by submission, then number."""
        waiting = (
            job
            for job in self.state.jobs.values()
            if job.phase is Phase.WAITING and (job.request.array is None or job.unmade)
        )
        return sorted(waiting, key=lambda job: (job.submitted_ms, job.number))

    def decide(self, command: Command) -> list[Event]:
        """The events that a command makes. Raises :class:`Refused` when it is not carried out."""
        at = max(command.at_ms, self.state.at_ms)
        events: list[Event] = []
        if isinstance(command, Schedule) and at - command.at_ms > CLOCK_SLACK_MS and self.state.clock_held_ms != at:
            events.append(ClockHeld(at, at - command.at_ms))
        match command:
            case Submit():
                self._accept(command)
                number = self.state.next_number
                events.append(Submitted(at, number, command.user, command.request, command.origin))
            case HoldJob():
                job = self._mine(command.job, command.by, "hold")
                if job.phase is Phase.HELD:
                    raise Refused(f"{job.number} is held already")
                if job.request.array is not None and not job.unmade:
                    raise Refused(f"all tasks of {job.number} have started; there is nothing to hold")
                if job.phase not in (Phase.WAITING, Phase.BLOCKED):
                    raise Refused(f"{job.number} is {job.phase}; only a waiting job can be held")
                events.append(Held(at, job.number, command.by))
            case ReleaseJob():
                job = self._mine(command.job, command.by, "release")
                if job.phase is not Phase.HELD:
                    raise Refused(f"{job.number} is not held, it is {job.phase}")
                events.append(Released(at, job.number, command.by))
            case CancelTask():
                events += self._cancel_task(command, at)
            case CancelJob():
                job = self._mine(command.job, command.by, "cancel")
                if job.request.array is not None:
                    events += self._cancel_array(job, command.by, at)
                elif job.phase is Phase.RUNNING:
                    if job.stopping is None:
                        events.append(Stopping(at, job.number, "cancelled", command.by))
                else:
                    events.append(_never_started(job.number, job.attempt, command.by, at))
            case CloseNode():
                events.append(NodeClosed(at, self._node(command.node), command.reason))
            case OpenNode():
                if self._node(command.node) not in self.state.closures:
                    raise Refused(f"node {command.node} is open already")
                events.append(NodeOpened(at, command.node))
            case Schedule():
                events += self._closings(at)
                events += self._skips(at)
                events += self._starts(at)
            case Finish():
                events += self._finish(command, at)
        return events

    def _mine(self, number: int, by: str, verb: str) -> Job:
        job = self.state.jobs.get(number)
        if job is None:
            if number < self.state.next_number and number > 0:
                raise Refused(f"{number} has ended already; there is nothing to {verb}")
            raise NoSuchJob(f"there is no job {number}")
        if job.user != by:
            raise Refused(f"{number} belongs to {job.user}; you may {verb} only your own jobs")
        return job

    def _node(self, name: str) -> str:
        if name not in self.site.node:
            raise Refused(f"there is no node {name}")
        return name

    def _accept(self, command: Submit) -> None:
        """Refuse what could never run here, whatever else happens."""
        if not self.planner.needs(command.request):
            raise Refused(f"no queue of {', '.join(command.request.queues)} could ever run this")

    def _cancel_array(self, job: Job, by: str, at: int) -> list[Event]:
        """All that runs of it is stopped, all that waits is dropped."""
        events: list[Event] = [TasksDropped(at, job.number, job.unmade, by)] if job.unmade else []
        for number in sorted(self.state.tasks.get(job.number, ())):
            task = self.state.jobs[number]
            if task.phase is not Phase.RUNNING:
                events.append(_never_started(number, task.attempt, by, at))
            elif task.stopping is None:
                events.append(Stopping(at, number, "cancelled", by))
        return events

    def _cancel_task(self, command: CancelTask, at: int) -> list[Event]:
        job = self._mine(command.job, command.by, "cancel")
        number = task_id(job.number, command.index)
        task = self.state.jobs.get(number)
        if task is None:
            if command.index < job.next_index or command.index in job.aside:
                raise Refused(f"task {command.job}/{_task_number(job, command.index)} has ended already")
            made = TaskMade(at, number, job.number, command.index)
            return [made, _never_started(number, 0, command.by, at)]
        if task.phase is not Phase.RUNNING:
            return [_never_started(number, task.attempt, command.by, at)]
        return [Stopping(at, number, "cancelled", command.by)] if task.stopping is None else []

    def _skips(self, at: int) -> list[Event]:
        """What can never start any more has ended."""
        doomed = (job for job in self.state.jobs.values() if job.doomed and job.phase is not Phase.RUNNING)
        return [Ended(at, job.number, job.attempt, Phase.SKIPPED, reason=job.doomed) for job in doomed]

    def _closings(self, at: int) -> list[Event]:
        """Arrays of which nothing waits or runs any more have ended, as their tasks did."""
        events: list[Event] = []
        for job in self.state.jobs.values():
            if job.request.array is None or job.unmade or self.state.tasks.get(job.number):
                continue
            counts = dict(job.counts)
            phase = Phase.DONE
            if set(counts) - {"done", "cancelled"}:
                phase = Phase.FAILED
            elif counts.get("cancelled"):
                phase = Phase.CANCELLED
            told = ", ".join(f"{count:,} {word}" for word, count in sorted(counts.items()))
            events.append(Ended(at, job.number, job.attempt, phase, reason=f"of its tasks {told}", use=job.use))
        return events

    def _starts(self, at: int) -> list[Event]:
        taken: dict[str, set[int]] = {}
        taken_gpus: dict[str, set[int]] = {}
        for job in self.state.running():
            for share in job.shares:
                taken.setdefault(share.node, set()).update(share.cores)
                taken_gpus.setdefault(share.node, set()).update(share.gpus)
        events: list[Event] = []
        made: dict[int, int] = {}
        for placement in self.plan(at).starting():
            job = self.state.jobs[placement.job]
            shares = tuple(self._shares(placement, taken, taken_gpus))
            if job.request.array is None:
                events.append(Started(at, job.number, job.attempt + 1, placement.queue, shares))
                continue
            index = made.get(job.number, job.next_index)
            while index in job.aside:
                index += 1
            made[job.number] = index + 1
            number = task_id(job.number, index)
            events.append(TaskMade(at, number, job.number, index))
            events.append(Started(at, number, 1, placement.queue, shares))
        return events

    def _shares(
        self, placement: Placement, taken: dict[str, set[int]], taken_gpus: dict[str, set[int]]
    ) -> Iterable[Share]:
        for placed in placement.nodes:
            node = self.site.node[placed.node]
            cores, memory, gpus, scratch = placed.amount
            own = _lowest(node.cores, taken.setdefault(node.name, set()), cores)
            own_gpus = _lowest(node.gpus, taken_gpus.setdefault(node.name, set()), gpus)
            yield Share(node.name, placed.ranks, own, memory, own_gpus, scratch)

    def _finish(self, report: Finish, at: int) -> list[Event]:
        job = self.state.jobs.get(report.job)
        if job is None or job.phase is not Phase.RUNNING or job.attempt != report.attempt:
            return []  # told before: a runner may say it twice, it counts once
        cause = report.cause
        if cause is None:
            phase = Phase.DONE if report.exit == 0 else Phase.FAILED
        else:
            phase = Phase(cause)
        again = False
        if phase is Phase.LOST:
            again = job.losses < job.request.lost_retries and job.stopping is None
        elif phase is Phase.FAILED:
            again = job.failures < job.request.failure_retries and job.stopping is None
        elif phase is Phase.OVERTIME:
            again = job.request.again_at_overtime and job.stopping is None
        if phase is Phase.LOST and job.stopping == "cancelled":
            phase = Phase.CANCELLED
        held = held_core_ms(job, at)
        if report.held_ms is not None:
            held = job.cores_held * report.held_ms
        return [
            Ended(
                at,
                job.number,
                job.attempt,
                phase,
                again,
                report.exit,
                report.signal,
                report.reason,
                report.use,
                held,
                charge(self.site, job.request.tier, held),
            )
        ]


def _never_started(number: int, attempt: int, by: str, at: int) -> Ended:
    return Ended(at, number, attempt, Phase.CANCELLED, reason=f"cancelled by {by} before it started")


def _task_number(job: Job, index: int) -> int:
    return job.request.array.number(index) if job.request.array else index


def _lowest(count: int, taken: set[int], wanted: int) -> tuple[int, ...]:
    """The lowest free numbers, which are taken by this."""
    own = [number for number in range(count) if number not in taken][:wanted]
    if len(own) < wanted:
        raise AssertionError("the plan gave more than the node has")  # invariant 3
    taken.update(own)
    return tuple(own)


def _stretches(job: Job) -> Iterable[Stretch]:
    until = job.end_limit_ms or 0
    for share in job.shares:
        yield Stretch(share.node, until, (len(share.cores), share.memory_mib, len(share.gpus), share.scratch_mib))
