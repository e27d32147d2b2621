"""A study of the site's own past over the place that it was asked for in: its progress, a way to stop, and what it found."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding
from textual.containers import Vertical

from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.errors import QuarryError
from lazy_quarry.wording.study_words import study_lines

if TYPE_CHECKING:
    from lazy_quarry.app.shared.quarry import Quarry
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.study_view import StudyView

POLICIES = ["first-come", "easy", "planned"]
LOOK_S = 0.3


class StudyHead(Lines):
    """The head of a study: its subject, its keys, its progress."""

    DEFAULT_CSS = "StudyHead { height: 3; }"

    def __init__(self) -> None:
        super().__init__(id="study-head")
        self.view: StudyView | None = None
        self.problem = ""

    def draw(self, row: int, pen: Pen) -> None:
        """A heading with keys, then progress or what is wrong."""
        view = self.view
        if row == 0:
            pen.write(" LAST MONTH UNDER OTHER RULES", bold=True)
            pen.write(
                f"   {key_of('cancel')} stops it   esc leaves" if view is None or not view.over else "   esc leaves",
                "dim",
            )
        elif row == 1 and self.problem:
            pen.write(f" {self.problem}", "rust")
        elif row == 1 and view is None:
            pen.write(" it begins …", "dim")
        elif row == 1 and view is not None and not view.over:
            at_work = (
                f"{view.policy}: {view.done:,} of {view.jobs:,} have started …" if view.policy else "reading the past …"
            )
            pen.write(f" {at_work}", "dim")
        elif row == 1 and view is not None and len(view.rows) <= len(view.policies):
            pen.write(" it was stopped", "dim")


class StudyLines(Rows):
    """The study's findings so far."""

    DEFAULT_CSS = "StudyLines { height: 1fr; }"
    has_cursor = False

    def __init__(self) -> None:
        super().__init__(id="study-lines")
        self.lines: list[str] = []

    def row_count(self) -> int:
        """As many as there are."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One line; what it is of stands out."""
        pen.write(f" {self.lines[row]}", "ochre" if row == 0 else "ink")


class StudyScreen(Dialog[None]):
    """Begins a study and follows it; leaving stops it."""

    DEFAULT_CSS = """
    StudyScreen { align: center middle; background: $ground 30%; }
    StudyScreen > Vertical { width: 100; max-width: 98%; height: 26; max-height: 95%; background: $ground; border: solid $faint; }
    """
    BINDINGS = [
        Binding("escape", "leave", show=False, priority=True),
        bound("cancel", "stop", "stop it; what is done stays in sight"),
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
            yield StudyHead()
            yield StudyLines()

    def on_mount(self) -> None:
        """It begins at once."""
        self.query_one(StudyLines).focus()
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
        head, lines = self.query_one(StudyHead), self.query_one(StudyLines)
        head.view, head.problem = view, head.problem or view.problem
        head.refresh()
        lines.lines = list(study_lines(view))
        lines.refit()

    def _say(self, words: str) -> None:
        head = self.query_one(StudyHead)
        head.problem = words
        head.refresh()

    @work(thread=True, group="study")
    def action_stop(self) -> None:
        """Stop it; what is done stays in sight."""
        try:
            self.quarry.hand_over(self._take, self.client.stop_study())
        except QuarryError as fault:
            self.quarry.hand_over(self._say, str(fault))

    def action_leave(self) -> None:
        """Back to the place."""
        view = self.query_one(StudyHead).view
        if view is not None and not view.over:
            self.action_stop()
        self.finish()
