"""Which rows Watch shows, in which order: a value made from the board and what the person has chosen.

Made in a worker, and only when the board or the choice has changed; so what is done at a key or a scroll
costs no more for a hundred thousand jobs than for a hundred.
"""

import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from lazy_quarry.core.job import Phase
from lazy_quarry.core.units import plural
from lazy_quarry.views import Board, JobView, NodeView

SCOPES = (("mine", "mine"), ("accounts", "my accounts"), ("everyone", "everyone"))
_ORDER = {Phase.RUNNING: 0, Phase.WAITING: 1, Phase.BLOCKED: 1, Phase.HELD: 2}
NEVER = 2**62


def _turn(view: JobView) -> tuple[int, int]:
    """Running, waiting, held, then what has ended, newest first; within these by time."""
    order = _ORDER.get(view.phase, 3)
    if order == 3:
        return order, -(view.ended_ms or 0)
    if order == 1:
        return order, view.forecast_ms if view.forecast_ms is not None else NEVER
    return order, view.started_ms or view.submitted_ms


SORTS: dict[str, Callable[[JobView], Any]] = {
    "turn": _turn,
    "number": lambda view: view.job,
    "name": lambda view: (view.name, view.job),
    "user": lambda view: (view.user, view.job),
    "cores": lambda view: (-view.cores, view.job),
    "waited": lambda view: ((view.started_ms or view.ended_ms or NEVER) - view.submitted_ms, view.job),
    "time left": lambda view: (
        (view.started_ms or NEVER) + view.walltime_s * 1000 if view.phase is Phase.RUNNING else NEVER,
        view.job,
    ),
    "memory": lambda view: (-view.memory_mib, view.job),
}
"""What rows may be sorted by; those waiting count as waiting still, after what has started."""
GROUPS: dict[str, Callable[[JobView], str]] = {
    "": lambda view: "",
    "state": lambda view: view.phase.value,
    "user": lambda view: view.user,
    "account": lambda view: view.account,
    "queue": lambda view: view.queue,
    "name": lambda view: view.name,
}
Key = tuple[str, str | int]


@dataclass(frozen=True, slots=True)
class Row:
    """A line of Watch: a job, the heading of a group, or a node. ``depth`` is how far it is set in."""

    key: Key
    view: JobView | None = None
    node: NodeView | None = None
    words: str = ""
    depth: int = 0


@dataclass(frozen=True, slots=True)
class Choice:
    """What a person has chosen to see."""

    scope: str = "mine"
    find: str = ""
    sort: str = "turn"
    group: str = ""
    by_node: bool = False
    opened: frozenset[Key] = frozenset()
    """Arrays whose tasks are shown, nodes whose jobs are shown, groups that are folded."""


@dataclass(frozen=True)
class Arranged:
    """The rows, where each is, how many jobs each scope has, and who holds which node when."""

    rows: list[Row]
    counts: dict[str, int] = field(default_factory=dict)
    held: dict[str, list[tuple[int, int, int, str]]] = field(default_factory=dict)
    """Of each node: (from, to, cores, ``mine`` | ``accounts`` | ``others`` | ``expected``)."""

    @cached_property
    def places(self) -> dict[Key, int]:
        """The place of each row by its key."""
        return {row.key: place for place, row in enumerate(self.rows)}


def haystack(view: JobView) -> str:
    """What is searched by the words that a person types."""
    return f"{view.label} {view.name} {view.user} {view.account} {view.queue} {view.tier} {view.phase}".casefold()


class Arranger:
    """Arranges one board after another; what one board's jobs are searched and sorted by is worked out once."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._last: tuple[Board, Choice, Arranged] | None = None
        self._board: Board | None = None
        self._scopes: dict[str, list[JobView]] = {}
        self._texts: dict[str, list[str]] = {}
        self._sorted: dict[tuple[str, str], list[JobView]] = {}

    def arrange(self, board: Board, choice: Choice) -> Arranged:
        """The rows for a board and a choice; asked again for the same, they are at hand."""
        with self._lock:
            if self._last is None or self._last[0] is not board or self._last[1] != choice:
                arranged = self._arrange(board, choice)
                len(arranged.places)
                self._last = (board, choice, arranged)
            return self._last[2]

    def _arrange(self, board: Board, choice: Choice) -> Arranged:
        if board is not self._board:
            self._board = board
            own = set(board.my_accounts)
            top = [view for view in board.jobs if view.parent is None]
            self._scopes = {
                "mine": [view for view in top if view.user == board.user],
                "accounts": [view for view in top if view.user == board.user or view.account in own],
                "everyone": top,
            }
            self._texts, self._sorted = {}, {}
        counts = {scope: len(views) for scope, views in self._scopes.items()}
        if choice.by_node:
            held = holders(board)
            return Arranged(list(self._nodes(board, choice)), counts, held)
        return Arranged(list(self._grouped(board, self._found(choice), choice)), counts)

    def _found(self, choice: Choice) -> list[JobView]:
        key = (choice.scope, choice.sort)
        if key not in self._sorted:
            self._sorted[key] = sorted(self._scopes[choice.scope], key=SORTS[choice.sort])
            self._texts[f"{key}"] = []
        views = self._sorted[key]
        words = choice.find.casefold().split()
        if not words:
            return views
        texts = self._texts[f"{key}"]
        if not texts:
            texts += [haystack(view) for view in views]
        if len(words) == 1:
            wanted = words[0]
            return [view for view, text in zip(views, texts, strict=True) if wanted in text]
        return [view for view, text in zip(views, texts, strict=True) if all(word in text for word in words)]

    def _grouped(self, board: Board, views: list[JobView], choice: Choice) -> Iterator[Row]:
        tasks = self._tasks(board, choice)
        if not choice.group:
            yield from self._with_tasks(views, tasks, 0)
            return
        groups: dict[str, list[JobView]] = {}
        of = GROUPS[choice.group]
        for view in views:
            groups.setdefault(of(view), []).append(view)
        for name, members in sorted(groups.items()):
            key = ("group", name)
            cores = sum(view.cores for view in members if view.phase is Phase.RUNNING)
            words = f"{plural(len(members), 'job')}, {cores:,} cores running"
            yield Row(key, words=words)
            if key not in choice.opened:
                yield from self._with_tasks(members, tasks, 1)

    @staticmethod
    def _tasks(board: Board, choice: Choice) -> dict[int, list[JobView]]:
        """Of the arrays that are open, the tasks that run or have ended lately."""
        tasks: dict[int, list[JobView]] = {}
        if any(kind == "array" for kind, _ in choice.opened):
            for view in board.jobs:
                if view.parent is not None and ("array", view.parent) in choice.opened:
                    tasks.setdefault(view.parent, []).append(view)
        return tasks

    @staticmethod
    def _with_tasks(views: Iterable[JobView], tasks: dict[int, list[JobView]], depth: int) -> Iterator[Row]:
        for view in views:
            yield Row(("job", view.job), view, depth=depth)
            for task in sorted(tasks.get(view.job, ()), key=lambda one: (one.phase.final, one.job)):
                yield Row(("job", task.job), task, depth=depth + 1)

    def _nodes(self, board: Board, choice: Choice) -> Iterator[Row]:
        """Every node, and below one that is open the jobs on it and those expected there."""
        there: dict[str, list[JobView]] = {}
        for view in board.jobs:
            if view.rows:
                continue  # an array stands in its tasks
            for name in view.nodes if view.phase is Phase.RUNNING else view.forecast_nodes:
                there.setdefault(name, []).append(view)
        scope = {view.job for view in self._scopes[choice.scope]}
        words = choice.find.casefold()
        for node in board.nodes:
            jobs = there.get(node.name, [])
            mine = [view for view in jobs if view.job in scope or view.parent in scope]
            if words and words not in node.name.casefold() and not any(words in haystack(view) for view in jobs):
                continue
            if choice.scope != "everyone" and not mine and not words:
                continue
            free = node.cores - node.cores_used
            told = f"{free} of {node.cores} free" if not node.closed else f"closed: {node.closed}"
            yield Row(("node", node.name), node=node, words=told)
            if ("node", node.name) in choice.opened:
                for view in sorted(jobs, key=_turn):
                    yield Row(("job", f"{node.name}:{view.job}"), view, depth=1)


def holders(board: Board) -> dict[str, list[tuple[int, int, int, str]]]:
    """Who has, had or is expected to have how many cores of each node, and from when to when."""
    own = set(board.my_accounts)
    held: dict[str, list[tuple[int, int, int, str]]] = {}
    for view in board.jobs:
        if view.rows:
            continue
        owner = "mine" if view.user == board.user else "accounts" if view.account in own else "others"
        if view.started_ms is not None:
            end = view.ended_ms or max(board.now_ms, view.started_ms + (view.walltime_s + view.grace_s) * 1000)
            for name, cores in view.cores_by_node.items():
                held.setdefault(name, []).append((view.started_ms, end, len(cores), owner))
        elif view.forecast_ms is not None and view.forecast_end_ms is not None and view.forecast_nodes:
            each = -(-view.cores // len(view.forecast_nodes))
            for name in view.forecast_nodes:
                held.setdefault(name, []).append((view.forecast_ms, view.forecast_end_ms, each, "expected"))
    return held
