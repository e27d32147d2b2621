"""A reader's own copy of the board, kept up to date by what has changed."""

from bisect import bisect_left, insort
from typing import Any

from lazy_quarry.views.board import Board, BoardChange, BoardMark, NodeView, PersonView, SiteView, Strata, strata_of
from lazy_quarry.views.job_view import JobView


class BoardMirror:
    """Puts boards together from changes."""

    def __init__(self) -> None:
        self.mark: BoardMark | None = None
        self._jobs: dict[int, JobView] = {}
        self._nodes: dict[str, NodeView] = {}
        self._site: SiteView | None = None
        self._live: list[int] = []
        self._ended: list[tuple[int, int, int]] = []
        self._order: tuple[JobView, ...] = ()
        self._strata: tuple[PersonView, Strata] | None = None

    def take(self, change: BoardChange) -> Board:
        """The board after a change."""
        if change.whole:
            self._jobs, self._nodes = {}, {}
        self.mark, self._site = change.mark, change.site or self._site
        assert self._site is not None  # the first change has it
        self._nodes |= {node.name: node for node in change.nodes}
        self._take_jobs(change)
        return Board(
            version=change.version,
            now_ms=change.now_ms,
            clock=change.clock,
            site=self._site,
            person=change.person,
            strata=self._strata_of(change),
            nodes=tuple(self._nodes.values()),
            jobs=self._order,
            accounts=change.accounts,
            notices=change.notices,
            others_busy=change.others_busy,
            hosts=change.hosts,
        )

    def _strata_of(self, change: BoardChange) -> Strata:
        if self._strata is None or change.nodes or change.whole or self._strata[0].accounts != change.person.accounts:
            self._strata = change.person, strata_of(self._nodes.values(), change.person)
        return self._strata[1]

    def _take_jobs(self, change: BoardChange) -> None:
        if not change.jobs and not change.gone and not change.whole:
            return
        if change.whole:
            self._live, self._ended = [], []
        for number in change.gone:
            self._place(self._jobs.pop(number, None), None)
        for view in change.jobs:
            self._place(self._jobs.get(view.job), view)
            self._jobs[view.job] = view
        jobs = self._jobs
        self._order = (*[jobs[number] for number in self._live], *[jobs[number] for _, _, number in self._ended])

    def _place(self, before: JobView | None, after: JobView | None) -> None:
        """Keep both lists in their order; mostly a row looks different and stays where it is."""
        old, new = _key_of(before), _key_of(after)
        if old == new:
            return
        for key, there in ((old, False), (new, True)):
            keys: list[Any] = self._live if isinstance(key, int) else self._ended
            if key is not None and there:
                insort(keys, key)
            elif key is not None:
                del keys[bisect_left(keys, key)]


def _key_of(view: JobView | None) -> int | tuple[int, int, int] | None:
    """Where it stands: a live one by its number, an ended one by its end, the newest first."""
    if view is None or view.ended_ms is None:
        return None if view is None else view.job
    return -view.ended_ms, -view.job, view.job
