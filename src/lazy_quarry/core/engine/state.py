"""The state of a site after the events so far: live jobs, closed nodes and running sums.

State is a fold: :meth:`State.apply` takes one event in, and nothing else ever changes it. Replaying the events gives it again.
"""

from collections.abc import Collection, Container, Mapping
from typing import Any

from msgspec import Struct, field

from lazy_quarry.core.engine.chain_state import take_chain
from lazy_quarry.core.engine.events import (
    BroughtForward,
    BudgetReached,
    ChainChanged,
    Chained,
    ChainLinked,
    Changed,
    ClockHeld,
    ClockStepped,
    Ended,
    Event,
    Granted,
    Held,
    MembersChanged,
    MetersRead,
    NodeAnswers,
    NodeClosed,
    NodeOpened,
    NodeQuiet,
    Ordered,
    Released,
    Reserved,
    Started,
    Stopping,
    Submitted,
    TaskMade,
    TasksDropped,
    Unreserved,
)
from lazy_quarry.core.engine.job_changes import WANTED, ended_words, job_after, left_over, waiting_phase
from lazy_quarry.core.engine.live_jobs import LiveJobs
from lazy_quarry.core.engine.tracked import Tracked
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.job import EACH, TASK_SPAN, Job, Phase, Use, make_task, outlook
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.ledger.accounts import Tally
from lazy_quarry.core.ledger.budgets import Grant, MemberChange
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.core.ledger.recent_use import KEPT_DAYS
from lazy_quarry.core.site import Window
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.core.values import replace


class State(Struct):
    """Live jobs, closed nodes and running sums, after the events so far."""

    at_ms: int = 0
    next_number: int = 1
    jobs: LiveJobs = field(default_factory=LiveJobs)
    closures: dict[str, str] = field(default_factory=dict)
    """Nodes that take no jobs, and why."""
    closed_ms: dict[str, int] = field(default_factory=dict)
    """Since when each of them takes none; a node closed by an earlier program, which didn't keep it, is absent."""
    quiet: dict[str, int] = field(default_factory=dict)
    """Nodes that don't answer, and since when."""
    tallies: dict[str, Tally] = field(default_factory=dict)
    tasks: dict[int, set[int]] = field(default_factory=dict)
    """The live tasks of each array."""
    followers: dict[int, set[int]] = field(default_factory=dict)
    """The jobs that wait for each job."""
    recent: dict[str, dict[str, dict[int, int]]] = field(default_factory=Tracked)
    """Core-ms held by attempts that have ended, by account, user and day: what standing goes by."""
    orders: dict[str, tuple[int, ...]] = field(default_factory=dict)
    """Each user's own order among their waiting jobs."""
    reserved: dict[str, Window] = field(default_factory=dict)
    """Windows and reservations made here, beside those of the site, by name."""
    chains: dict[int, ChainRecord] = field(default_factory=dict)
    """The chains that were submitted last, by their own numbers."""
    next_chain: int = 1
    grants: dict[str, tuple[Grant, ...]] = field(default_factory=dict)
    """Grants to each account beside its budget, oldest first."""
    meters: dict[int, dict[str, int]] = field(default_factory=dict)
    """Charges of each account when the present terms of budgets began."""
    warned: dict[str, dict[int, int]] = field(default_factory=dict)
    """The share of each budget, in hundredths, of which people were warned last, by its term's beginning."""
    member_changes: dict[str, tuple[MemberChange, ...]] = field(default_factory=dict)
    """Who was let charge each account beside those of the site file, or no longer; oldest first."""
    clock_held_ms: int = 0
    """Where journal time stood when the clock was last found set back."""

    def apply(self, event: Event) -> Job | None:
        """Fold one event in; returns the job when it has just reached its final state and left."""
        # The clock may have been set back between two events; the time of the state never goes back.
        self.at_ms = max(self.at_ms, event.at_ms)
        match event:
            case Submitted():
                job = Job(event.job, event.by.user, event.request, event.origin, event.at_ms, mark=event.mark)
                self._set_waits(job, event)
                self.next_number = max(self.next_number, event.job + 1)
            case Held():
                if event.job in self.jobs:
                    self.jobs[event.job] = replace(
                        self.jobs[event.job].in_phase(Phase.HELD, self.at_ms), reason=event.by.name
                    )
                else:
                    self._hold_task(event.job, True)
            case Released():
                if event.job in self.jobs:
                    job = self.jobs[event.job]
                    self.jobs[event.job] = replace(job.in_phase(waiting_phase(job), self.at_ms), reason="")
                else:
                    self._hold_task(event.job, False)
            case Started():
                job = self.jobs[event.job].in_phase(Phase.RUNNING, self.at_ms)
                self.jobs[event.job] = replace(
                    job,
                    attempt=event.attempt,
                    queue=event.queue,
                    started_ms=event.at_ms,
                    allocations=event.allocations,
                    stopping=None,
                    stop_by_ms=None,
                    times=job.times.started(event.at_ms),
                )
                self._note_first_start(job.parent)
                self._forget_order(event.job)
                # None says that it has begun, which the condition "begins" waits for.
                self._tell_followers(self.jobs[event.job].parent or event.job, None)
            case Stopping():
                job = self.jobs[event.job]
                stop_by = event.at_ms + job.request.grace_s * 1000
                if job.stop_by_ms is not None:  # told again, for another cause: the first grace goes on
                    stop_by = min(stop_by, job.stop_by_ms)
                self.jobs[event.job] = replace(job, stopping=event.cause, stop_by_ms=stop_by)
            case Changed():
                self._change(event)
            case Ordered():
                self.orders[event.by.user] = event.jobs
            case Reserved():
                self.reserved[event.window.name] = event.window
            case Unreserved():
                self.reserved.pop(event.name, None)
            case Ended():
                return self._end(event)
            case TaskMade():
                self._make_task(event)
            case TasksDropped():
                self._drop_tasks(event)
            case NodeClosed():
                if event.node not in self.closures:
                    self.closed_ms[event.node] = event.at_ms
                self.closures[event.node] = event.by.why
            case NodeOpened():
                self.closures.pop(event.node, None)
                self.closed_ms.pop(event.node, None)
            case NodeQuiet():
                self.quiet[event.node] = event.since_ms
            case NodeAnswers():
                self.quiet.pop(event.node, None)
            case BroughtForward():
                self.next_number = max(self.next_number, event.next_number)
                self._add(event.account, event.charge_core_ms, event.allocated_core_ms, event.jobs, event.failed)
                for user, day, core_ms in event.recent:
                    self._used(event.account, user, day, core_ms)
            case Chained() | ChainLinked() | ChainChanged():
                take_chain(self.chains, event)
                self.next_chain = max(self.next_chain, event.chain + 1)
            case Granted():
                grant = Grant(event.at_ms, event.core_ms, event.by.user, event.by.why)
                self.grants[event.account] = (*self.grants.get(event.account, ()), grant)
                self.warned.pop(event.account, None)  # of the new budget it is another share
            case MetersRead():
                kept = {at: read for at, read in self.meters.items() if at in event.needed}
                self.meters = {**kept, event.begin_ms: dict(event.charged)}
            case BudgetReached():
                self.warned[event.account] = {event.begin_ms: event.percent}
            case MembersChanged():
                change = MemberChange(event.at_ms, event.user, event.added, event.by.user)
                self.member_changes[event.account] = (*self.member_changes.get(event.account, ()), change)
            case ClockHeld():
                self.clock_held_ms = event.at_ms
            case ClockStepped():
                for number, job in list(self.jobs.running.items()):
                    self.jobs[number] = job.begun_later(event.by_ms)
        return None

    def _change(self, event: Changed) -> None:
        job = self.jobs[event.job]
        origin = replace(job.origin, overrides=(*job.origin.overrides, *event.overrides))
        if self.begun(job):  # of an array whose tasks start already: what it waits for is decided
            self.jobs[event.job] = replace(job, request=event.request, origin=origin)
            return
        self._follow_no_more(job)
        self._set_waits(replace(job, request=event.request, origin=origin, skip_reason="", planned=False), event)

    def begun(self, job: Job) -> bool:
        """True when some task of an array has started or ended."""
        return bool(self.tasks.get(job.number) or job.next_index or job.handled_tasks)

    def _follow_no_more(self, job: Job) -> None:
        for number, _ in job.unmet:
            if number in self.followers:
                self.followers[number].discard(job.number)
                if not self.followers[number]:
                    del self.followers[number]

    def _set_waits(self, job: Job, event: Submitted | Changed) -> None:
        """Keep a job with what its request waits for, as far as that isn't decided yet."""
        waits = tuple((int(number), condition) for number, condition in event.request.after)
        array = event.request.array
        if array is not None and len(event.freed_tasks) + len(event.doomed_tasks) == array.count:
            waits = tuple(one for one in waits if one[1] != EACH)  # what they wait for has all ended
        held = tuple(index for index in job.held_tasks if array is not None and index < array.count)
        freed, doomed = event.freed_tasks, event.doomed_tasks
        job = replace(job, freed_tasks=freed, doomed_tasks=doomed, held_tasks=held, unmet=waits)
        self.jobs[event.job] = job.in_phase(Phase.HELD if job.phase is Phase.HELD else waiting_phase(job), self.at_ms)
        for number, _ in waits:
            self.followers.setdefault(number, set()).add(event.job)

    def _used(self, account: str, user: str, day_ms: int, core_ms: int) -> None:
        """Add the use of a day, and drop days that are too old to count."""
        users = self.recent.get(account, {})
        days = users.setdefault(user, {})
        self.recent[account] = users
        days[day_ms] = days.get(day_ms, 0) + core_ms
        oldest = self.at_ms - KEPT_DAYS * DAY_MS
        for old in [day for day in days if day < oldest]:
            del days[old]

    def _forget_order(self, number: int) -> None:
        user = self.jobs[number].user
        if number in self.orders.get(user, ()):
            left = tuple(one for one in self.orders[user] if one != number)
            if left:
                self.orders[user] = left
            else:
                del self.orders[user]

    def _tell_followers(self, number: int, phase: Phase | None, planned: bool = False) -> None:
        """Update the jobs that wait for this one: they may start now, or never can.

        ``planned`` is whether it was skipped as planned; what can't start because of that, or of a success, is skipped so too.
        """
        as_planned = phase is Phase.DONE or planned
        for follower in sorted(self.followers.get(number, ())):
            job = self.jobs.get(follower)
            if job is None or not any(one == number for one, _ in job.unmet):
                continue
            waits, skip_reason, skipped_so = list[tuple[int, str]](), job.skip_reason, job.planned
            for one, condition in job.unmet:
                met = outlook(condition, phase) if one == number else None
                if met is None:
                    waits.append((one, condition))
                elif not met:
                    skipped_so = as_planned and (skipped_so or not skip_reason)
                    skip_reason = (
                        skip_reason or f"{number} {ended_words(phase)}, and it was to start only if {WANTED[condition]}"
                    )
            told = replace(job, unmet=tuple(waits), skip_reason=skip_reason, planned=skipped_so)
            if phase is None and not any(one == number for one, _ in waits):
                self.followers[number].discard(follower)
            if phase is not None and (number, EACH) in job.unmet:
                doomed = left_over(told)
                told = replace(told, doomed_tasks=doomed, planned_tasks=doomed if planned else told.planned_tasks)
            freed = job.phase is Phase.BLOCKED and not skip_reason
            self.jobs[follower] = told.in_phase(waiting_phase(told), self.at_ms) if freed else told
        if phase is not None or not self.followers.get(number, True):
            self.followers.pop(number, None)

    def _hold_task(self, number: int, held: bool) -> None:
        """Hold or release a task that is no job of its own yet."""
        parent, index = self.jobs[number // TASK_SPAN], number % TASK_SPAN - 1
        left = {*parent.held_tasks} - {index} | ({index} if held else set())
        parent = self._delayed(parent, index, -1 if held else 1)
        self.jobs[parent.number] = replace(parent, held_tasks=tuple(sorted(left)))

    def _delayed(self, parent: Job, index: int, sign: int) -> Job:
        """Note that a task stops (-1) or begins (1) to wait with its array: what the array waits in between is not its own."""
        delays = dict(parent.task_delays)
        delays[index] = delays.get(index, 0) + sign * parent.times.waited_by(self.at_ms)
        return replace(parent, task_delays=tuple(sorted(delays.items())))

    def _note_first_start(self, number: int | None) -> None:
        """An array's wait ends with the start of its first task."""
        if number is not None and (parent := self.jobs[number]).times.first_start_ms is None:
            times = replace(parent.times.started(self.at_ms), first_wait_ms=parent.times.waited_by(self.at_ms))
            self.jobs[number] = replace(parent, times=times)

    def _make_task(self, event: TaskMade) -> None:
        parent = self.jobs[event.parent]
        self.jobs[event.job] = make_task(parent, event.index)
        if parent.task_delays:
            delays = tuple(one for one in parent.task_delays if one[0] != event.index)
            parent = replace(parent, task_delays=delays)
        if parent.waits_by_task:
            freed_tasks, doomed_tasks = (
                tuple(one for one in few if one != event.index) for few in (parent.freed_tasks, parent.doomed_tasks)
            )
            parent = replace(parent, freed_tasks=freed_tasks, doomed_tasks=doomed_tasks)
        if event.index in parent.held_tasks:
            parent = replace(parent, held_tasks=tuple(one for one in parent.held_tasks if one != event.index))
        handled_tasks = {*parent.handled_tasks, event.index}
        reached = parent.next_index
        while reached in handled_tasks:
            handled_tasks.remove(reached)
            reached += 1
        if parent.phase is Phase.WAITING:
            phase = waiting_phase(parent)
            parent = parent if phase is Phase.WAITING else parent.in_phase(phase, self.at_ms)
        self.jobs[event.parent] = replace(parent, next_index=reached, handled_tasks=tuple(sorted(handled_tasks)))
        self.tasks.setdefault(event.parent, set()).add(event.job)

    def _drop_tasks(self, event: TasksDropped) -> None:
        parent = self.jobs[event.job]
        assert parent.request.array is not None
        counts = dict(parent.counts)
        counts["cancelled"] = counts.get("cancelled", 0) + event.count
        self.jobs[event.job] = replace(
            parent,
            next_index=parent.request.array.count,
            handled_tasks=(),
            held_tasks=(),
            freed_tasks=(),
            doomed_tasks=(),
            counts=tuple(sorted(counts.items())),
        )

    def _end(self, event: Ended) -> Job | None:
        job = job_after(self.jobs[event.job], event)
        self._forget_order(event.job)
        if not event.again:
            self._follow_no_more(job)
        if event.allocated_core_ms and (began := self.jobs[event.job].started_ms) is not None:
            for day, core_ms in by_day(began, event.at_ms, event.allocated_core_ms):
                self._used(job.request.account, job.user, day, core_ms)
        if job.request.array is not None:  # its tasks were charged one by one
            del self.jobs[job.number]
            self.tasks.pop(job.number, None)
            self._tell_followers(job.number, job.phase, job.planned)
            return job
        self._add(
            job.request.account,
            event.charge_core_ms,
            event.allocated_core_ms,
            int(not event.again),
            int(not event.again and left_undone(event.phase, event.planned)),
        )
        if event.again:
            self.jobs[job.number] = job
            return None
        del self.jobs[job.number]
        if job.parent is not None:
            self._count_task(job, job.parent)
        self._tell_followers(job.number, job.phase, job.planned)
        return job

    def _count_task(self, task: Job, number: int) -> None:
        """The figures of an array are the sums of its tasks'."""
        parent = self.jobs[number]
        counts = dict(parent.counts)
        counts[task.phase.value] = counts.get(task.phase.value, 0) + 1
        use = Use(
            parent.use.cpu_ms + task.times.cpu_ms,
            max(parent.use.memory_peak_mib, task.use.memory_peak_mib),
            parent.use.read_bytes + task.use.read_bytes,
            parent.use.written_bytes + task.use.written_bytes,
            max(parent.use.scratch_mib, task.use.scratch_mib),
        )
        began = [at for at in (parent.started_ms, task.times.first_start_ms) if at is not None]
        self.jobs[number] = replace(
            parent,
            counts=tuple(sorted(counts.items())),
            use=use,
            started_ms=min(began, default=None),
            task_cores=task.cores_allocated or parent.task_cores,
            planned_count=parent.planned_count + task.planned,
            allocated_core_ms=parent.allocated_core_ms + task.allocated_core_ms,
            charge_core_ms=parent.charge_core_ms + task.charge_core_ms,
        )
        self.tasks[number].discard(task.number)
        if not self.tasks[number]:
            del self.tasks[number]
        for follower in sorted(self.followers.get(number, ())):
            self._pair(follower, number, task)

    def _pair(self, follower: int, number: int, task: Job) -> None:
        """A task has ended: the task of the same number that waits for it may start, or never can."""
        job = self.jobs.get(follower)
        if job is None or (number, EACH) not in job.unmet or job.request.array is None:
            return
        index = job.request.array.index(task.request.task or 0)
        if index is None or index < job.next_index or index in job.handled_tasks:
            return
        if task.phase is Phase.DONE:
            job = self._delayed(replace(job, freed_tasks=tuple(sorted({*job.freed_tasks, index}))), index, 1)
        else:
            so = (index,) if task.planned else ()
            doomed = tuple(sorted({*job.doomed_tasks, index}))
            job = replace(job, doomed_tasks=doomed, planned_tasks=(*job.planned_tasks, *so))
        freed = job.phase is Phase.BLOCKED
        self.jobs[follower] = job.in_phase(waiting_phase(job), self.at_ms) if freed else job

    def _add(self, account: str, charged: int, held: int, jobs: int, failed: int) -> None:
        tally = self.tallies.get(account, Tally())
        self.tallies[account] = Tally(
            tally.charged_core_ms + charged, tally.allocated_core_ms + held, tally.jobs + jobs, tally.failed + failed
        )

    @classmethod
    def kept(cls, jobs: dict[int, Job], **parts: Any) -> "State":
        """A state from its live jobs and its other parts; what follows from the jobs is worked out.

        ``parts`` are all fields but jobs, tasks and followers.
        """
        state = cls(jobs=LiveJobs(sorted(jobs.items())), **parts)
        state.recent = Tracked(state.recent)
        for number, job in state.jobs.items():
            if job.parent is not None:
                state.tasks.setdefault(job.parent, set()).add(number)
            for other, _ in job.unmet:
                state.followers.setdefault(other, set()).add(number)
        return state

    def copy(self, only: Collection[int] | None = None) -> "State":
        """A copy that changes apart from this one, if asked with some of the jobs alone. Jobs are values, so both share them."""
        few = None if only is None else {number: self.jobs[number] for number in sorted(only)}
        return replace(
            self,
            jobs=self.jobs.copy() if few is None else LiveJobs(few.items()),
            closures=dict(self.closures),
            closed_ms=dict(self.closed_ms),
            quiet=dict(self.quiet),
            tallies=dict(self.tallies),
            tasks=_sets(self.tasks, few),
            followers=_sets(self.followers, few),
            recent=Tracked(
                {account: {user: dict(days) for user, days in users.items()} for account, users in self.recent.items()}
            ),
            orders=dict(self.orders),
            reserved=dict(self.reserved),
            grants=dict(self.grants),
            chains=dict(self.chains),
            meters={begin: dict(amounts) for begin, amounts in self.meters.items()},
            warned={account: dict(terms) for account, terms in self.warned.items()},
            member_changes=dict(self.member_changes),
        )

    def running(self) -> list[Job]:
        """Jobs that have cores, by number: sums over them are the same whatever order they were kept in."""
        return [job for _, job in sorted(self.jobs.running.items())]


def _sets(table: Mapping[int, set[int]], few: Container[int] | None) -> dict[int, set[int]]:
    """A table of jobs by job, copied; as far as its entries are among ``few``, or whole."""
    kept = {number: {one for one in others if few is None or one in few} for number, others in table.items()}
    return {number: others for number, others in kept.items() if others}
