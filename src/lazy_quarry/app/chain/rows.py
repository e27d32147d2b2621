"""Chains as a list, and the jobs of one as rows with their lanes."""

from lazy_quarry.app.chain.canvas import role
from lazy_quarry.app.shared.axis import Axis
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.core.units import HOUR_MS, clock_time, format_duration
from lazy_quarry.views.chain_views import ChainView, PartView

_STATES = {"done": "moss", "failed": "rust", "running": "ochre", "waiting": "river", "draft": "heather"}


class ChainList(Rows):
    """The chain that is being drafted, and those that were submitted."""

    DEFAULT_CSS = "ChainList { width: 42; height: 1fr; min-height: 4; border-right: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="chains")
        self.views: list[ChainView] = []
        self.wanted = 0
        """A chain that the cursor goes to once it is there."""

    def show(self, views: list[ChainView]) -> None:
        """Other chains; the cursor stays on the one it was on."""
        known = self.current()
        self.views = views
        if self.wanted in [one.number for one in views] and self.wanted:
            known, self.wanted = next(one for one in views if one.number == self.wanted), 0
        if known is not None:
            numbers = [one.number for one in views]
            self.cursor = numbers.index(known.number) if known.number in numbers else 0
        self.refit()

    def current(self) -> ChainView | None:
        """The chain under the cursor."""
        return self.views[self.cursor] if self.cursor < len(self.views) else None

    def row_count(self) -> int:
        """One for each."""
        return len(self.views)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Number, name, state, what is left."""
        view = self.views[row]
        colour = _STATES.get(view.state, "dim")
        wide = self.room > 30
        pen.cell(f" {view.number or ''}", 5, "dim").cell(view.name, 16 if wide else 11, "ink", bold=current)
        pen.cell(f" {view.state}", 12 if wide else 9, colour)
        pen.write(f"{view.left} left" if wide and view.number and view.left else "", "dim")


WIDE_FROM = 100
"""Cells from which on numbers and states have columns of their own."""


def before_lane(room: int) -> int:
    """Cells before the lanes, of so many in all."""
    return 3 + 16 + (8 + 1 + 12 if room >= WIDE_FROM else 0) + 10 + 10 + 2 + 9 + 1


class PartHead(Lines):
    """The headings of the jobs, and the times above their lanes."""

    DEFAULT_CSS = "PartHead { height: 2; border-top: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="part-head")
        self.axis: Axis | None = None

    def follow(self, axis: Axis | None) -> None:
        """Another span of time; None for no chain."""
        self.axis = axis
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        if row or self.axis is None:
            return
        pen.cell("   job", 19, "dim")
        if self.size.width - 1 >= WIDE_FROM:
            pen.cell("number", 8, "dim", right=True).write(" ").cell("state", 12, "dim")
        pen.cell("starts", 10, "dim", right=True).cell("ends", 10, "dim", right=True).write("  ").cell(
            "may slip", 10, "dim"
        )
        before = before_lane(self.size.width - 1)
        width = self.size.width - before - 1
        for column, at in self.axis.ticks(width) if width > 8 else ():
            if before + column >= pen.at and column + 9 < width:
                pen.to(before + column).write(clock_time(at, self.axis.now_ms, self.quarry.zone), "dim")


class PartRows(Rows):
    """The jobs of a chain: state, when, by how much each may slip, and the lane; the critical ones are heavier."""

    DEFAULT_CSS = "PartRows { height: 1fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="parts")
        self.view: ChainView | None = None
        self.whole: ChainView | None = None
        """The chain itself, where another instant of it is shown."""
        self.wanted = ""
        """A job that the cursor goes to once it is there."""
        self.axis = Axis(0, now_share=0.0)
        self.fails: frozenset[str] = frozenset()
        self.slower: frozenset[str] = frozenset()

    def show(self, view: ChainView | None) -> None:
        """Another chain, or the same later; all of its time is in sight."""
        name = one.name if (one := self.current()) else ""
        self.view = self.whole = view
        if view is not None:
            begins = [each.starts_ms for each in view.parts if each.starts_ms is not None]
            ends = [each.ends_ms + (each.slack_ms or 0) for each in view.parts if each.ends_ms is not None]
            first = min([view.now_ms, *begins]) if view.number else view.now_ms
            span = max([first + HOUR_MS // 2, *ends]) - first
            self.axis = Axis(view.now_ms, round(span * 1.04), first - view.now_ms, 0.0)
            names = [each.name for each in view.parts]
            if self.wanted in names:
                name, self.wanted = self.wanted, ""
            self.cursor = names.index(name) if name in names else 0
        self.refit()

    def play(self, view: ChainView) -> None:
        """The same chain at another instant, on the same axis."""
        self.view = view
        begin = self.axis.begin_ms
        self.axis.now_ms = view.now_ms
        self.axis.shift_ms += begin - self.axis.begin_ms
        self.refresh()

    def current(self) -> PartView | None:
        """The job under the cursor."""
        parts = self.view.parts if self.view else ()
        return parts[self.cursor] if self.cursor < len(parts) else None

    def choose(self, name: str) -> None:
        """Put the cursor on a job."""
        names = [one.name for one in self.view.parts] if self.view else []
        if name in names:
            self.move(names.index(name))

    def supposed(self) -> dict[str, str]:
        """Suppositions about jobs, in words."""
        return {**dict.fromkeys(self.slower, "if twice as long"), **dict.fromkeys(self.fails, "if it fails")}

    def row_count(self) -> int:
        """One for each job."""
        return len(self.view.parts) if self.view else 0

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Name, number, state, start and end, slack, lane."""
        assert self.view is not None
        one, now, zone = self.view.parts[row], self.view.now_ms, self.quarry.zone
        sign = one.phase.sign if one.phase else "▱" if one.ends_ms is not None else " "
        pen.write(f" {sign} ", role(one)).cell(one.name, 16, "ink", bold=current or one.critical)
        wide = self.room >= WIDE_FROM
        supposed = "fails?" if one.name in self.fails else "×2?" if one.name in self.slower else ""
        state = one.phase.value if one.phase else "" if one.ends_ms is not None else "doesn't run"
        if wide:
            pen.cell(f"{one.job or ''}", 8, "dim", right=True)
            pen.write(" ").cell(supposed or state, 12, "rust" if supposed else role(one))
        for at in (one.starts_ms, one.ends_ms):
            pen.cell(clock_time(at, now, zone) if at is not None else "", 10, "dim", right=True)
        slack = "" if one.slack_ms is None else format_duration(one.slack_ms / 1000, 1)
        slack = "critical" if one.critical else slack
        slack = supposed if supposed and not wide else slack
        pen.write("  ").cell(slack, 9, "ochre" if one.critical else "dim").write(" ")
        width = self.room - pen.at - 1
        if one.starts_ms is None or one.ends_ms is None or width < 8:
            pen.cell(one.reason, max(0, width), "dim")
            return
        self._lane(pen, one, width)

    def _lane(self, pen: Pen, one: PartView, width: int) -> None:
        begin, end = (max(0, min(width, self.axis.column(at or 0, width))) for at in (one.starts_ms, one.ends_ms))
        now, end = self.axis.column(self.axis.now_ms, width), max(end, begin + 1)
        slip = max(end, min(width, self.axis.column((one.ends_ms or 0) + (one.slack_ms or 0), width)))
        over = one.phase is not None and one.phase.final
        solid = end if over else max(begin, min(end, now)) if one.phase and one.phase.value == "running" else begin
        colour = "ochre" if one.critical else role(one)
        pen.write(" " * begin).write("█" * (solid - begin), colour)
        pen.write(("▓" if one.critical else "░") * (end - solid), colour)
        pen.write("╌" * (slip - end), "dim")
