"""Things to read of a draft beside its text: its figures, and the tasks of its sweep."""

from textual import work

from lazy_quarry.app.draft.checks import DraftChecks
from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.figure_catalogue import Offer, draft_figures
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.errors import QuarryError
from lazy_quarry.probe.script import looked_up
from lazy_quarry.views.draft_view import DraftReport


class DraftReading(Place):
    """A place with a draft of which more can be seen."""

    BINDINGS = [
        bound("tasks", "tasks", "the tasks of its array, with commands and files, before they run", priority=True)
    ]
    document: DraftDocument
    checks: DraftChecks

    @property
    def report(self) -> DraftReport | None:
        """The site's last report on the draft."""
        return self.checks.report

    def figures(self) -> list[Offer]:
        """Placement and start of the draft as it is now."""
        return draft_figures(self.report, self.board, self.quarry.zone)

    def action_tasks(self) -> None:
        """The sweep, task by task, before it runs."""
        if self.document.empty:
            self.post_message(Say("There is no script yet whose tasks could be shown.", bad=True))
        else:
            self._expand(self.document.submission())

    @work(thread=True, exclusive=True, group="expand")
    def _expand(self, submission: Submission) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            found = client.expand(looked_up(submission))
        except QuarryError as fault:
            self.post_message(Say(f"No tasks to show: {fault}.", bad=True))
            return
        self.quarry.hand_over(self.quarry.show_expansion, found)
