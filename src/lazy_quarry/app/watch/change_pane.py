"""Changing the request of a job that waits, with the ladder of walltimes beside it."""

from textual.binding import Binding
from textual.containers import Vertical
from textual.message import Message
from textual.widgets import Input

from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.app.shared.run_again import settings_in
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.app.watch.pane_title import PaneTitle
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.units import MINUTE_MS, clock_time, format_duration


class Chosen(Message):
    """These settings are to be made to the job that is being changed."""

    def __init__(self, job: int, settings: list[str]) -> None:
        super().__init__()
        self.job, self.settings = job, settings


class Changing(Message):
    """These settings are being looked at: what would they come to?"""

    def __init__(self, job: int, settings: list[str]) -> None:
        super().__init__()
        self.job, self.settings = job, settings


class ChangeTold(Lines):
    """The outcome of the settings that are typed, or under the cursor."""

    DEFAULT_CSS = "ChangeTold { height: 2; }"

    def __init__(self) -> None:
        super().__init__(id="change-told")
        self.words, self.bad = "", False

    def tell(self, words: str, bad: bool) -> None:
        """Other words; ``bad`` when it would be refused."""
        self.words, self.bad = words, bad
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Two lines."""
        lines = wrap(self.words, self.size.width - 4, 2)
        pen.write(f"   {lines[row]}" if row < len(lines) else "", "rust" if self.bad else "ink")


class Changes(Rows):
    """Ways to change a waiting job: what is advised, then other walltimes on one scale of starts."""

    DEFAULT_CSS = "Changes { height: 1fr; }"
    can_focus = False

    def __init__(self) -> None:
        super().__init__(id="changes")
        self.rows: list[tuple[Suggestion, bool]] = []
        self.now_ms = 0
        self.asked_s = 0

    def show(self, ways: list[tuple[Suggestion, bool]], now_ms: int, asked_s: int) -> None:
        """Suggestions with whether each is advised; the present walltime is marked."""
        self.rows, self.now_ms, self.asked_s = ways, now_ms, asked_s
        self.refit()

    def row_count(self) -> int:
        """All ways."""
        return len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Draw a setting, when it would start, and a bar of the waiting."""
        change, advised = self.rows[row]
        settings = "  ".join(f"{key} = {value}" for key, value in change.set)
        pen.write(" ▸ " if current else "   ", "ochre")
        pen.cell(settings, 34, "moss" if advised else "ink", bold=current).write("  ")
        wait = max(0, change.start_ms - self.now_ms)
        wait = wait if wait >= MINUTE_MS else 0
        when = "starts now" if not wait else f"starts {clock_time(change.start_ms, self.now_ms, self.quarry.zone)}"
        pen.cell(when, 20, "moss" if not wait else "river")
        longest = max((one.start_ms - self.now_ms for one, _ in self.rows), default=0)
        room = max(0, self.room - pen.at - 26)
        cells = round(wait / longest * room) if longest > 0 else 0
        pen.write("░" * cells, "river")
        mine = not advised and change.words == format_duration(self.asked_s)
        pen.write("  as it is now" if mine else "  advised" if advised else "", "ochre" if mine else "dim")


class ChangePane(Vertical):
    """Change the request of a job that waits, with the ladder beside it."""

    DEFAULT_CSS = "ChangePane { height: 1fr; display: none; }"
    BINDINGS = [
        Binding("up", "step(-1)", "up", show=False, priority=True),
        Binding("down", "step(1)", "down", show=False, priority=True),
    ]
    job = 0

    def compose(self):  # type: ignore[no-untyped-def]
        """Heading, line to type in, list."""
        yield PaneTitle()
        yield Typed(placeholder="type KEY=VALUE, as memory=2 GiB/core; or choose below with ↑ ↓", id="typed")
        yield ChangeTold()
        yield Changes()

    def open(self, job: int, name: str) -> None:
        """Begin with a job."""
        self.job = job
        self.query_one(PaneTitle).say(
            f"CHANGE {job} {name.upper()}",
            "enter makes the change, and it keeps its turn; starts are by the plan, as if all that runs took its whole walltime",
        )
        self.query_one(Typed).value = ""
        self.query_one(ChangeTold).tell("", False)
        self.query_one(Changes).show([], 0, 0)
        self.query_one(Typed).focus()

    def show(self, job: int, advised: list[Suggestion], ladder: list[Suggestion], now_ms: int, asked_s: int) -> None:
        """Show what can be chosen."""
        if job == self.job:
            ways = [(one, True) for one in advised] + [(one, False) for one in ladder]
            self.query_one(Changes).show(ways, now_ms, asked_s)
            self._look()

    def action_step(self, by: int) -> None:
        """Another line of the list."""
        rows = self.query_one(Changes)
        rows.move(rows.cursor + by)
        self._look()

    def settings(self) -> list[str]:
        """The settings typed, else those under the cursor."""
        rows = self.query_one(Changes)
        if typed := settings_in(self.query_one(Typed).value):
            return typed
        change = rows.rows[rows.cursor][0] if rows.cursor < len(rows.rows) else None
        return [f"{key}={value}" for key, value in change.set] if change is not None else []

    def _look(self) -> None:
        """Ask what it would come to."""
        if settings := self.settings():
            self.post_message(Changing(self.job, settings))

    def on_input_changed(self, event: Input.Changed) -> None:
        """Rehearse anew: what is typed comes to something else with each letter."""
        event.stop()
        self._look()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Make the change that was typed, else the one under the cursor."""
        event.stop()
        if settings := self.settings():
            self.post_message(Chosen(self.job, settings))
