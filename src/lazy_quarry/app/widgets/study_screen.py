"""A study of the site's own past over the place that it was asked for in: its progress, a way to stop, and what it found."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen

from lazy_quarry.app.cells import Pen
from lazy_quarry.app.widgets.drawing import Lines
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.study_words import study_lines

if TYPE_CHECKING:
    from lazy_quarry.app.quarry import Quarry
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.site.study_view import StudyView

POLICIES = ["first-come", "easy", "planned"]
LOOK_S = 0.3


class StudyLines(Lines):
    """What the study has found so far, and how far it is."""

    DEFAULT_CSS = "StudyLines { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="study-lines")
        self.view: StudyView | None = None
        self.problem = ""

    def draw(self, row: int, pen: Pen) -> None:
        """A heading with keys, the table, progress."""
        view = self.view
        if row == 0:
            pen.write(" ITS OWN PAST, REHEARSED", bold=True)
            pen.write("   s stops it   esc leaves" if view is None or not view.over else "   esc leaves", "dim")
            return
        if self.problem:
            pen.write(f"   {self.problem}" if row == 2 else "", "rust")
            return
        if view is None:
            pen.write("   it begins …" if row == 2 else "", "dim")
            return
        lines = list(study_lines(view))
        if 2 <= row < 2 + len(lines):
            pen.write(f"   {lines[row - 2]}", "ink" if row > 2 else "ochre")
        elif row == 3 + len(lines) and not view.over:
            pen.write(
                f"   {view.policy or 'reading the past'}: {view.done:,} of {view.jobs:,} jobs have started …", "dim"
            )
        elif row == 3 + len(lines) and len(view.rows) <= len(view.policies):
            pen.write("   it was stopped", "dim")


class StudyScreen(ModalScreen[None]):
    """Begins a study and follows it; leaving stops it."""

    DEFAULT_CSS = """
    StudyScreen { align: center middle; background: $ground 30%; }
    StudyScreen > Vertical { width: 100; max-width: 98%; height: 26; max-height: 95%; background: $ground; border: solid $faint; }
    """
    BINDINGS = [
        Binding("escape,f", "leave", show=False, priority=True),
        Binding("s", "stop", show=False),
    ]

    def __init__(self, client: SiteClient, since: str) -> None:
        super().__init__()
        self.client, self.since = client, since

    @property
    def quarry(self) -> Quarry:
        """The application."""
        return self.app  # type: ignore[return-value]

    def compose(self):  # type: ignore[no-untyped-def]
        """All of it in one."""
        with Vertical():
            yield StudyLines()

    def on_mount(self) -> None:
        """It begins at once."""
        self._begin()
        self.set_interval(LOOK_S, self._look)

    @work(thread=True, group="study")
    def _begin(self) -> None:
        try:
            view = self.client.begin_study(POLICIES, self.since)
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault))
            return
        self.quarry.hand_over(self._take, view)

    @work(thread=True, exclusive=True, group="study-look")
    def _look(self) -> None:
        try:
            self.quarry.hand_over(self._take, self.client.studied())
        except QuarryError:
            return

    def _take(self, view: StudyView) -> None:
        lines = self.query_one(StudyLines)
        lines.view, lines.problem = view, lines.problem or view.problem
        lines.refresh()

    def _say(self, words: str) -> None:
        lines = self.query_one(StudyLines)
        lines.problem = words
        lines.refresh()

    @work(thread=True, group="study")
    def action_stop(self) -> None:
        """Stop it; what is done stays in sight."""
        try:
            self.quarry.hand_over(self._take, self.client.stop_study())
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault))

    def action_leave(self) -> None:
        """Back to the place."""
        view = self.query_one(StudyLines).view
        if view is not None and not view.over:
            self.action_stop()
        self.dismiss()
