"""Sentences about what is done to jobs: what will happen, before it does; and what became of it."""

from collections.abc import Sequence

from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.views.job_view import JobView
from lazy_quarry.views.outcomes import Outcome

MOST_NAMED = 4
"""Jobs that a sentence names."""


def named(views: Sequence[JobView]) -> str:
    """Jobs by number and name; of many the first, and how many more."""
    told = [f"{view.label} {view.name}" for view in views[:MOST_NAMED]]
    more = len(views) - len(told)
    return ", ".join(told) + (f" and {plural(more, 'more job')}" if more > 0 else "")


def again_question(views: Sequence[JobView], failed: bool) -> str:
    """Ask before running again: what would run."""
    if failed:
        count = sum(number for view in views for state, number in view.counts if state in _WRONG)
        return f"Run again {plural(count, 'task')} of {named(views)} that did not succeed, each with its number and values?"
    return f"Run {named(views)} again?"


_WRONG = ("failed", "overtime", "overmemory", "lost", "cancelled")


def cancel_question(views: Sequence[JobView]) -> str:
    """Ask before cancelling: what would be lost."""
    running = [view for view in views if view.phase is Phase.RUNNING]
    if not running:
        lose = (
            "It has not started, and loses its turn"
            if len(views) == 1
            else "They have not started, and lose their turns"
        )
        return f"Cancel {named(views)}? {lose}."
    lost = format_core_hours(sum(view.charge_core_ms for view in running))
    if len(views) == 1:
        view = views[0]
        tasks = dict(view.counts).get("running", 0)
        what = f"{plural(tasks, 'running task')} of " if view.rows and tasks else ""
        where = f", which runs on {plural(len(view.nodes), 'node')}" if not view.rows else ""
        return f"Cancel {what}{view.label} {view.name}{where}? {lost} core-hours of work so far would be lost."
    run = "runs" if len(running) == 1 else "run"
    return f"Cancel {named(views)}, of which {len(running)} {run}? {lost} core-hours of work so far would be lost."


def outcome_words(outcomes: list[Outcome], settings: str) -> str:
    """Word a command's outcome: for each job, or of many the first refusals and all that were done; ``settings`` of a change."""
    done = [one.message for one in outcomes if one.done]
    refused = [one.message for one in outcomes if not one.done]
    verbs = {message.partition(" ")[2] for message in done}
    if (
        len(done) > 1
        and len(verbs) == 1
        and all(message.partition(" ")[0].replace("/", "").isdecimal() for message in done)
    ):
        told = f"{verbs.pop()} {', '.join(message.partition(' ')[0] for message in done)}"
    else:
        told = "; ".join(done[:MOST_NAMED]) + (f"; and {len(done) - MOST_NAMED} more" if len(done) > MOST_NAMED else "")
    words = "; ".join(filter(None, ("; ".join(refused[:2]), told)))
    if settings and done:
        words += f", with {settings}"
    return f"{words[:1].upper()}{words[1:]}."
