"""The rows of Watch in their order: a value made from the board and the person's choice.

Made in a worker, and only when the board or the choice has changed; so what is done at a key or a scroll
costs no more for a hundred thousand jobs than for a hundred.
"""

import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import compress, repeat
from operator import contains
from typing import Any, overload

from msgspec import Struct, field

from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import plural
from lazy_quarry.site.node_use import holders
from lazy_quarry.views.board import Board, NodeView
from lazy_quarry.views.job_view import JobView

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
    "waited": lambda view: (view.waited_ms(NEVER), view.job),
    "time left": lambda view: (
        (view.started_ms or NEVER) + view.walltime_s * 1000 if view.phase is Phase.RUNNING else NEVER,
        view.job,
    ),
    "memory": lambda view: (-view.memory_mib, view.job),
}
"""The ways in which rows may be sorted; those waiting count as waiting still, after what has started."""
GROUPS: dict[str, Callable[[JobView], str]] = {
    "": lambda view: "",
    "state": lambda view: view.phase.value,
    "user": lambda view: view.user,
    "account": lambda view: view.account,
    "queue": lambda view: view.queue,
    "name": lambda view: view.name,
}
RowKey = tuple[str, str | int]


class Row(Struct, frozen=True):
    """A line of Watch: a job, a chain with its jobs, the heading of a group, or a node. ``depth`` is how far it is set in."""

    key: RowKey
    view: JobView | None = None
    node: NodeView | None = None
    words: str = ""
    depth: int = 0
    members: tuple[JobView, ...] = ()


class Choice(Struct, frozen=True):
    """A person's choice of what to see."""

    scope: str = "mine"
    find: str = ""
    sort: str = "turn"
    group: str = ""
    by_node: bool = False
    opened: frozenset[RowKey] = frozenset()
    """Arrays whose tasks are shown, chains and nodes whose jobs are shown, groups that are folded."""
    read: tuple[JobView, ...] = ()
    """Tasks of ended arrays that are open: the board has only those that ended lately."""


class JobList(Sequence[Row]):
    """Jobs as rows, each made when it is looked at; rows that are made already stay as they are."""

    def __init__(self, views: Sequence[JobView | Row]) -> None:
        self.views = views

    def __len__(self) -> int:
        return len(self.views)

    @overload
    def __getitem__(self, place: int) -> Row: ...

    @overload
    def __getitem__(self, place: slice) -> list[Row]: ...

    def __getitem__(self, place: int | slice) -> Row | list[Row]:
        if isinstance(place, slice):
            return [_row(one) for one in self.views[place]]
        return _row(self.views[place])

    def place_of(self, key: RowKey) -> int | None:
        """Where a job is."""
        job = key[1] if key[0] == "job" else None
        for place, one in enumerate(self.views):
            if one.key == key if isinstance(one, Row) else one.job == job:
                return place
        return None


def _row(one: JobView | Row) -> Row:
    return one if isinstance(one, Row) else Row(("job", one.job), one)


class Arranged(Struct, frozen=True):
    """The rows, how many jobs each scope has, and who holds which node when."""

    rows: Sequence[Row]
    counts: dict[str, int] = field(default_factory=dict)
    held: dict[str, list[tuple[int, int, int, str]]] = field(default_factory=dict)
    """For each node: (from, to, cores, ``mine`` | ``accounts`` | ``others`` | ``expected``)."""

    def place_of(self, key: RowKey, near: int = 0) -> int | None:
        """Where a row is; looked for first where it may well be."""
        rows = self.rows
        # A refresh seldom moves a row by more than a line or two, and the list may have a hundred thousand.
        for place in range(max(0, near - 2), min(len(rows), near + 3)):
            if rows[place].key == key:
                return place
        if isinstance(rows, JobList):
            return rows.place_of(key)
        return next((place for place, row in enumerate(rows) if row.key == key), None)


def haystack(view: JobView) -> str:
    """The text that is searched for the words that a person types."""
    return f"{view.label} {view.name} {view.user} {view.account} {view.queue} {view.tier} {view.phase}".casefold()


class Arranger:
    """Arranges one board after another; what one board's jobs are searched and sorted by is worked out once."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._last: tuple[Board, Choice, Arranged] | None = None
        self._board: Board | None = None
        self._scopes: dict[str, list[JobView]] = {}
        self._texts: dict[tuple[str, str], list[str]] = {}
        self._narrowed: tuple[Board | None, tuple[str, str], str, tuple[list[str], list[JobView]]] | None = None
        """Rows found for the words so far."""
        self._sorted: dict[tuple[str, str], list[JobView]] = {}

    def arrange(self, board: Board, choice: Choice) -> Arranged:
        """The rows for a board and a choice; asked again for the same, they are at hand."""
        with self._lock:
            if self._last is None or self._last[0] is not board or self._last[1] != choice:
                self._last = (board, choice, self._arrange(board, choice))
            return self._last[2]

    def _arrange(self, board: Board, choice: Choice) -> Arranged:
        if board is not self._board:
            self._board = board
            top = [view for view in board.jobs if view.parent is None]
            owners = [board.person.owner(view.user, view.account) for view in top]
            self._scopes = {
                "mine": [view for view, owner in zip(top, owners, strict=True) if owner == "mine"],
                "accounts": [view for view, owner in zip(top, owners, strict=True) if owner != "others"],
                "everyone": top,
            }
            self._texts, self._sorted = {}, {}
        counts = {scope: len(views) for scope, views in self._scopes.items()}
        if choice.by_node:
            held = holders(board)
            return Arranged(list(self._nodes(board, choice)), counts, held)
        found = self._found(choice)
        if not choice.group and not any(kind == "array" for kind, _ in choice.opened):
            return Arranged(JobList(self._chained(found, choice)), counts)
        return Arranged(list(self._grouped(board, found, choice)), counts)

    def ready(self, board: Board, choice: Choice) -> None:
        """Somebody is about to search: have at hand what is searched."""
        self.arrange(board, choice)
        with self._lock:
            self._searched((choice.scope, choice.sort))

    def _sorted_by(self, key: tuple[str, str]) -> list[JobView]:
        if key not in self._sorted:
            self._sorted[key] = sorted(self._scopes[key[0]], key=SORTS[key[1]])
        return self._sorted[key]

    def _searched(self, key: tuple[str, str]) -> tuple[list[str], list[JobView]]:
        views = self._sorted_by(key)
        if key not in self._texts:
            self._texts[key] = [haystack(view) for view in views]
        return self._texts[key], views

    def _found(self, choice: Choice) -> list[JobView]:
        key = (choice.scope, choice.sort)
        words = choice.find.casefold()
        if not words.strip():
            self._narrowed = None
            return self._sorted_by(key)
        known = self._narrowed
        if known and known[0] is self._board and known[1] == key and words.startswith(known[2]):
            texts, views = known[3]  # one letter more: only what had the others can have it
        else:
            texts, views = self._searched(key)
        for word in words.split():
            has = list(map(contains, texts, repeat(word)))
            if False in has:
                texts, views = list(compress(texts, has)), list(compress(views, has))
        self._narrowed = (self._board, key, words, (texts, views))
        return views

    def _grouped(self, board: Board, views: list[JobView], choice: Choice) -> Iterator[Row]:
        tasks = self._tasks(board, choice)
        if not choice.group:
            for one in self._chained(views, choice):
                if isinstance(one, JobView):
                    yield from self._with_tasks([one], tasks, 0)
                elif one.view is not None:
                    yield from self._with_tasks([one.view], tasks, one.depth)
                else:
                    yield one
            return
        groups: dict[str, list[JobView]] = {}
        of = GROUPS[choice.group]
        for view in views:
            groups.setdefault(of(view), []).append(view)
        for name, members in sorted(groups.items()):
            key = ("group", name)
            cores = sum(view.cores for view in members if view.phase is Phase.RUNNING)
            words = f"{plural(len(members), 'job')}, {plural(cores, 'core')} running"
            yield Row(key, words=words)
            if key not in choice.opened:
                yield from self._with_tasks(members, tasks, 1)

    @staticmethod
    def _chained(views: list[JobView], choice: Choice) -> Sequence[JobView | Row]:
        """The jobs of each chain as one row, where its first one stands; those of an open one below it.

        While words are searched each job stands for itself.
        """
        if choice.find.strip() or not any(view.chain for view in views):
            return views
        chains: dict[int, list[JobView]] = {}
        for view in views:
            if view.chain:
                chains.setdefault(view.chain, []).append(view)
        rows: list[JobView | Row] = []
        for view in views:
            if not view.chain:
                rows.append(view)
            elif members := chains.pop(view.chain, None):
                members.sort(key=lambda one: one.job)
                key: RowKey = ("chain", view.chain)
                rows.append(Row(key, words=view.chain_name, members=tuple(members)))
                if key in choice.opened:
                    rows += [Row(("job", one.job), one, depth=1) for one in members]
        return rows

    @staticmethod
    def _tasks(board: Board, choice: Choice) -> dict[int, list[JobView]]:
        """For arrays that are open: the tasks that run or have ended lately, and all others that were read."""
        tasks: dict[int, list[JobView]] = {}
        if any(kind == "array" for kind, _ in choice.opened):
            tasks = {view.job: [] for view in board.jobs if view.rows and ("array", view.job) in choice.opened}
            for view in board.jobs:
                if view.parent is not None and ("array", view.parent) in choice.opened:
                    tasks.setdefault(view.parent, []).append(view)
            known = {view.job for views in tasks.values() for view in views}
            for view in choice.read:
                if view.parent in tasks and view.job not in known:
                    tasks[view.parent].append(view)
        return tasks

    @staticmethod
    def _with_tasks(views: Iterable[JobView], tasks: dict[int, list[JobView]], depth: int) -> Iterator[Row]:
        for view in views:
            yield Row(("job", view.job), view, depth=depth)
            if view.job not in tasks:
                continue
            for task in sorted(tasks[view.job], key=lambda one: (one.phase.final, one.job)):
                yield Row(("job", task.job), task, depth=depth + 1)
            counts = dict(view.counts)
            if waiting := counts.get("waiting", 0):
                held = f", {counts['held']:,} held" if counts.get("held") else ""
                yield Row(("rest", view.job), words=f"{plural(waiting, 'task')} more, in turn{held}", depth=depth + 1)
            elif counts.get("held") and view.phase is not Phase.HELD:
                yield Row(("rest", view.job), words=f"{plural(counts['held'], 'task')} held", depth=depth + 1)

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
            told = f"{free} of {node.cores} free"
            yield Row(("node", node.name), node=node, words=told)
            if ("node", node.name) in choice.opened:
                for view in sorted(jobs, key=_turn):
                    yield Row(("job", f"{node.name}:{view.job}"), view, depth=1)
