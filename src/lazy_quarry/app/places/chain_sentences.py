"""Sentences of Chain: about the chain or the job under the cursor; and which keys work."""

from datetime import tzinfo

from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.core.units import clock_time, format_core_hours, format_duration, plural
from lazy_quarry.site.chain_views import ChainReceipt, ChainReport, ChainView, PartView

WHY_NOT = {
    **dict.fromkeys(("h", "r", "x", "u"), "on a chain that was submitted"),
    **dict.fromkeys(("f", "w"), "on a chain that was opened and not submitted"),
    "ctrl+g": "with a chain file that was opened",
}
EMPTY = "A chain is a file of jobs and of what each waits for. o opens one; it is rehearsed before it is submitted."


def note(view: ChainView | None, part: PartView | None, report: ChainReport | None, zone: tzinfo) -> str:
    """A sentence or two."""
    if view is None:
        worst = next((one for _, one in report.findings if one.severity == "error"), None) if report else None
        return f"Line {worst.line}, must change: {worst.message}." if worst else EMPTY
    return part_words(part, view, zone) if part else chain_words(view, zone)


def chain_words(view: ChainView, zone: tzinfo) -> str:
    """When it is done, and what it costs at most."""
    told = f"{view.name}: {plural(len(view.parts), 'job')}"
    if view.number and not view.left:
        return f"Chain {view.number} {told}, {view.state}. u runs again what failed."
    ends = (
        f"all done about {clock_time(view.ends_ms, view.now_ms, zone)} at the latest"
        if view.ends_ms
        else "no end in sight"
    )
    cost = f", at most {format_core_hours(view.most_core_ms)} core-hours" if view.most_core_ms else ""
    if view.likely_core_ms is not None:
        cost += f", probably {format_core_hours(view.likely_core_ms)} by earlier runs of these names"
    more = "" if view.number else " ctrl+g submits it."
    return f"{'Chain ' + str(view.number) + ' ' if view.number else ''}{told}; {ends}{cost}.{more}"


def part_words(one: PartView, view: ChainView, zone: tzinfo) -> str:
    """One of its jobs."""
    told = [f"{one.name}{f' ({one.job})' if one.job else ''}"]
    if one.phase is not None:
        told.append(one.phase.value)
    if one.cores:
        tasks = f"{plural(one.tasks, 'task')} of " if one.tasks else ""
        told.append(f"{tasks}{plural(one.cores, 'core')}, {format_duration(one.walltime_s)}")
    told += [f"after {other} {condition}" for other, condition in one.after]
    if one.starts_ms is not None and one.ends_ms is not None and (one.phase is None or not one.phase.final):
        begin, end = (clock_time(at, view.now_ms, zone) for at in (one.starts_ms, one.ends_ms))
        told.append(f"{begin} to {end} at the latest")
    words = ", ".join(told) + "."
    if one.critical:
        words += " It is critical: if it is late, all is."
    elif one.slack_ms:
        words += f" It may slip by {format_duration(one.slack_ms / 1000)}."
    return words + (f" {one.reason[:1].upper()}{one.reason[1:]}." if one.reason else "")


def first_words(receipt: ChainReceipt) -> str:
    """The first thing that must change."""
    one = next(one for _, one in receipt.findings if one.severity == "error")
    return f"line {one.line}, {one.message}"


def keys(view: ChainView | None, opened: bool) -> list[KeyHint]:
    """The keys that work on a chain."""
    found: list[KeyHint] = [("o", "open a file", "app.place_action('ask')")]
    if opened:
        found.append(("ctrl+g", "submit", "app.place_action('submit')"))
    if view is not None and not view.number:
        found += [("f", "suppose it fails", ""), ("w", "twice as long", "")]
    if view is not None and view.number:
        found += [
            ("h", "hold", "app.place_action('hold')"),
            ("r", "release", "app.place_action('release')"),
            ("x", "cancel", "app.place_action('cancel')"),
            ("u", "continue", "app.place_action('go_on')"),
        ]
    if view is not None:
        found += [("tab", "its jobs", "app.place_action('side')"), ("ctrl+e", "a figure", "app.figure")]
    return found
