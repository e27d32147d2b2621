"""The tasks of the array under the cursor of Chain: beside the graph, or on a screen of their own."""

from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.chain.tasks import ChainTasks
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.chain_views import ChainSource, PartView
from lazy_quarry.views.expanded import Expanded


class ArrayTasks(Feature):
    """Reads the tasks of an array, of a chain file or of one that was submitted, and shows them."""

    NAME = "tasks"
    BOUND = (bound_of(NAME, "tasks", "open", "the tasks of an array with their commands and files", priority=True),)

    def __init__(self, place: Place, chain: ChainOnDesk) -> None:
        super().__init__(place)
        self.chain = chain
        self._expanded: tuple[object, Expanded | None, str] = (None, None, "")
        """The array, its tasks once they are there, and why there are none."""
        self._opening = False
        """True when they are to be opened once they are there."""

    def show(self) -> None:
        """The tasks of the array under the cursor, once they are there."""
        pane, part = self.one(ChainTasks), self.chain.part()
        if part is None or not part.tasks or self.place.has_class("-narrow"):
            pane.show(None)
            return
        key: object = part.job or (self.chain.desk.text, part.name)
        if self._expanded[0] != key:
            self._expanded = (key, None, "reading its tasks …")
            self._expand(key, self.chain.desk.source() if not part.job else None, part)
        pane.show(*self._expanded[1:])

    @apart("chain-tasks")
    def _expand(self, key: object, source: ChainSource | None, part: PartView) -> None:
        try:
            client = self.client
            found = client.expand_job(part.job) if source is None else client.chain_tasks(source, part.name)
        except QuarryError as fault:
            self.quarry.hand_over(self._take_tasks, key, None, str(fault))
            return
        self.quarry.hand_over(self._take_tasks, key, found, "")

    def _take_tasks(self, key: object, found: Expanded | None, why: str) -> None:
        if self._expanded[0] == key:
            self._expanded = (key, found, why)
            self.show()
        if self._opening:
            self._opening = False
            self._open_tasks(found, why)

    def open(self) -> None:
        """All tasks of the array under the cursor, on a screen of their own."""
        part = self.chain.part()
        if part is None or not part.tasks:
            self.say("The job under the cursor is a single job: it has no tasks.")
            return
        key: object = part.job or (self.chain.desk.text, part.name)
        if self._expanded[0] == key and (self._expanded[1] is not None):
            self._open_tasks(*self._expanded[1:])
            return
        self._expanded, self._opening = (key, None, "reading its tasks …"), True
        self._expand(key, self.chain.desk.source() if not part.job else None, part)

    def _open_tasks(self, found: Expanded | None, why: str) -> None:
        if found is None:
            self.say(f"No tasks to show: {why}.", bad=True)
        else:
            self.quarry.show_expansion(found)
