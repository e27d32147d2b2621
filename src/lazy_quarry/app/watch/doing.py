"""Watch: what is done to jobs, tasks and chains, one or all that are marked."""

from collections.abc import Callable

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.feature import apart
from lazy_quarry.app.shared.job_doing import JobDoing
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.watch.change_pane import ChangePane, ChangeTold, Changing, Chosen
from lazy_quarry.app.watch.job_rows import JobRows
from lazy_quarry.app.watch.panes import WatchPanes
from lazy_quarry.app.watch.watch_list import Row
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.job.job import Phase
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.foretold import foretold_words
from lazy_quarry.views.job_view import JobView
from lazy_quarry.views.outcomes import Outcome


class WatchDoing(JobDoing):
    """The same to tasks that have not started and to chains; and changes a request, or the order among one's own jobs."""

    def __init__(self, place: Place, panes: WatchPanes, turn_pane: Callable[[str], None]) -> None:
        super().__init__(place, self.marked_or_current, self._show_ladder)
        self.panes, self._turn_pane = panes, turn_pane

    def marked_or_current(self) -> list[JobView]:
        """The marked jobs, else the one under the cursor."""
        return self.one(JobRows).chosen(self.board.jobs if self.board else ())

    def _chain(self) -> Row | None:
        """The chain under the cursor, where nothing is marked."""
        rows = self.one(JobRows)
        row = rows.row()
        return row if row is not None and row.members and not rows.marked else None

    def _rest(self) -> Row | None:
        """The tasks under the cursor that have not started, where nothing is marked."""
        rows = self.one(JobRows)
        row = rows.row()
        return row if row is not None and row.key[0] == "rest" and not rows.marked else None

    def do(self, verb: str) -> None:
        """Hold or release a job, all that are marked, a chain, or the tasks that have not started."""
        if row := self._chain():
            self.commands.do_chain(verb, int(row.key[1]))
        elif row := self._rest():
            self.commands.do(verb, [int(row.key[1])])
        else:
            super().do(verb)

    def again(self) -> None:
        """Run again, after saying what that comes to."""
        if self._chain():
            self.say(f"enter opens the chain, and {key_of('again_failed')} there runs again what failed of it.")
        else:
            super().again()

    def again_failed(self) -> None:
        """Run again what failed of an array."""
        if self._chain():
            self.again()
        else:
            super().again_failed()

    def cancel(self) -> None:
        """Cancel, after a question."""
        if row := self._chain():
            number, left = int(row.key[1]), sum(not view.phase.final for view in row.members)
            question = f"Cancel chain {number} {row.words}? {left} of its jobs have not ended; what runs is stopped."
            self.quarry.ask(question, lambda: self.commands.do_chain("cancel", number), yes="Cancel", no="Leave it")
        elif row := self._rest():
            array, words = int(row.key[1]), row.words.partition(",")[0].removesuffix(" more")
            question = f"Cancel {words} of {array} that have not started? Those that run go on."
            self.quarry.ask(question, lambda: self.commands.cancel_waiting(array), yes="Cancel", no="Leave them")
        else:
            super().cancel()

    def change(self) -> None:
        """Change the request of what waits, with the ladder beside it."""
        view = self.one(JobRows).current()
        if view is None or self.board is None:
            return
        if view.user != self.board.person.user or view.phase not in (Phase.WAITING, Phase.HELD, Phase.BLOCKED):
            self.say("Only a job of yours that has not started can be changed.")
            return
        if self.panes.shown != "change":
            self._turn_pane("change")
        self.one(ChangePane).open(view.job, view.name)
        self.commands.ask_ladder(view)

    def _show_ladder(self, view: JobView, advised: list[Suggestion], ladder: list[Suggestion]) -> None:
        if self.board is not None:
            self.one(ChangePane).show(view.job, advised, ladder, self.board.now_ms, view.walltime_s)

    def _with_marks(self, job: int) -> list[int]:
        """A job; with it all that are marked, where it is."""
        marked = self.one(JobRows).marked
        return sorted(marked) if job in marked else [job]

    def change_chosen(self, message: Chosen) -> None:
        """Make the change; with marks, to all that are marked."""
        self.commands.change(self._with_marks(message.job), message.settings)

    def look_ahead(self, message: Changing) -> None:
        """Say what a change would come to, before it is made."""
        if self.quarry.client is not None:
            self._look_ahead(self._with_marks(message.job), message.settings)

    @apart("look-ahead")
    def _look_ahead(self, jobs: list[int], settings: list[str]) -> None:
        try:
            found = self.client.would_change(jobs, settings)
        except QuarryError as fault:
            self.quarry.hand_over(self._show_ahead, f"{fault}.", True)
            return
        self.quarry.hand_over(self._show_ahead, f"{foretold_words(found, self.quarry.zone)}.", bool(found.refused))

    def _show_ahead(self, words: str, bad: bool) -> None:
        self.one(ChangeTold).tell(words, bad)

    def _commanded(self, outcomes: list[Outcome], settings: str) -> None:
        """Say the outcome; the pane closes after a change. Marks stay, for what is to be done next."""
        super()._commanded(outcomes, settings)
        if settings and all(one.done for one in outcomes) and self.panes.shown == "change":
            self._turn_pane("change")
            self.focus(self.one(JobRows))

    def rank(self, by: int) -> None:
        """Move this job before or behind the next of mine that waits; nobody else's moves."""
        view, board = self.one(JobRows).current(), self.board
        if view is None or board is None:
            return
        if view.user != board.person.user or view.phase is not Phase.WAITING:
            self.say("Only a waiting job of yours can be moved among yours.")
            return
        self.commands.rank(view.job, by)
