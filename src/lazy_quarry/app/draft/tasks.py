"""The tasks of the draft's array, shown before they run."""

from lazy_quarry.app.draft.document import DraftDocument
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.probe.script import looked_up


class DraftTasks(Feature):
    """Expands the array of the draft."""

    NAME = "tasks"
    BOUND = (
        bound_of(
            NAME, "tasks", "show", "the tasks of its array, with commands and files, before they run", priority=True
        ),
    )

    def __init__(self, place: Place, document: DraftDocument) -> None:
        super().__init__(place)
        self.document = document

    def show(self) -> None:
        """The sweep, task by task, before it runs."""
        if self.document.empty:
            self.say("There is no script yet whose tasks could be shown.", bad=True)
        else:
            self._expand(self.document.submission())

    @apart("expand", refused="No tasks to show: ")
    def _expand(self, submission: Submission) -> None:
        self.quarry.hand_over(self.quarry.show_expansion, self.client.expand(looked_up(submission)))
