"""Sentences about jobs, the same in the application and on the command line."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, tzinfo
from functools import partial
from typing import TYPE_CHECKING, TypeVar

from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.units import (
    DAY_MS,
    clock_time,
    format_bytes,
    format_duration,
    format_size,
    off_words,
    plural,
)
from lazy_quarry.core.values import replace

if TYPE_CHECKING:
    from lazy_quarry.core.advice.alike import Outlier
    from lazy_quarry.core.explain.answers import Suggestion
    from lazy_quarry.core.job.copying import Copying
    from lazy_quarry.core.job.inside import Spread
    from lazy_quarry.core.plan.standing_parts import StandingParts
    from lazy_quarry.core.site import StorageArea
    from lazy_quarry.run.node.file_kinds import FileFound
    from lazy_quarry.run.runner import HostState
    from lazy_quarry.views.board import NodeView, SiteView
    from lazy_quarry.views.chain_views import ChainView
    from lazy_quarry.views.job_detail import Evidence, JobDetail
    from lazy_quarry.views.job_view import JobView, StartRange

SHOWN_FAILED = 3
Figure = TypeVar("Figure", int, float)


def state_words(view: JobView, now_ms: int, zone: tzinfo = UTC) -> str:
    """A job's state in a few words, without its sign: ``24m of 2h 30m``, ``starts about 10:40``."""
    if view.rows and (view.phase.final or len(view.counts) > 1 or view.phase is Phase.RUNNING):
        return failed_words(view) or counts_words(view)
    match view.phase:
        case Phase.WAITING:
            if view.forecast_ms is None:
                return f"waiting, {view.stuck or 'no forecast'}"
            if view.forecast_ms <= now_ms:
                return "starts now"
            return f"starts {start_in_short(view, now_ms, zone)}"
        case Phase.BLOCKED:
            return view.why.replace("waits until ", "after ", 1) or "blocked"
        case Phase.HELD:
            return "held"
        case Phase.RUNNING:
            if view.stopping:
                return f"stopping, {view.stopping}"
            if view.quiet_since_ms is not None:
                return f"no answer since {clock_time(view.quiet_since_ms, now_ms, zone)}"
            if view.copying is not None:
                return f"copying {view.copying.way}, {100 * view.copying.done // max(1, view.copying.total)}%"
            took = f"{format_duration(view.attempt_s)} of {format_duration(view.walltime_s)}"
            spread = view.inside.spread if view.inside is not None else None
            return f"{took}, {100 * spread.done // spread.tasks}%" if spread is not None else took
        case Phase.DONE:
            return f"done in {_took(view)}"
        case Phase.FAILED:
            return f"failed, {_how(view)}"
        case Phase.OVERTIME:
            return f"overtime at {format_duration(view.walltime_s)}"
        case Phase.OVERMEMORY:
            return f"over its {format_size(view.memory_mib)}"
        case Phase.CANCELLED:
            return "cancelled" + (f" after {format_duration(view.attempt_s)}" if view.started_ms is not None else "")
        case Phase.LOST:
            return f"lost, {_why_lost(view)}"
    return "skipped as planned" if view.planned else "skipped"


def shut_words(node: NodeView, now_ms: int, zone: tzinfo = UTC, brief: bool = False) -> str:
    """Why no job may start on a node, in a few words; empty where one may. ``brief``: not since when it is closed."""
    if node.quiet_since_ms is not None:
        return f"no answer since {clock_time(node.quiet_since_ms, now_ms, zone)}"
    if not node.closed:
        return ""
    return f"closed{'' if brief else closed_since(node, now_ms, zone)}: {node.closed}"


def closed_since(node: NodeView, now_ms: int, zone: tzinfo = UTC) -> str:
    """`` since 09:12``, to be put behind a word for closed; empty where that isn't known."""
    return f" since {clock_time(node.closed_since_ms, now_ms, zone)}" if node.closed_since_ms is not None else ""


def copying_words(copy: Copying) -> str:
    """A copy that is under way, in a sentence's words."""
    what = "its files are copied there" if copy.way == "in" else "what it made is copied back"
    left = f", about {format_duration(copy.left_s, 1)} left" if copy.left_s is not None else ""
    return f"{what}, {format_bytes(copy.done)} of {format_bytes(copy.total)} so far{left}"


def host_words(host: HostState) -> str:
    """Word what is known of a host beside its jobs, in a sentence's words."""
    told = [f"Host {host.host}"]
    told += [f"its clock is {off_words(host.ahead_ms)}"] if host.ahead_ms is not None else []
    told += (
        [f"limits by {'control groups' if host.groups else 'watching'}", f"agent {host.version}"]
        if host.version
        else []
    )
    told += [host.problem] if host.problem else []
    return ", ".join(told)


def start_in_short(view: JobView, now_ms: int, zone: tzinfo = UTC) -> str:
    """When a waiting job starts, for a row: ``about 10:40``; where that can't be pointed at, ``10:21 to Wed 11:55``."""
    clock = partial(clock_time, now_ms=now_ms, zone=zone)
    known = range_now(view.range, now_ms)
    if known is None:
        return f"about {clock(view.forecast_ms or 0)}"
    width, wait = known.late_ms - known.early_ms, known.likely_ms - now_ms
    if width <= wait / 2 and width < DAY_MS:
        return f"about {clock(known.likely_ms)}"
    return f"{'now' if known.early_ms <= now_ms else clock(known.early_ms)} to {clock(known.late_ms)}"


def range_now(known: StartRange | None, now_ms: int) -> StartRange | None:
    """The rest of a range: nothing of it lies before the present. None when all of it is over."""
    if known is None or known.late_ms <= now_ms:
        return None
    return replace(known, early_ms=max(now_ms, known.early_ms), likely_ms=max(now_ms, known.likely_ms))


PHRASES = {
    Phase.WAITING: "waits for its turn, or for room",
    Phase.BLOCKED: "waits for other jobs",
    Phase.HELD: "does not start until it is released",
    Phase.DONE: "did what it was to do",
    Phase.FAILED: "ended with an error",
    Phase.OVERTIME: "reached its walltime",
    Phase.OVERMEMORY: "ran out of its memory",
    Phase.CANCELLED: "somebody stopped it",
    Phase.LOST: "its node was lost",
    Phase.SKIPPED: "what it waited for did not come",
}
"""Meanings of all states but *running*, in plain words."""


def start_words(view: JobView, now_ms: int, zone: tzinfo = UTC) -> str:
    """When a waiting job likely starts, as ``about 10:09; 8 times in 10 between 09:55 and 10:21``; empty where unknown."""
    likely = likely_start_ms(view, now_ms)
    if likely is None:
        return ""
    by_range = (
        range_words(view.range, None, now_ms, zone) if view.forecast_ms is None or view.forecast_ms > now_ms else ""
    )
    return by_range or ("now" if likely <= now_ms else f"about {clock_time(likely, now_ms, zone)}")


def likely_start_ms(view: JobView, now_ms: int) -> int | None:
    """The middle of the range in which a job starts; without one its start by the plan."""
    left = range_now(view.range, now_ms)
    if left is not None and (view.forecast_ms is None or view.forecast_ms > now_ms):
        return left.likely_ms
    return view.forecast_ms


def sooner_words(
    view: JobView, changes: Iterable[Suggestion], now_ms: int, zone: tzinfo = UTC
) -> Iterator[tuple[Suggestion, str]]:
    """Requests with which a job would start before it likely does, each with how much sooner than that.

    A start with another request is the one by the plan, in which all that runs takes its whole walltime: it may well be earlier.
    """
    likely = likely_start_ms(view, now_ms)
    for change in changes:
        if likely is not None and change.start_ms >= likely:
            continue
        if change.at_once or change.start_ms <= now_ms:
            yield change, f"It would start now {change.how}."
            continue
        gain = "" if likely is None else f", {format_duration((likely - change.start_ms) // 1000)} sooner"
        yield change, f"It would start by {clock_time(change.start_ms, now_ms, zone)}{gain}, {change.how}."


def range_words(known: StartRange | None, by_plan_ms: int | None, now_ms: int, zone: tzinfo = UTC) -> str:
    """``about 10:40; 8 times in 10 between 10:21 and 11:55; by the plan 13:28``; empty without a range."""
    left = range_now(known, now_ms)
    if left is None or (by_plan_ms is not None and by_plan_ms <= now_ms):
        return ""
    clock = partial(clock_time, now_ms=now_ms, zone=zone)
    between, late = "now" if left.early_ms <= now_ms else clock(left.early_ms), clock(left.late_ms)
    told = [f"about {clock(left.likely_ms)}"]
    if between != late:  # else both are the same to the minute
        told.append(f"8 times in 10 between {between} and {late}")
    if by_plan_ms is not None:
        told.append(f"by the plan {clock(by_plan_ms)}")
    return "; ".join(told)


def all_done_words(view: ChainView, zone: tzinfo = UTC, short: bool = False) -> str:
    """``all done about 14:20, at the latest 20:00``, or ``short`` its beginning; empty where no end is in sight."""
    if view.ends_ms is None:
        return ""
    latest, likely = clock_time(view.ends_ms, view.now_ms, zone), view.likely_end_ms
    if likely is None or view.now_ms >= likely or likely >= view.ends_ms:
        return f"all done about {latest}" + ("" if short else " at the latest")
    return f"all done about {clock_time(likely, view.now_ms, zone)}" + ("" if short else f", at the latest {latest}")


def took_words(ms: int) -> str:
    """Word the time of a part: with a decimal where it was short."""
    return f"{ms / 1000:.1f}s" if ms < 60_000 else format_duration(ms / 1000)


def spread_told(spread: Spread) -> str:
    """The tasks that a job spread, by how they stand: ``312 of 2,000 done, 3 failed, 8 under way``."""
    told = [f"{spread.done:,} of {spread.tasks:,} done"]
    counts = ((spread.failed, "failed"), (spread.running, "under way"), (spread.stopped, "stopped"))
    return ", ".join([*told, *(f"{count:,} {word}" for count, word in counts if count)])


def chain_state(members: Sequence[JobView]) -> tuple[Phase, str]:
    """The state of a chain's jobs together, and how many of them are over: ``2 of 5 done, 1 running``."""
    counts = Counter(view.phase for view in members)
    ended = sum(count for phase, count in counts.items() if phase.final)
    order = [*FAILING, Phase.RUNNING, Phase.WAITING, Phase.HELD, Phase.BLOCKED]
    phase = next((one for one in order if counts[one]), Phase.DONE)
    if ended == len(members) and not any(counts[one] for one in FAILING):
        phase = Phase.DONE if counts[Phase.DONE] else Phase.CANCELLED
    told = [f"{counts[Phase.DONE]} of {len(members)} done"]
    told += [f"{counts[one]} {one.value}" for one in (Phase.RUNNING, *FAILING, Phase.HELD) if counts[one]]
    return phase, ", ".join(told)


def counts_words(view: JobView) -> str:
    """An array's tasks by state: ``12 of 40 done, 4 running``."""
    counts = dict(view.counts)
    total = sum(counts.values())
    order = ("done", "running", *(phase.value for phase in Phase if phase.final and phase is not Phase.DONE))
    others = [f"{counts[word]:,} {word}" for word in order if word != "done" and counts.get(word)]
    return ", ".join([f"{counts.get('done', 0):,} of {total:,} done", *others])


def now_words(detail: JobDetail) -> str:
    """The tasks of an array by their newest runs: ``24 of 24 done, with 22 as 10/22``."""
    counts = dict(detail.counts_now)
    total = sum(counts.values())
    others = [f"{count:,} {word}" for word, count in counts.items() if word != "done"]
    first = [f"{view.task} as {view.label}" for view in detail.again[:SHOWN_FAILED]]
    more = ", …" if len(detail.again) > SHOWN_FAILED else ""
    told = ", ".join([f"{counts.get('done', 0):,} of {total:,} done", *others])
    return f"{told}, with {', '.join(first)}{more}"


def failed_words(view: JobView) -> str:
    """The tasks of an ended array that did not succeed: ``1 of 5 tasks failed: 6``; empty when all did."""
    counts = dict(view.counts)
    failed, total = sum(counts.get(phase.value, 0) for phase in FAILING), sum(counts.values())
    if not failed or not view.phase.final:
        return ""
    shown = ", ".join(str(number) for number in view.failed_tasks[:SHOWN_FAILED])
    more = ", …" if shown and failed > SHOWN_FAILED else ""
    return f"{failed:,} of {plural(total, 'task')} failed{': ' if shown else ''}{shown}{more}"


def outcome_words(view: JobView) -> str:
    """The outcome of a job, as short as it can be said beside its sign."""
    if view.rows and failed_words(view):
        return failed_words(view).split(":")[0].replace(" tasks", "").replace(" task", "")
    if view.rows:
        return counts_words(view).split(",")[0]
    match view.phase:
        case Phase.DONE:
            return _took(view)
        case Phase.FAILED:
            return _how(view)
        case Phase.RUNNING:
            return f"{format_duration(view.attempt_s, 1)} of {format_duration(view.walltime_s)}"
    return view.phase.value


def _took(view: JobView) -> str:
    return format_duration(view.attempt_s) if view.attempt_s else "under 1s"


def _how(view: JobView) -> str:
    if view.signal:
        return view.signal
    if view.exit is None:
        return "did not start"
    return view.reason if view.exit == 0 and view.reason else f"exit {view.exit}"


def _why_lost(view: JobView) -> str:
    return view.reason.partition(";")[0] or "its node went"


def how_words(view: JobView) -> str:
    """Word the end of a task that did not succeed: ``exit 3``, ``overtime``, ``over its memory``."""
    return {Phase.FAILED: _how(view), Phase.OVERMEMORY: "over its memory", Phase.LOST: _why_lost(view)}.get(
        view.phase, view.phase.value
    )


def spans_words(view: JobView) -> str:
    """Word the times that a job waited, ran, and took in all if that is another figure; empty before it has started."""
    if view.started_ms is None:
        return ""
    attempts = f" in {plural(view.attempt, 'attempt')}" if view.attempt > 1 and not view.rows else ""
    ran = f"{'ran' if view.ended_ms else 'runs'} {format_duration(view.elapsed_s)}{attempts}"
    words = f"waited {format_duration(view.waited_before_ms // 1000)}, {ran}"
    took_s = (view.ended_ms - view.submitted_ms) // 1000 if view.ended_ms else 0
    return f"{words}, {format_duration(took_s)} in all" if took_s > view.elapsed_s else words


def spread_words(spread: tuple[Figure, Figure, Figure], show: Callable[[Figure], str]) -> str:
    """A spread as people read it: ``6m, from 2m to 14m``; just one figure where all are alike."""
    least, middle, most = (show(figure) for figure in spread)
    return middle if least == most else f"{middle}, from {least} to {most}"


def outlier_words(one: Outlier) -> str:
    """A task that is unlike the rest: ``4127/12 (grid=fine) ran 3h, half of all at most 20m``."""
    show, did = (format_duration, "ran") if one.measure == "took_s" else (format_size, "used")
    values = ", ".join(f"{name}={value}" for name, value in one.parameters)
    return (
        f"{one.label}{f' ({values})' if values else ''} {did} {show(one.value)}, half of all at most {show(one.usual)}"
    )


_MEANS = {
    2: "often wrong options or a missing file",
    124: "its time was over, says timeout",
    126: "the command was found and can't be executed",
    127: "a command was not found",
    134: "it ended itself with abort",
    137: "something ended it with SIGKILL, often for its memory",
    139: "it reached for memory that is not its own: segmentation fault",
    143: "something told it to end with SIGTERM",
}


def exit_means(status: int | None) -> str:
    """Say what an exit status commonly means; empty where it is the program's own."""
    if status in _MEANS:
        return _MEANS[status]
    if status is not None and 128 < status < 128 + 65:
        return f"a signal ended what it ran, number {status - 128}"
    return ""


def outcome_reason(view: JobView, silent: bool = False) -> str:
    """Why a job ended as it did, in a word (docs/commands.md says what they mean); empty for one that has not ended."""
    if not view.phase.final:
        return ""
    if view.rows:
        return "done" if view.phase is Phase.DONE else "tasks"
    if view.phase is Phase.DONE:
        return "silent" if silent else "done"
    if view.phase is Phase.FAILED:
        if view.signal:
            return "signal"
        if view.exit is None:
            return "not-started"
        return "missing-result" if view.exit == 0 else "exit"
    return view.phase.value


def verdict(view: JobView, evidence: Evidence | None = None) -> str:
    """The outcome of a job, in a sentence or two; with evidence, and what is behind it."""
    words = _verdict(view)
    if evidence is None:
        return words
    wrong = [_wrong_words(one) for one in evidence.wrong_files]
    if view.phase is Phase.DONE and evidence.casts_doubt:
        told = [*wrong, *([f"it printed “{evidence.errors[-1][:120]}”"] if evidence.errors else [])]
        return f"{words.rstrip('.')}, but perhaps not well: {'; '.join(told[:3])}."
    if view.phase is Phase.FAILED and view.exit and (means := exit_means(view.exit)):
        words = words.replace(f"exit {view.exit}", f"exit {view.exit}: {means}", 1)
    inside = view.inside
    last = next((part for part in reversed(inside.parts) if not part.over or part.exit != 0), None) if inside else None
    if last is not None and view.phase is not Phase.DONE:
        within = not last.over or (
            last.signal and view.phase is not Phase.FAILED
        )  # what stops a job may end its part first
        words += f" It was in {last.name}." if within else f" Its part {last.name} failed."
    if evidence.errors and view.phase in (Phase.FAILED, Phase.OVERMEMORY):
        words += f" It printed “{evidence.errors[-1][:160]}”."
    return words


def _wrong_words(one: FileFound) -> str:
    """Word the fault of a promised file: ``levels.csv is empty``, ``levels.csv: row 2 has 1 cell``."""
    what = one.problem
    between = ": " if what.startswith(("row ", "no ", "its ", "by its")) else " is "
    return f"{one.path.rpartition('/')[2]}{between}{what}"


def _verdict(view: JobView) -> str:
    took = _took(view)
    limit = format_duration(view.walltime_s)
    if view.rows and view.phase.final:
        words = f"{view.phase.value.capitalize()} {'in' if view.phase is Phase.DONE else 'after'} {took}"
        told = f"{words}: {failed_words(view) or counts_words(view)}"
        return told if told.endswith("…") else f"{told}."
    match view.phase:
        case Phase.DONE:
            return f"Done in {took}, exit 0." + (f" {_sentence(view.reason)}" if view.reason else "")
        case Phase.FAILED:
            if view.signal:
                words = f"Failed after {took}: ended by {view.signal}."
            elif view.exit is None:
                return f"It did not start: {view.reason}."
            elif view.exit == 0 and view.reason:
                return f"Failed after {took}, though it ended with exit 0: {_sentence(view.reason, capital=False)}"
            else:
                words = f"Failed after {took} with exit {view.exit}."
            return words + (f" {_sentence(view.reason)}" if view.reason else "")
        case Phase.OVERTIME:
            return f"Stopped at its walltime of {limit}. It was not done; ask for more, or save its work earlier."
        case Phase.OVERMEMORY:
            peak = format_size(view.memory_peak_mib)
            return f"Stopped after {took}: it used {peak} and had requested {format_size(view.memory_mib)}."
        case Phase.CANCELLED:
            return _sentence(view.reason) if view.reason else f"Cancelled after {took}."
        case Phase.LOST:
            return f"Lost after {took}: {view.reason or 'its node went'}."
        case Phase.SKIPPED:
            if view.planned:
                return f"Skipped as planned, for it was not needed: {view.reason}."
            return f"Skipped: {view.reason or 'what it depends on can no longer happen'}."
    return ""


def _sentence(reason: str, capital: bool = True) -> str:
    """A reason as a sentence of its own."""
    words = reason.strip(" .;")
    return f"{words[:1].upper() if capital else words[:1]}{words[1:]}."


def ordinal(place: int) -> str:
    """``1st``, ``12th``, ``1,023rd``."""
    ending = "th" if 10 <= place % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(place % 10, "th")
    return f"{place:,}{ending}"


def standing_words(parts: StandingParts) -> str:
    """A standing and its parts: ``its standing (priority, in hours of waiting) is 14.2: waited 1.2, account +8.5, user +2.0``."""
    told = [f"waited {parts.waited:.1f}"]
    told += [f"{name} {hours:+.1f}" for name, hours in parts.named() if name != "waited" and abs(hours) >= 0.05]
    return f"its standing (priority, in hours of waiting) is {parts.total:.1f}: {', '.join(told)}"


def site_words(site: SiteView, now_ms: int, zone: tzinfo = UTC) -> str:
    """A site in a line: where it runs, which version, since when, and whom to ask."""
    told = [f"on {site.host}"] if site.host else []
    told += [f"Lazy Quarry {site.version}", f"since {clock_time(site.since_ms, now_ms, zone)}"]
    ask = [word for word in (site.head, site.contact) if word]
    return f"{site.name}: {', '.join(told)}" + (f"; ask {', '.join(ask)}" if ask else "")


LEAST_BUSY = 0.5
"""Cores of others' that are worth a word."""


def others_words(busy: float) -> str:
    """Say how many cores of this machine others keep busy."""
    return f"about {busy:.1f} cores are busy with what isn't this site's"


def storage_words(area: StorageArea) -> str:
    """A storage area in a few words: where it is seen, whether it is backed up, what it is fit for."""
    told = ["on every node" if area.shared else "on each node by itself", "backed up" if area.kept else "not backed up"]
    told.append("fit for heavy reading and writing" if area.heavy else "not for heavy reading and writing")
    return "; ".join([", ".join(told), *([area.note] if area.note else [])])
