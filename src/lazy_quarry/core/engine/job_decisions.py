"""The events of the commands about jobs: one function for each command. It returns events or raises :class:`Refused`."""

from lazy_quarry.core.engine.commands import CancelJob, CancelTask, ChangeJob, HoldJob, OrderJobs, ReleaseJob, Submit
from lazy_quarry.core.engine.events import (
    Changed,
    Ended,
    Event,
    Held,
    Ordered,
    Released,
    Stopping,
    Submitted,
    TaskMade,
    TasksDropped,
)
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.engine.task_numbers import unstarted
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import EACH, TASK_SPAN, Job, Phase, make_task, task_id
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused


def submit(now: Situation, command: Submit) -> list[Event]:
    """Submit a job under the next number."""
    now.limit_use.accept(command.by.user, command.request)
    _check_after(now, command)
    return [
        Submitted(
            at_ms=now.at_ms,
            job=now.state.next_number,
            by=command.by,
            request=command.request,
            origin=command.origin,
            freed_tasks=command.freed_tasks,
            doomed_tasks=command.doomed_tasks,
            mark=command.mark,
        )
    ]


def hold(now: Situation, command: HoldJob) -> list[Event]:
    """Put a waiting job on hold. If it is a running array, this holds the tasks that have not started.

    A task that is no job of its own yet is held in its array, whose other tasks go on.
    """
    if (task := unstarted(now.state, command.job)) is not None:
        array = now.own_job(command.job // TASK_SPAN, command.by.user, "hold")
        if array.phase is Phase.HELD or task.index in array.held_tasks:
            raise Refused(f"{task.label} is held already")
        return [Held(now.at_ms, command.job, command.by)]
    job = now.own_job(command.job, command.by.user, "hold")
    if job.phase is Phase.HELD:
        raise Refused(f"{job.label} is held already")
    if job.request.array is not None and not job.unmade_tasks:
        raise Refused(f"all tasks of {job.number} have started; there is nothing to hold")
    if job.phase not in (Phase.WAITING, Phase.BLOCKED):
        raise Refused(f"{job.label} is {job.phase}; only a waiting job can be held")
    return [Held(now.at_ms, job.number, command.by)]


def release(now: Situation, command: ReleaseJob) -> list[Event]:
    """Release a job that is on hold; of an array that is not, all tasks that are held one by one."""
    if (task := unstarted(now.state, command.job)) is not None:
        array = now.own_job(command.job // TASK_SPAN, command.by.user, "release")
        if task.index not in array.held_tasks:
            alone = f"; release {array.number}, its array, which is held" if array.phase is Phase.HELD else ""
            raise Refused(f"{task.label} is not held by itself{alone}")
        return [Released(now.at_ms, command.job, command.by)]
    job = now.own_job(command.job, command.by.user, "release")
    made = sorted(
        number for number in now.state.tasks.get(job.number, ()) if now.state.jobs[number].phase is Phase.HELD
    )
    held = [*(task_id(job.number, index) for index in job.held_tasks), *made]
    if held and job.phase is not Phase.HELD:
        return [Released(now.at_ms, number, command.by) for number in held]
    if job.phase is not Phase.HELD:
        raise Refused(f"{job.label} is not held, it is {job.phase}")
    return [Released(now.at_ms, job.number, command.by)]


def cancel(now: Situation, command: CancelJob) -> list[Event]:
    """End a waiting job, stop a running one. A job that is being stopped already stays as it is."""
    job = now.own_job(command.job, command.by.user, "cancel")
    if job.request.array is not None:
        return _cancel_array(now, job, command.by, command.only)
    if command.only and (job.phase is Phase.RUNNING) != (command.only == "running"):
        raise Refused(f"{job.label} is {job.phase}")
    return _cancel_one(now, job, command.by)


def _cancel_one(now: Situation, job: Job, by: By) -> list[Event]:
    if job.phase is not Phase.RUNNING:
        return [_not_running(now, job, by)]
    # One that is being stopped for another cause would run again, which is what nobody wants any more.
    return [Stopping(now.at_ms, job.number, "cancelled", by)] if job.stopping != "cancelled" else []


def _cancel_array(now: Situation, job: Job, by: By, only: str) -> list[Event]:
    """Cancel an array: tasks that have not started end, tasks that run are stopped."""
    dropped: list[Event] = []
    if job.unmade_tasks and only != "running":
        dropped = [TasksDropped(now.at_ms, job.number, job.unmade_tasks, by)]
    live = [now.state.jobs[number] for number in sorted(now.state.tasks.get(job.number, ()))]
    chosen = [task for task in live if not only or (task.phase is Phase.RUNNING) == (only == "running")]
    if only and not dropped and not chosen:
        raise Refused(f"no task of {job.number} is {only}")
    return dropped + [event for task in chosen for event in _cancel_one(now, task, by)]


def cancel_task(now: Situation, command: CancelTask) -> list[Event]:
    """Cancel one task of an array, whether it is a job of its own yet or not."""
    job = now.own_job(command.job, command.by.user, "cancel")
    number = task_id(job.number, command.index)
    task = now.state.jobs.get(number)
    if task is not None:
        return _cancel_one(now, task, command.by)
    if command.index < job.next_index or command.index in job.handled_tasks:
        array = job.request.array
        raise Refused(f"task {job.number}/{array.number(command.index) if array else command.index} has ended already")
    made = TaskMade(now.at_ms, number, job.number, command.index)
    return [made, _not_running(now, make_task(job, command.index), command.by)]


def _not_running(now: Situation, job: Job, by: By) -> Ended:
    """The end of a job that waits. What its earlier attempts used stays its use."""
    when = f"after attempt {job.attempt}, before it ran again" if job.attempt else "before it started"
    why = f": {by.why}" if by.why else ""
    reason = f"cancelled by {by.user} {when}{why}"
    return Ended(now.at_ms, job.number, job.attempt, Phase.CANCELLED, reason=reason, use=job.use, by=by)


def change(now: Situation, command: ChangeJob) -> list[Event]:
    """Change the request of a job that has not started. It keeps its number and the time it has waited.

    Of an array some task of which has started, at-once alone can be changed.
    """
    job = now.own_job(command.job, command.by.user, "change")
    if job.phase is Phase.RUNNING:
        raise Refused(f"{job.label} can't be changed any more: it runs")
    if job.parent is not None:
        raise Refused(f"{job.label} is a task; change the array before it starts")
    if job.came_back and command.request.array is not None:
        raise Refused(
            f"{job.label} has run already, so it can't become an array any more; submit the array as a new job"
        )
    if now.state.begun(job):
        if not _alike_but_at_once(job.request, command.request):
            why = "some of its tasks have started or ended, so at-once alone can be changed"
            raise Refused(f"{job.label} can't be changed any more: {why}")
    else:
        now.limit_use.accept(job.user, command.request, job.number)
        _check_after(now, command)
    return [
        Changed(
            at_ms=now.at_ms,
            job=job.number,
            by=command.by,
            request=command.request,
            overrides=command.overrides,
            freed_tasks=command.freed_tasks,
            doomed_tasks=command.doomed_tasks,
        )
    ]


def _alike_but_at_once(old: Request, new: Request) -> bool:
    if new.array is None or old.array is None:
        return False
    return old == replace(new, array=replace(new.array, at_once=old.array.at_once))


def _check_after(now: Situation, command: Submit | ChangeJob) -> None:
    """Refuse to wait for a job that can't tell any more how it ends: that would be for ever."""
    array = command.request.array
    decided = len(command.freed_tasks) + len(command.doomed_tasks)
    for number, condition in command.request.after:
        if condition == EACH and array is not None and decided == array.count:
            continue
        if int(number) not in now.state.jobs:
            raise Refused(f"after: {number} is not there any more")


def order(now: Situation, command: OrderJobs) -> list[Event]:
    """Order a user's own waiting jobs."""
    jobs = [now.own_job(number, command.by.user, "order") for number in dict.fromkeys(command.jobs)]
    for job in jobs:
        if job.phase is Phase.RUNNING:
            raise Refused(f"{job.label} runs already; only waiting jobs have an order")
    return [Ordered(now.at_ms, command.by, tuple(job.number for job in jobs))]
