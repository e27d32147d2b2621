"""A job's record: each event as a line."""

from collections.abc import Iterator
from datetime import UTC, tzinfo

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
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.ledger.budgets import day_of
from lazy_quarry.core.units import fold_names, format_core_hours, format_cpu, format_duration, format_size, plural
from lazy_quarry.wording.sentences import spread_told, took_words

MOST_PARTS = 40
"""Parts of an attempt that have lines of their own in the record."""


def record_lines(event: Event, zone: tzinfo = UTC) -> Iterator[tuple[int, str]]:
    """An event of a job as lines of its record; before the end of an attempt the parts that it told of."""
    inside = event.inside if isinstance(event, Ended) else None
    if inside is not None:
        for part in inside.parts[:MOST_PARTS]:
            how = part.signal or (f"exit {part.exit}" if part.exit is not None else "under way to the end")
            used = f", {format_cpu(part.cpu_ms)} of CPU, {format_size(part.memory_peak_mib)}" if part.over else ""
            kind = "phase " if part.kind == "phase" else ""
            words = f"{kind}{part.name}: {how} after {took_words(part.took_ms)}{used}"
            yield part.began_ms + part.took_ms, words
        if len(inside.parts) > MOST_PARTS:
            yield event.at_ms, f"and {plural(len(inside.parts) - MOST_PARTS, 'part')} more"
        if inside.spread is not None:
            yield event.at_ms, f"of the tasks that it spread {spread_told(inside.spread)}"
    yield event.at_ms, record_words(event, zone)


def _person(by: By) -> str:
    return f" by {by.user}" if by.user else ""


def record_words(event: Event, zone: tzinfo = UTC) -> str:
    """One line of a job's record."""
    match event:
        case Submitted():
            return f"submitted by {event.by.user}" + (
                f" from {event.origin.path}" if event.origin.path.startswith("/") else ""
            )
        case Held():
            return f"held by {event.by.words}"
        case Released():
            return f"released by {event.by.words}"
        case Started():
            cores = plural(sum(len(allocation.cores) for allocation in event.allocations), "core")
            again = f", attempt {event.attempt}" if event.attempt > 1 else ""
            return f"started on {fold_names([allocation.node for allocation in event.allocations])}, {cores}{again}"
        case Stopping():
            if event.cause == "gave-way":
                return f"stopped to make way for {event.due_to}, and to end within its grace; it waits to run again"
            if event.cause == "lost":
                return f"stopped: {event.due_to} was lost"
            return f"stopped by {event.by.user}: {event.by.why or event.cause}"
        case Changed():
            asked = f": {', '.join(event.overrides)}" if event.overrides else ""
            return f"changed by {event.by.words}{asked}"
        case Ordered():
            return f"{event.by.user} put their waiting jobs in order: {', '.join(map(str, event.jobs[:8]))}"
        case Reserved():
            return f"{event.window.name}: {fold_names(event.window.nodes)} reserved by {event.by.user}, {event.window.reason}"
        case Unreserved():
            return f"reservation {event.name} " + (f"removed by {event.by.words}" if event.by.user else "is over")
        case Ended():
            how = event.signal or (f"exit {event.exit}" if event.exit is not None else "")
            word = "stopped" if event.again and event.phase is Phase.CANCELLED else event.phase.value
            words = ", ".join(word for word in (word, how, event.reason) if word)
            return words + ("; it waits to run again" if event.again else "")
        case NodeClosed():
            return f"node {event.node} closed{_person(event.by)}: {event.by.why}"
        case NodeOpened():
            return f"node {event.node} opened{_person(event.by)}" + (f": {event.by.why}" if event.by.why else "")
        case NodeQuiet():
            return f"node {event.node} does not answer any more"
        case NodeAnswers():
            return f"node {event.node} answers again"
        case TaskMade():
            return "became a job of its own"
        case TasksDropped():
            return f"{plural(event.count, 'task')} that had not started cancelled by {event.by.words}"
        case BroughtForward():
            return f"brought forward for {event.account}: {plural(event.jobs, 'job')}"
        case Granted():
            what = "given to" if event.core_ms >= 0 else "taken from"
            return f"{format_core_hours(abs(event.core_ms))} core-hours {what} {event.account} by {event.by.words}"
        case MetersRead():
            return f"terms of budgets began on {day_of(event.begin_ms)}; what was charged until then is noted"
        case BudgetReached():
            used = format_core_hours(event.used_core_ms)
            return f"{event.percent} % of the budget of {event.account} are used, {used} core-hours"
        case MembersChanged():
            return (
                f"{event.user} {'may' if event.added else 'may no longer'} charge {event.account}, by {event.by.user}"
            )
        case Chained():
            return f"chain {event.chain} {event.name} submitted by {event.by.user}: {plural(len(event.parts), 'job')}"
        case ChainLinked():
            return f"{event.number} is {event.part} of chain {event.chain}"
        case ChainChanged():
            return f"chain {event.chain} changed by {event.by.user}"
        case ClockStepped():
            way = "forward" if event.by_ms > 0 else "back"
            return f"the clock was set {way} by {format_duration(abs(event.by_ms) / 1000)}; limits of what runs went with it"
        case ClockHeld():
            return f"the clock was set back by {format_duration(event.behind_ms / 1000)}; journal time stood still"
