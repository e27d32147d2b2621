"""Jobs and tasks by the numbers that people say: 4127, 4127/5, also of tasks that are no jobs of their own yet."""

from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import TASK_SPAN, Job, Phase, make_task
from lazy_quarry.core.values import replace


def label_of(state: State, number: int) -> str:
    """The number of a job or task as people say it, whatever is known of it."""
    job = state.jobs.get(number)
    if job is not None or number < TASK_SPAN:
        return job.label if job is not None else str(number)
    parent, index = state.jobs.get(number // TASK_SPAN), number % TASK_SPAN - 1
    if parent is None or parent.request.array is None or index >= parent.request.array.count:
        return f"{number // TASK_SPAN}, task {index + 1}"
    return f"{parent.number}/{parent.request.array.number(index)}"


def has_task(state: State, number: int) -> bool:
    """True when a live array has, or had, this task."""
    parent = state.jobs.get(number // TASK_SPAN)
    array = parent.request.array if parent is not None else None
    return array is not None and 0 < number % TASK_SPAN <= array.count


def unstarted(state: State, number: int) -> Job | None:
    """A task of a live array that is no job of its own yet, as it will be; None for anything else."""
    if number < TASK_SPAN or number in state.jobs or not has_task(state, number):
        return None
    parent, index = state.jobs[number // TASK_SPAN], number % TASK_SPAN - 1
    if index < parent.next_index or index in parent.handled_tasks:
        return None
    held = index in parent.held_tasks
    return replace(make_task(parent, index), phase=Phase.HELD if held else parent.phase)
