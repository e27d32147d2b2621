"""Sentences of Watch: about the row under the cursor, the choice of rows, what would be lost; and which keys work."""

from datetime import tzinfo

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.key_hint import KeyHint
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.app.watch.watch_list import Choice, Row
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import closed_since, copying_words, counts_words, start_words, verdict

CHANGE_KEYS: list[KeyHint] = [
    ("enter", "make the change", ""),
    ("↑ ↓", "choose", ""),
    ("esc", "leave it", "app.click('back')"),
]
_MINE = "on a job of yours"
WHY_NOT = {
    "tasks": "on an array",
    "open": "on a job, a chain, a node or a group",
    "why": "on a job that waits",
    "change": f"{_MINE} that has not started",
    "output": "on a job that runs or has ended",
    "script": "on a job",
    "fold": "on an array, a chain, a node or a group",
    "hold": f"{_MINE} that waits, or with marks",
    "release": f"{_MINE} that is held, or with marks",
    "cancel": f"{_MINE} that hasn't ended, or with marks",
    "again": f"{_MINE} that has ended",
    "again_failed": "on an array of yours some task of which failed",
    "mark": "on a job",
    "before": f"{_MINE} that waits",
    "behind": f"{_MINE} that waits",
}
"""Where acts work that depend on the row under the cursor."""


def choice_words(choice: Choice, marked: int) -> str:
    """Word the sorting, grouping and search of rows."""
    told = ["by node"] if choice.by_node else []
    told += [f"sorted by {choice.sort}"] if choice.sort != "turn" and not choice.by_node else []
    told += [f"grouped by {choice.group}"] if choice.group and not choice.by_node else []
    told += [f"with “{choice.find}”"] if choice.find else []
    told += [f"{marked} marked"] if marked else []
    return ", ".join(told)


def empty_words(choice: Choice) -> str:
    """Say what to do where there is no row."""
    if choice.find:
        return f"Nothing here has “{choice.find}”. {key_of('back')} clears it; {key_of('whose')} looks among other people's."
    if choice.by_node:
        return f"None of your jobs is on a node. {key_of('whose')} shows everyone's."
    return f"No jobs here. 2 goes to Draft, where one is written and submitted; {key_of('whose')} shows other people's."


def row_words(row: Row, board: Board, zone: tzinfo) -> str:
    """A sentence about a group or a node."""
    if row.key[0] == "rest":
        keys = f"{key_of('hold')} holds them, {key_of('cancel')} cancels them; {key_of('fold')} folds the array"
        return f"{row.words}: they start as others end. {keys}."
    if row.members:
        what = ", ".join(f"{view.label} {view.name} {view.phase}" for view in row.members[:5])
        keys = f"{key_of('fold')} shows its jobs, enter opens it in Chain; {key_of('hold')} and {key_of('cancel')} are for all"
        return f"Chain {row.key[1]} {row.words}: {what}. {keys}."
    if row.node is None:
        return f"{row.key[1]}: {row.words}. {key_of('fold')} folds it or opens it; {key_of('group')} groups by something else."
    node = row.node
    if node.quiet_since_ms is not None:
        words = f"{node.name} has not answered since {clock_time(node.quiet_since_ms, board.now_ms, zone)}: nothing starts there"
        what = ", what runs there keeps its cores, and its true end is told when it answers" if node.occupants else ""
        return f"{words}{what}. If it is gone for good: lq node lost {node.name}."
    if node.closed:
        return f"{node.name} takes no jobs{closed_since(node, board.now_ms, zone)}: {node.closed}. What runs there goes on."
    who = sorted({occupant.user for occupant in node.occupants})
    first = min((occupant.until_ms for occupant in node.occupants), default=None)
    words = f"{node.name}: {row.words}"
    if who:
        words += f", used by {', '.join(who)}"
    if first is not None:
        words += f"; the next cores become free by {clock_time(first, board.now_ms)} at the latest"
    window = next((one for one in board.site.windows if node.name in one.nodes), None)
    if window is not None:
        words += f". From {clock_time(window.begins_ms, board.now_ms)} on: {window.reason}"
    return f"{words}. {key_of('fold')} shows its jobs and those expected."


def job_words(view: JobView, board: Board, zone: tzinfo, instead: str) -> str:
    """Say what a job does or waits for, what would start it sooner, and what somebody should see to."""
    name = f"{view.label} {view.name}"
    if view.rows and not view.phase.final and view.phase is Phase.RUNNING:
        nodes = f" on {fold_names(view.nodes)}" if view.nodes else ""
        charged = f"{format_core_hours(view.charge_core_ms)} core-hours charged so far."
        return f"{name}: {counts_words(view)}{nodes}. {charged} {key_of('fold')} shows its tasks."
    if view.phase is Phase.RUNNING:
        return _running(view, name, board, zone)
    if view.phase.final:
        return f"{name}: {verdict(view)}"
    words = f"{name} {view.why}" if view.why.startswith("waits") else f"{name}: {view.why}"
    if view.phase is Phase.BLOCKED and view.forecast_ms is not None:
        words += f"; if all goes well it starts about {clock_time(view.forecast_ms, board.now_ms, zone)}"
    if view.range is not None and (start := start_words(view, board.now_ms, zone)):
        words = f"{words.rstrip('.')}. Likely it starts {start}"
    warned = f" {view.warning[:1].upper()}{view.warning[1:]}." if view.warning and view.warning not in words else ""
    return f"{words.rstrip('.')}.{warned} {instead}"


def _running(view: JobView, name: str, board: Board, zone: tzinfo) -> str:
    limit = (view.started_ms or 0) + view.walltime_s * 1000
    left = format_duration(max(0, limit - board.now_ms) / 1000)
    if view.stopping == "gave-way":
        return f"{name} makes way for a job of another tier: it ends within {format_duration(view.grace_s)} and waits again."
    if view.stopping:
        return f"{name} is stopping and has {format_duration(view.grace_s)} to end by itself."
    where = fold_names(view.nodes)
    if view.quiet_since_ms is not None:
        since = clock_time(view.quiet_since_ms, board.now_ms, zone)
        gone = f"If the machine is gone for good: lq node lost {where}."
        return f"{name} runs on {where}, which has not answered since {since}. Its true end is told when that answers again. {gone}"
    if view.copying is not None:
        return f"{name} is on {where}: {copying_words(view.copying)}."
    words = f"{name} runs on {where} and has {left} left, until {clock_time(limit, board.now_ms, zone)}."
    if view.warning:
        return f"{words} {view.warning[:1].upper()}{view.warning[1:]}."
    return f"{words} {format_core_hours(view.charge_core_ms)} core-hours charged so far."


def acts_of(row: Row | None, user: str, marked: int, pane: str) -> list[Hint]:
    """The acts that can be done here and now, most useful first."""
    found: list[Hint] = [("back", "close")] if pane != "context" else []
    view = row.view if row else None
    if view is not None:
        found.append(("open", "in Review"))
        own, live = view.user == user, not view.phase.final
        waits = view.phase in (Phase.WAITING, Phase.BLOCKED, Phase.HELD) or bool(dict(view.counts).get("waiting"))
        if waits or pane == "why":
            found.append("why")
        if view.phase in (Phase.WAITING, Phase.BLOCKED, Phase.HELD) and own:
            found.append("change")
        if view.phase is Phase.RUNNING or view.phase.final or pane == "output":
            found.append("output")
        if view.rows or view.parent is not None:
            found += [("fold", "tasks"), ("tasks", "commands")]
        if (own and view.phase is Phase.WAITING) or marked:
            found.append("hold")
        if (own and view.phase is Phase.HELD) or marked:
            found.append("release")
        if (own and live) or marked:
            found.append("cancel")
        if own and view.failed_tasks:
            found.append("again_failed")
        if own and view.phase.final:
            found.append("again")
        if own and view.phase is Phase.WAITING:
            found += [("before", "among mine"), "behind"]
        found += ["mark", "script"]
    elif row is not None and row.members:
        found += [("open", "in Chain"), ("fold", "its jobs"), "hold", "release", "cancel", "mark"]
    elif row is not None:
        found += ["hold", "cancel"] if row.key[0] == "rest" else ["open"]
        found.append(("fold", "open or fold"))
    return [
        *found,
        "find",
        "whose",
        ("view", "by node"),
        "sort",
        "group",
        "columns",
        "figure",
        "table",
        "shorter",
        "now",
    ]
