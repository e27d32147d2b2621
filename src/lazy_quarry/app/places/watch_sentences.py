"""Sentences of Watch: about the row under the cursor, the choice of rows, what would be lost; and which keys work."""

from datetime import tzinfo

from lazy_quarry.app.key_hint import KeyHint
from lazy_quarry.app.watch_list import Choice, Row
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration, plural
from lazy_quarry.site.board import Board
from lazy_quarry.site.job_view import JobView
from lazy_quarry.site.sentences import counts_words, range_words, verdict
from lazy_quarry.site.views import Outcome

CHANGE_KEYS: list[KeyHint] = [
    ("enter", "make the change", ""),
    ("↑ ↓", "choose", ""),
    ("escape", "leave it", "app.place_action('back')"),
]
ALL_KEYS: list[KeyHint] = [
    ("enter", "inspect the job in Review", ""),
    ("w", "why it waits, who is ahead, what would help", ""),
    ("e", "change its request, with the ladder beside it", ""),
    ("o", "follow its output", ""),
    ("h r x", "hold, release, cancel", ""),
    ("u U", "run again what has ended; of an array only what failed", ""),
    ("t T", "mark a job, or all of mine that are shown", ""),
    ("⇧↑ ⇧↓", "before or behind another of mine", ""),
    ("a", "open or fold an array, a chain, a node, a group", ""),
    ("f3", "an array's tasks with their commands and files, also those to come", ""),
    ("/", "find", ""),
    ("s g", "sort by, group by", ""),
    ("m", "mine, my accounts', everyone's", ""),
    ("b", "lanes by node, or by job", ""),
    ("c", "columns: which, and how wide", ""),
    ("B", "tell me when this job ends", ""),
    ("[ ] ← → n", "zoom, earlier, later, now", ""),
    ("escape", "close the pane, end the search, unmark", ""),
]

WHY_NOT = {
    "f3": "on an array",
    "enter": "on a job",
    "w": "on a job that waits",
    "e": "on a job of yours that waits",
    "o": "on a job that runs or has ended",
    "a": "on an array, a node or a group",
    "h": "on a job of yours that waits, or with marks",
    "r": "on a job of yours that is held, or with marks",
    "x": "on a job of yours that hasn't ended, or with marks",
    "u": "on a job of yours that has ended",
    "U": "on an array of yours some task of which failed",
    "t": "on a job",
    "⇧↑": "on a job of yours that waits",
    "⇧↓": "on a job of yours that waits",
}
"""Where keys work that depend on the row under the cursor."""


def choice_words(choice: Choice, marked: int) -> str:
    """What rows are sorted by, grouped by and searched for."""
    told = ["by node"] if choice.by_node else []
    told += [f"sorted by {choice.sort}"] if choice.sort != "turn" and not choice.by_node else []
    told += [f"grouped by {choice.group}"] if choice.group and not choice.by_node else []
    told += [f"with “{choice.find}”"] if choice.find else []
    told += [f"{marked} marked"] if marked else []
    return ", ".join(told)


def empty_words(choice: Choice) -> str:
    """What to do where there is no row."""
    if choice.find:
        return f"Nothing here has “{choice.find}”. escape clears it; m looks among other people's."
    if choice.by_node:
        return "None of your jobs is on a node. m shows everyone's."
    return "No jobs here. 2 goes to Draft, where one is written and submitted; m shows other people's."


def row_words(row: Row, board: Board) -> str:
    """A sentence about a group or a node."""
    if row.key[0] == "rest":
        return f"{row.words}: they start as others end. h holds them, x cancels them; a folds the array."
    if row.members:
        what = ", ".join(f"{view.label} {view.name} {view.phase}" for view in row.members[:5])
        return f"Chain {row.key[1]} {row.words}: {what}. a shows its jobs, enter opens it in Chain; h and x are for all of it."
    if row.node is None:
        return f"{row.key[1]}: {row.words}. a folds it or opens it; g groups by something else."
    node = row.node
    if node.closed:
        return f"{node.name} takes no jobs: {node.closed}. What runs there goes on."
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
    return f"{words}. a shows its jobs and those expected."


def job_words(view: JobView, board: Board, zone: tzinfo, instead: str) -> str:
    """What a job does or waits for, what would start sooner, and what somebody should see to."""
    name = f"{view.label} {view.name}"
    if view.rows and not view.phase.final and view.phase is Phase.RUNNING:
        nodes = f" on {fold_names(view.nodes)}" if view.nodes else ""
        charged = f"{format_core_hours(view.charge_core_ms)} core-hours charged so far."
        return f"{name}: {counts_words(view)}{nodes}. {charged} a shows its tasks."
    if view.phase is Phase.RUNNING:
        return _running(view, name, board, zone)
    if view.phase.final:
        return f"{name}: {verdict(view)}"
    words = f"{name} {view.why}" if view.why.startswith("waits") else f"{name}: {view.why}"
    if view.phase is Phase.BLOCKED and view.forecast_ms is not None:
        words += f"; if all goes well it starts about {clock_time(view.forecast_ms, board.now_ms, zone)}"
    if ranged := range_words(view.range, view.forecast_ms, board.now_ms, zone):
        words = f"{words.rstrip('.')}. It starts {ranged}"
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
    words = f"{name} runs on {where} and has {left} left, until {clock_time(limit, board.now_ms, zone)}."
    if view.warning:
        return f"{words} {view.warning[:1].upper()}{view.warning[1:]}."
    return f"{words} {format_core_hours(view.charge_core_ms)} core-hours charged so far."


def cancel_question(views: list[JobView]) -> str:
    """What would be lost, when something runs; empty when nothing does."""
    running = [view for view in views if view.phase is Phase.RUNNING]
    if not running:
        return ""
    lost = format_core_hours(sum(view.charge_core_ms for view in running))
    if len(views) == 1:
        view = views[0]
        tasks = dict(view.counts).get("running", 0)
        what = f"{plural(tasks, 'running task')} of " if view.rows and tasks else ""
        where = f", which runs on {plural(len(view.nodes), 'node')}" if not view.rows else ""
        return f"Cancel {what}{view.label} {view.name}{where}? {lost} core-hours of work so far would be lost."
    run = "runs" if len(running) == 1 else "run"
    return f"Cancel {plural(len(views), 'job')}, of which {len(running)} {run}? {lost} core-hours of work so far would be lost."


def outcome_words(outcomes: list[Outcome], settings: str) -> str:
    """The outcome of a command; ``settings`` are those of a change."""
    bad = [one for one in outcomes if not one.done]
    words = bad[0].message if bad else outcomes[0].message if outcomes else ""
    if len(outcomes) > 1:
        words = f"{len(outcomes) - len(bad)} of {len(outcomes)} done" + (f"; {words}" if bad else "")
    if settings and not bad:
        words += f": {settings}"
    return f"{words[:1].upper()}{words[1:]}."


def keys_of(row: Row | None, user: str, marked: int, pane: str) -> list[KeyHint]:
    """The keys that work here and now, most useful first."""
    keys: list[KeyHint] = []

    def add(key: str, words: str, action: str) -> None:
        keys.append((key, words, f"app.place_action('{action}')"))

    view = row.view if row else None
    if pane != "context":
        add("escape", "close", "back")
    if view is not None:
        add("enter", "inspect", "open")
        own, live = view.user == user, not view.phase.final
        if view.phase in (Phase.WAITING, Phase.BLOCKED, Phase.HELD):
            add("w", "why", 'pane("why")')
            if own:
                add("e", "change", "change")
        if view.phase is Phase.RUNNING or view.phase.final:
            add("o", "output", 'pane("output")')
        if view.rows or view.parent is not None:
            add("a", "tasks", "unfold")
            add("f3", "commands", "tasks")
        if (own and view.phase is Phase.WAITING) or marked:
            add("h", "hold", 'do("hold")')
        if (own and view.phase is Phase.HELD) or marked:
            add("r", "release", 'do("release")')
        if (own and live) or marked:
            add("x", "cancel", "cancel")
        if own and view.phase.final:
            add("u", "run again", 'do("again")')
            if view.failed_tasks:
                add("U", "what failed of it", 'do("again_failed")')
        if own and view.phase is Phase.WAITING:
            add("⇧↑ ⇧↓", "among mine", "rank(-1)")
        add("t", "mark", "mark")
    elif row is not None and row.members:
        add("enter", "in Chain", "open")
        add("a", "its jobs", "unfold")
        add("h", "hold", 'do("hold")')
        add("r", "release", 'do("release")')
        add("x", "cancel", "cancel")
        add("t", "mark", "mark")
    elif row is not None:
        if row.key[0] == "rest":
            add("h", "hold", 'do("hold")')
            add("x", "cancel", "cancel")
        add("a", "open or fold", "unfold")
    add("/", "find", "find")
    add("m", "whose", "scope")
    add("b", "by node", "by_node")
    add("s", "sort", "sort")
    add("g", "group", "group")
    add("c", "columns", 'pane("columns")')
    add("[ ]", "zoom", "zoom(1)")
    add("← →", "time", "pan(1)")
    add("n", "now", "now")
    return keys
