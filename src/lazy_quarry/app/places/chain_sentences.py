"""Sentences of Chain: about the chain or the job under the cursor; and which keys work."""

from datetime import tzinfo

from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.core.units import clock_time, format_core_hours, format_duration, plural
from lazy_quarry.site.chain_views import ChainReceipt, ChainReport, ChainView, PartView
from lazy_quarry.site.sentences import range_words

WHY_NOT = {
    **dict.fromkeys(("h", "r", "x", "u"), "on a chain that was submitted"),
    **dict.fromkeys([*"fwaldcp", "delete", "ctrl+z", "ctrl+y", "ctrl+s"], "on a chain that is open as a file"),
    "f3": "on a job that is an array",
    "ctrl+g": "with a chain file that was opened",
}
EMPTY = (
    "A chain is a file of jobs and of what each waits for. o opens one, or begins one that is not there; it is rehearsed "
    "before it is submitted."
)


def note(view: ChainView | None, part: PartView | None, report: ChainReport | None, zone: tzinfo) -> str:
    """A sentence or two."""
    worst = next((one for _, one in report.findings if one.severity == "error"), None) if report else None
    if worst is not None and (view is None or not view.number):
        return f"Line {worst.line}, must change: {worst.message}."
    if view is None:
        return EMPTY
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


def drawing_words(kind: str, first: str, condition: str) -> str:
    """What is being drawn, or cut."""
    if kind == "link":
        return f"A line from {first}: go to the job that waits for it, l there ends the line: {condition}. c: another condition."
    return f"A tie of {first} is to be cut: go to the job at its other end and press d. escape leaves it."


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
    if one.view is not None and (ranged := range_words(one.view.range, None, view.now_ms, zone)):
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


def keys(view: ChainView | None, opened: bool, playing: bool = False, drawing: str = "") -> list[KeyHint]:
    """The keys that work on a chain."""
    if drawing:
        leave: KeyHint = ("esc", "leave it", "app.place_action('leave_off')")
        if drawing == "link":
            turn: KeyHint = ("c", "another condition", "app.place_action('condition')")
            return [("l", "ends the line", "app.place_action('link')"), turn, leave]
        return [("d", "cuts it", "app.place_action('unlink')"), leave]
    if playing:
        return [
            ("p", "stop", "app.place_action('play')"),
            (">", "faster", "app.place_action('pace(2)')"),
            ("<", "slower", "app.place_action('pace(0.5)')"),
        ]
    found: list[KeyHint] = []
    if opened:
        found += [
            ("ctrl+g", "submit", "app.place_action('submit')"),
            ("p", "play", "app.place_action('play')"),
            ("a", "add", "app.place_action('add')"),
            ("l", "link", "app.place_action('link')"),
            ("d", "unlink", "app.place_action('unlink')"),
            ("enter", "as a draft", "app.place_action('open')"),
            ("f", "it fails", "app.place_action('suppose_fails')"),
            ("w", "twice as long", "app.place_action('suppose_slower')"),
            ("ctrl+z", "undo", "app.place_action('undo')"),
            ("ctrl+s", "save", "app.place_action('save')"),
        ]
    if view is not None and view.number:
        found += [
            ("h", "hold", "app.place_action('hold')"),
            ("r", "release", "app.place_action('release')"),
            ("x", "cancel", "app.place_action('cancel')"),
            ("u", "continue", "app.place_action('go_on')"),
        ]
    found.append(("o", "open a file", "app.place_action('ask')"))
    if view is not None:
        found += [("tab", "its jobs", "app.place_action('side')"), ("ctrl+e", "a figure", "app.figure")]
    return found


def all_keys() -> list[KeyHint]:
    """All of them, for those who look for one."""
    return [
        ("o", "open a chain file, or begin one", ""),
        ("a", "add a job after the one under the cursor", ""),
        ("l", "link: here, then at the job that waits for it", ""),
        ("d", "unlink: here, then at the other job", ""),
        ("c", "the next condition: succeeds, fails, finishes …", ""),
        ("del", "take the job out", ""),
        ("enter", "a job as a draft; one submitted in Review", ""),
        ("ctrl+z ctrl+y", "undo, redo", ""),
        ("ctrl+s", "save the file", ""),
        ("f w", "suppose it fails, or takes twice as long", ""),
        ("p > <", "play the rehearsal, faster, slower", ""),
        ("ctrl+g", "submit the chain", ""),
        ("h r x", "hold, release, cancel one that was submitted", ""),
        ("u", "continue: run again what failed", ""),
        ("f3", "the tasks of an array", ""),
        ("z", "fold jobs that are alike, or unfold", ""),
        ("tab", "chains, jobs", ""),
        ("ctrl+e", "a figure to take along", ""),
        ("mouse", "drag between jobs: ties or cuts; click lines", ""),
    ]
