"""Commands about jobs. Each runs in a worker, and its outcome is handed back."""

from collections.abc import Callable
from functools import partial
from typing import Protocol

from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.views.job_view import JobView
from lazy_quarry.views.outcomes import Outcome


class ShowLadder(Protocol):
    """Shows other requests for a waiting job: what is advised, and other walltimes."""

    def __call__(self, view: JobView, advised: list[Suggestion], ladder: list[Suggestion]) -> None:
        """The job, smaller requests that start sooner, walltimes with their starts."""
        ...


class JobCommands(Feature):
    """Gives commands in workers of its place. ``done`` is called with the outcomes and the settings of a change."""

    NAME = "commands"

    def __init__(
        self, place: Place, done: Callable[[list[Outcome], str], None], ladder: ShowLadder | None = None
    ) -> None:
        super().__init__(place)
        self._done, self._ladder = done, ladder

    def do(self, verb: str, jobs: list[int]) -> None:
        """Hold, release or cancel."""
        self._work("command", partial(self._do, verb, jobs))

    def again(self, jobs: list[int], settings: list[str], failed: bool) -> None:
        """Run again, with these settings besides; ``failed``: of arrays the tasks that failed."""
        self._work("command", lambda client: self._tell(client.again(jobs, settings, failed), ", ".join(settings)))

    def do_chain(self, verb: str, number: int) -> None:
        """Hold, release or cancel all of a chain."""
        self._work("command", partial(self._do_chain, verb, number))

    def cancel_waiting(self, array: int) -> None:
        """Cancel the tasks of an array that have not started."""
        self._work("command", lambda client: self._tell(client.cancel([array], "waiting"), ""))

    def change(self, jobs: list[int], settings: list[str]) -> None:
        """Change the request of jobs that wait."""
        self._work("command", partial(self._change, jobs, settings))

    def rank(self, job: int, by: int) -> None:
        """Move a waiting job among those of the same person, by one place."""
        self._work("command", partial(self._rank, job, by))

    def ask_ladder(self, view: JobView) -> None:
        """Find other requests for a waiting job that start sooner."""
        self._work("ladder", partial(self._ask_ladder, view))

    def _work(self, group: str, work: Callable[[SiteClient], None]) -> None:
        client = self.quarry.client
        if client is not None:
            guarded = partial(self._guarded, work, client)
            self.place.run_worker(guarded, thread=True, exclusive=group == "ladder", group=group)

    def _guarded(self, work: Callable[[SiteClient], None], client: SiteClient) -> None:
        try:
            work(client)
        except QuarryError as fault:
            self.say(str(fault), bad=True)

    def _do(self, verb: str, jobs: list[int], client: SiteClient) -> None:
        calls: dict[str, Callable[[list[int]], list[Outcome]]] = {
            "hold": client.hold,
            "release": client.release,
            "cancel": client.cancel,
        }
        self._tell(calls[verb](jobs), "")

    def _do_chain(self, verb: str, number: int, client: SiteClient) -> None:
        calls = {"hold": client.hold_chain, "release": client.release_chain, "cancel": client.cancel_chain}
        self._tell(calls[verb](number), "")

    def _change(self, jobs: list[int], settings: list[str], client: SiteClient) -> None:
        self._tell(client.change(jobs, settings), ", ".join(settings))

    def _tell(self, outcomes: list[Outcome], settings: str) -> None:
        self.quarry.hand_over(self._done, outcomes, settings)
        self.quarry.hand_over(self.quarry.read_board)

    def _ask_ladder(self, view: JobView, client: SiteClient) -> None:
        ladder = client.ladder(view.job)
        explained = client.detail(view.job).explained
        assert self._ladder is not None
        self.quarry.hand_over(self._ladder, view, list(explained.changes) if explained else [], ladder)

    def _rank(self, job: int, by: int, client: SiteClient) -> None:
        mine = client.turns()
        if job not in mine:
            self.say("It does not wait any more.", bad=True)
            return
        place = mine.index(job)
        other = place + by
        if not 0 <= other < len(mine):
            self.say("It is the first of yours already." if by < 0 else "It is the last of yours already.")
            return
        mine[place], mine[other] = mine[other], mine[place]
        outcome = client.order(mine)
        words = f"{job} now stands {'before' if by < 0 else 'behind'} {mine[place]} among yours; nobody else's moved."
        self.say(words if outcome.done else outcome.message, bad=not outcome.done)
        self.quarry.hand_over(self.quarry.read_board)
