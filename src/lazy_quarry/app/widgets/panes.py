"""What the lower part of Watch may show instead of the ground: why, the output, a change of the request, the columns."""

from collections.abc import Iterator

from textual.binding import Binding
from textual.containers import Vertical
from textual.message import Message
from textual.widgets import Input

from lazy_quarry.app.cells import Pen, wrap
from lazy_quarry.app.widgets.drawing import Drawing, Lines, Rows
from lazy_quarry.app.widgets.lanes import COLUMNS
from lazy_quarry.core.explain.answers import Suggestion
from lazy_quarry.core.units import clock_time, format_duration
from lazy_quarry.site.job_detail import JobDetail
from lazy_quarry.site.sentences import ordinal, standing_words


class PaneTitle(Lines):
    """The rule and the heading of a pane."""

    DEFAULT_CSS = "PaneTitle { height: 2; }"
    words, more = "", ""

    def draw(self, row: int, pen: Pen) -> None:
        """Rule, heading."""
        if row == 0:
            pen.write("─" * self.size.width, "faint")
        else:
            pen.write(f" {self.words}", bold=True).write(f"   {self.more}", "dim")

    def say(self, words: str, more: str) -> None:
        """Another heading."""
        self.words, self.more = words, more
        self.refresh()


class Prose(Rows):
    """Lines that are read and scrolled."""

    DEFAULT_CSS = "Prose { height: 1fr; }"
    has_cursor = False

    def __init__(self, *, id: str) -> None:
        super().__init__(id=id)
        self.lines: list[tuple[str, str]] = []

    def row_count(self) -> int:
        """All lines."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A line in its colour."""
        text, colour = self.lines[row]
        pen.write(f"   {text}", colour)

    def put(self, lines: list[tuple[str, str]], end: bool = False) -> None:
        """Other lines; with ``end`` the last ones are in sight."""
        following = end and self.scroll_offset.y >= len(self.lines) - self.size.height
        self.lines = lines
        self.refit()
        if following:
            self.scroll_to(y=max(0, len(lines) - self.size.height), animate=False)


def why_prose(detail: JobDetail, width: int) -> Iterator[tuple[str, str]]:
    """What a job waits for, what would help, its standing, who is ahead: lines with their colours."""
    told = detail.explained
    words = detail.view.why or detail.verdict or "it waits for nothing"
    for line in wrap(f"{words[:1].upper()}{words[1:]}", width - 6, 4):
        yield line, "ink"
    if told is None:
        return
    for change in told.changes:
        for line in wrap(f"→ {change.words}", width - 6, 2):
            yield line, "moss"
    if told.changes:
        yield "  e changes the request to one of these", "dim"
    if told.place is None:
        return
    yield "", "ink"
    yield f"{ordinal(told.place)} in the queue, standing {standing_words(told.parts)}", "ink"
    for one in told.ahead:
        for line in wrap(one.words, width - 6, 2):
            yield line, "dim"


class Chosen(Message):
    """These settings are to be made to the job that is being changed."""

    def __init__(self, job: int, settings: list[str]) -> None:
        super().__init__()
        self.job, self.settings = job, settings


class Changes(Rows):
    """Ways to change a waiting job: what is advised, then other walltimes on one scale of starts."""

    DEFAULT_CSS = "Changes { height: 1fr; }"
    can_focus = False

    def __init__(self) -> None:
        super().__init__(id="changes")
        self.rows: list[tuple[Suggestion, bool]] = []
        self.now_ms = 0
        self.asked_s = 0

    def row_count(self) -> int:
        """All ways."""
        return len(self.rows)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """What to set, when it would start, and a bar of the waiting."""
        change, advised = self.rows[row]
        settings = "  ".join(f"{key} = {value}" for key, value in change.set)
        pen.write(" ▸ " if current else "   ", "ochre")
        pen.cell(settings, 34, "moss" if advised else "ink", bold=current).write("  ")
        wait = max(0, change.start_ms - self.now_ms)
        when = "starts now" if not wait else f"starts {clock_time(change.start_ms, self.now_ms, self.quarry.zone)}"
        pen.cell(when, 20, "moss" if not wait else "river")
        longest = max((one.start_ms - self.now_ms for one, _ in self.rows), default=0)
        room = max(0, self.room - pen.at - 26)
        cells = round(wait / longest * room) if longest > 0 else 0
        pen.write("░" * cells, "river")
        mine = not advised and change.words == format_duration(self.asked_s)
        pen.write("  as it is now" if mine else "  advised" if advised else "", "ochre" if mine else "dim")


class Typed(Drawing, Input):
    """KEY=VALUE by hand; up and down go through the list below."""

    DEFAULT_CSS = """
    Typed { border: none; height: 1; padding: 0 1; margin: 0 2; background: $raised; }
    Typed:focus { border: none; }
    """


class FindLine(Typed):
    """What rows are searched for. With enter the keys go back to the rows at once, so what is typed ahead gets there."""

    BINDINGS = [Binding("enter", "submit", "keep", show=False, priority=True)]  # before later keys are handed on

    def __init__(self, placeholder: str) -> None:
        super().__init__(placeholder=placeholder, id="find")

    async def action_submit(self) -> None:
        """Keep what was found."""
        self.display = False
        self.screen.set_focus(self.screen.query_one("#jobs"))


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
        yield Changes()

    def open(self, job: int, name: str) -> None:
        """Begin with a job."""
        self.job = job
        self.query_one(PaneTitle).say(
            f"CHANGE {job} {name.upper()}", "enter makes the change, it keeps its standing; escape leaves it"
        )
        self.query_one(Typed).value = ""
        rows = self.query_one(Changes)
        rows.rows = []
        rows.refit()
        self.query_one(Typed).focus()

    def show(self, job: int, advised: list[Suggestion], ladder: list[Suggestion], now_ms: int, asked_s: int) -> None:
        """What can be chosen."""
        rows = self.query_one(Changes)
        if job == self.job:
            rows.rows = [(one, True) for one in advised] + [(one, False) for one in ladder]
            rows.now_ms, rows.asked_s = now_ms, asked_s
            rows.refit()

    def action_step(self, by: int) -> None:
        """Another line of the list."""
        rows = self.query_one(Changes)
        rows.move(rows.cursor + by)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Make the change that was typed, else the one under the cursor."""
        event.stop()
        typed = self.query_one(Typed).value.strip()
        rows = self.query_one(Changes)
        if typed:
            self.post_message(Chosen(self.job, [part.strip() for part in typed.split(";") if part.strip()]))
        elif rows.cursor < len(rows.rows):
            change, _ = rows.rows[rows.cursor]
            self.post_message(Chosen(self.job, [f"{key}={value}" for key, value in change.set]))


class ColumnsTaken(Message):
    """Other columns, or other widths."""

    def __init__(self, widths: dict[str, int]) -> None:
        super().__init__()
        self.widths = widths


class ColumnList(Rows):
    """Every column there is: enter takes it in or out, ← and → make it narrower or wider."""

    DEFAULT_CSS = "ColumnList { height: 1fr; }"
    BINDINGS = [
        Binding("enter", "take", "in or out"),
        Binding("left", "widen(-1)", "narrower"),
        Binding("right", "widen(1)", "wider"),
    ]

    def __init__(self) -> None:
        super().__init__(id="columns")
        self.widths: dict[str, int] = {}

    def row_count(self) -> int:
        """All columns."""
        return len(COLUMNS)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Its mark, name and width."""
        column = list(COLUMNS.values())[row]
        shown = column.name in self.widths
        pen.write(" ▸ " if current else "   ", "ochre").write("▪ " if shown else "· ", "ochre" if shown else "faint")
        pen.cell(column.name, 12, "ink" if shown else "dim", bold=current)
        if shown:
            pen.write("─" * self.widths[column.name], "faint").write(f" {self.widths[column.name]}", "dim")

    def action_take(self) -> None:
        """Show it or not."""
        column = list(COLUMNS.values())[self.cursor]
        if column.name in self.widths:
            self.widths = {name: width for name, width in self.widths.items() if name != column.name}
        else:
            self.widths = {**self.widths, column.name: column.width}
        self._taken()

    def action_widen(self, by: int) -> None:
        """A cell more or less."""
        column = list(COLUMNS.values())[self.cursor]
        if column.name in self.widths:
            self.widths = {**self.widths, column.name: max(4, min(60, self.widths[column.name] + by))}
            self._taken()

    def _taken(self) -> None:
        self.refresh()
        self.post_message(ColumnsTaken(dict(self.widths)))
