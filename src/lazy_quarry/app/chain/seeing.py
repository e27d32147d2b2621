"""Chain seen more closely: a rehearsal played in graph and lanes, the tasks of an array beside it, jobs folded."""

from textual import work
from textual.timer import Timer

from lazy_quarry.app.chain.desk import ChainDesk
from lazy_quarry.app.chain.graph import ChainGraph
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.chain.tasks import ChainTasks
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.place import Place
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.chain_views import ChainSource, PartView
from lazy_quarry.views.expanded import Expanded

FRAME_S = 0.1
PLAYED_S = 12.0
"""A rehearsal is played in so many seconds at first."""


class ChainSeeing(Place):
    """A place with a chain of which more can be seen."""

    BINDINGS = [
        bound("rehearse", "play", "play the rehearsal in graph and lanes, or stop it"),
        bound("play_faster", "pace(2)", "play faster"),
        bound("play_slower", "pace(0.5)", "play slower"),
        bound("fold", "fold", "jobs that are alike share a slab where there is no room for all, or never"),
        bound("tasks", "tasks", "the tasks of an array with their commands and files", priority=True),
    ]
    desk: ChainDesk
    played_ms: float | None = None
    """The instant of the rehearsal that is shown, while it is played."""
    _speed = 1.0
    _clock: Timer | None = None
    _expanded: tuple[object, Expanded | None, str] = (None, None, "")
    """The array, its tasks once they are there, and why there are none."""
    _opening = False
    """True when they are to be opened once they are there."""

    def _follow(self) -> None:
        """Show what is under the cursor; the place does it."""
        raise NotImplementedError

    def _part(self) -> PartView | None:
        return self.query_one(PartRows).current()

    # -- playing a rehearsal -----------------------------------------------------------------------

    def action_play(self) -> None:
        """Play the rehearsal in graph and lanes, or stop it."""
        view = self.query_one(ChainList).current()
        if self.played_ms is not None:
            self._stop()
            self._follow()
        elif view is None or view.number or view.ends_ms is None:
            self._say("A rehearsal is played of a chain that is open and not submitted.")
        else:
            self.played_ms, self._speed = float(view.now_ms), (view.ends_ms - view.now_ms) / PLAYED_S
            self._clock = self.set_interval(FRAME_S, self._frame)
            self.query_one(PartRows).focus()
            self._follow()

    def _frame(self) -> None:
        view = self.query_one(ChainList).current()
        if self.played_ms is None or view is None or view.ends_ms is None or view.number:
            self._stop()
            return
        last = float(view.ends_ms)
        if self.played_ms >= last:
            return
        self.played_ms = min(last, self.played_ms + FRAME_S * self._speed)
        self._follow()

    def _stop(self) -> None:
        self.played_ms = None
        if self._clock is not None:
            self._clock.stop()
            self._clock = None

    def action_pace(self, factor: float) -> None:
        """Faster or slower; from the end it is played again."""
        view = self.query_one(ChainList).current()
        if self.played_ms is None or view is None:
            self._say(f"No rehearsal is played: {key_of('rehearse')} plays one.")
            return
        if view.ends_ms is not None and self.played_ms >= view.ends_ms:
            self.played_ms = float(view.now_ms)
        self._speed *= factor

    # -- its tasks ---------------------------------------------------------------------------------

    def action_fold(self) -> None:
        """Jobs that are alike share a slab where there is no room for all, or never."""
        graph = self.query_one(ChainGraph)
        graph.fold = not graph.fold
        graph.show(graph.view)
        self._say(
            "Jobs that are alike share a slab where there is no room for all."
            if graph.fold
            else "Each job has a slab of its own."
        )

    def _show_tasks(self) -> None:
        """The tasks of the array under the cursor, once they are there."""
        pane, part = self.query_one(ChainTasks), self._part()
        if part is None or not part.tasks or self.has_class("-narrow"):
            pane.show(None)
            return
        key: object = part.job or (self.desk.text, part.name)
        if self._expanded[0] != key:
            self._expanded = (key, None, "reading its tasks …")
            self._expand(key, self.desk.source() if not part.job else None, part)
        pane.show(*self._expanded[1:])

    @work(thread=True, exclusive=True, group="chain-tasks")
    def _expand(self, key: object, source: ChainSource | None, part: PartView) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            found = client.expand_job(part.job) if source is None else client.chain_tasks(source, part.name)
        except QuarryError as fault:
            self.quarry.hand_over(self._take_tasks, key, None, str(fault))
            return
        self.quarry.hand_over(self._take_tasks, key, found, "")

    def _take_tasks(self, key: object, found: Expanded | None, why: str) -> None:
        if self._expanded[0] == key:
            self._expanded = (key, found, why)
            self._show_tasks()
        if self._opening:
            self._opening = False
            self._open_tasks(found, why)

    def action_tasks(self) -> None:
        """All tasks of the array under the cursor, on a screen of their own."""
        part = self._part()
        if part is None or not part.tasks:
            self._say("The job under the cursor is a single job: it has no tasks.")
            return
        key: object = part.job or (self.desk.text, part.name)
        if self._expanded[0] == key and (self._expanded[1] is not None):
            self._open_tasks(*self._expanded[1:])
            return
        self._expanded, self._opening = (key, None, "reading its tasks …"), True
        self._expand(key, self.desk.source() if not part.job else None, part)

    def _open_tasks(self, found: Expanded | None, why: str) -> None:
        if found is None:
            self._say(f"No tasks to show: {why}.", bad=True)
        else:
            self.quarry.show_expansion(found)
