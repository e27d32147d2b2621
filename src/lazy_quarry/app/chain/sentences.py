"""Sentences of Chain: about the chain or the job under the cursor; and which keys work."""

from datetime import tzinfo

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.core.units import clock_time, format_core_hours, format_duration, plural
from lazy_quarry.views.chain_views import ChainReceipt, ChainReport, ChainView, PartView
from lazy_quarry.wording.sentences import all_done_words, range_words

_CONDITION = {
    "succeeds": "once {} is done",
    "fails": "if {} fails",
    "finishes": "once {} has ended, well or not",
    "begins": "once {} has begun",
    "each-succeeds": "task by task, as each of {} is done",
}
_FILE = "on a chain that is open as a file"
WHY_NOT = {
    **dict.fromkeys(("hold", "release", "cancel", "again_failed"), "on a chain that was submitted"),
    **dict.fromkeys(
        (
            "suppose_fails",
            "suppose_slower",
            "add",
            "link",
            "unlink",
            "change",
            "rehearse",
            "remove",
            "undo",
            "redo",
            "save",
        ),
        _FILE,
    ),
    "tasks": "on a job that is an array",
    "output": "on a job that was submitted",
    "submit": "with a chain file that was opened",
}
EMPTY = (
    f"A chain is a file of jobs and of what each waits for. {key_of('open_file')} opens one, or begins one that is not "
    "there; it is rehearsed before it is submitted."
)


def note(view: ChainView | None, part: PartView | None, report: ChainReport | None, zone: tzinfo) -> str:
    """A sentence or two."""
    worst = next((one for _, one in report.findings if one.severity == "error"), None) if report else None
    if worst is not None and worst.code == "chain-empty" and (view is None or not view.parts):
        return f"A chain without jobs yet. {key_of('add')} adds the first one: its name, then the path of its script or a command."
    if worst is not None and (view is None or not view.number):
        return f"Line {worst.line}, must change: {worst.message}."
    if view is None:
        return EMPTY
    return part_words(part, view, zone) if part else chain_words(view, zone)


def chain_words(view: ChainView, zone: tzinfo) -> str:
    """When it is done, and what it costs at most."""
    told = f"{view.name}: {plural(len(view.parts), 'job')}"
    if view.number and not view.left:
        return f"Chain {view.number} {told}, {view.state}. {key_of('again_failed')} runs again what failed."
    ends = all_done_words(view, zone) or "no end in sight"
    cost = f", at most {format_core_hours(view.most_core_ms)} core-hours" if view.most_core_ms else ""
    if view.likely_core_ms is not None:
        cost += f", probably {format_core_hours(view.likely_core_ms)} by earlier runs of these names"
    more = "" if view.number else f" {key_of('submit')} submits it."
    return f"{'Chain ' + str(view.number) + ' ' if view.number else ''}{told}; {ends}{cost}.{more}"


def drawing_words(kind: str, first: str, condition: str) -> str:
    """Say what is being drawn, or cut."""
    if kind == "link":
        ends, other = key_of("link"), key_of("change")
        return f"A line from {first}: go to the job that waits for it, {ends} there ends it: {condition}; {other} changes that."
    return (
        f"A tie of {first} is to be cut: go to the job at its other end and press {key_of('unlink')}. escape leaves it."
    )


def part_words(one: PartView, view: ChainView, zone: tzinfo) -> str:
    """One of its jobs."""
    told = [f"{one.name}{f' ({one.job})' if one.job else ''}"]
    if one.phase is not None:
        told.append(one.phase.value)
    if one.cores:
        tasks = f"{plural(one.tasks, 'task')} of " if one.tasks else ""
        told.append(f"{tasks}{plural(one.cores, 'core')}, {format_duration(one.walltime_s)}")
    told += [f"runs {_CONDITION[condition].format(other)}" for other, condition in one.after]
    if one.starts_ms is not None and one.ends_ms is not None and (one.phase is None or not one.phase.final):
        begin, end = (clock_time(at, view.now_ms, zone) for at in (one.starts_ms, one.ends_ms))
        told.append(f"{begin} to {end} at the latest")
    words = ", ".join(told) + "."
    if ranged := range_words(one.range, None, view.now_ms, zone):
        words += f" It starts {ranged}."
    if one.critical:
        words += " It is critical: if it is late, all is."
    elif one.slack_ms:
        words += f" It may slip by {format_duration(one.slack_ms / 1000)}."
    return words + (f" {one.reason[:1].upper()}{one.reason[1:]}." if one.reason else "")


def first_words(receipt: ChainReceipt) -> str:
    """The first thing that must change."""
    one = next(one for _, one in receipt.findings if one.severity == "error")
    return f"line {one.line}, {one.message}"


def acts(
    view: ChainView | None, part: PartView | None, opened: bool, playing: bool = False, drawing: str = ""
) -> list[Hint]:
    """The acts on a chain, and on its job under the cursor."""
    if drawing:
        ends: Hint = ("link", "ends the line") if drawing == "link" else ("unlink", "cuts it")
        return [ends, *([("change", "another condition")] if drawing == "link" else []), ("back", "leave it")]
    if playing:
        return [("rehearse", "stop"), "play_faster", "play_slower", ("back", "stop"), "submit"]
    found: list[Hint] = []
    if opened:
        found += [
            "submit",
            ("rehearse", "play"),
            "add",
            "link",
            "unlink",
            ("change", "condition"),
            ("open", "as a draft"),
        ]
        found += ["suppose_fails", "suppose_slower", "remove", "undo", "redo", "save"]
    if part is not None and part.tasks:
        found.append("tasks")
    if part is not None and part.job:
        found.append("output")
    if view is not None and view.number:
        found += ["hold", "release", "cancel", "again_failed"]
    found.append(("open_file", "open a file"))
    return [*found, ("side", "its jobs"), "script", "figure", "table"] if view is not None else found
