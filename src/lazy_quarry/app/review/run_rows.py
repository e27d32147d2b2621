"""The runs of Review: a narrow list beside the verdict, or a wide one with columns of one's choice."""

from collections.abc import Mapping

from lazy_quarry.app.review.read_marks import LookedAt
from lazy_quarry.app.shared.acts import click_of, key_of
from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines, Rows
from lazy_quarry.app.shared.job_columns import COLUMNS
from lazy_quarry.core.units import clock_time
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.job_columns import JobColumn
from lazy_quarry.wording.sentences import outcome_words, state_words

USUAL = {"name": 20, "user": 7, "account": 11, "cores": 6, "took": 9, "peak": 9, "charged": 9, "ended": 12}
"""The columns of the wide list, before anybody chose others."""
BEFORE, STATE = 10, 26
"""Cells for mark and number, and for the outcome in words."""


class RunHead(Lines):
    """The head over the runs: which are listed, and how they are sorted; above the wide list the names of its columns."""

    DEFAULT_CSS = "RunHead { height: 2; width: 1fr; }"

    def __init__(self, rows: "RunRows") -> None:
        super().__init__(id="run-head")
        self.rows = rows
        self.search, self.sort, self.told = "", "", "reading …"

    def say(self, search: str, sort: str, told: str) -> None:
        """Show what is listed."""
        self.search, self.sort, self.told = search, sort, told
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        if row == 0:
            pen.write(" FOUND" if self.search else " RUNS", bold=True)
            pen.write(f"   {self.told}", "dim")
            pen.write(f"   {self.search}" if self.search and self.rows.wide else "", "ochre")
        elif self.rows.wide:
            pen.write(" " * BEFORE)
            for column, width in self.rows.columns():
                way = (
                    (" ↓" if self.sort[:1] == "-" else " ↑")
                    if column.sorts and self.sort.lstrip("-") == column.sorts
                    else ""
                )
                colour = "ochre" if way else "dim"
                pen.cell(f"{column.title}{way}", width, colour, right=column.right, hit=_sorting(column)).write("  ")
            pen.write("outcome", "dim")
        elif self.search:
            pen.cell(f"   {self.search}", self.size.width, "ochre")
        else:
            usual = f"{key_of('find')} search   {key_of('view')} wide"
            words = (
                f"sorted by {self.sort.lstrip('-')}, {'the greatest' if self.sort[:1] == '-' else 'the least'} first"
            )
            pen.write(f"   {words if self.sort else usual}", "dim")


def _sorting(column: JobColumn) -> str:
    return click_of("searching", "sort_by", column.sorts) if column.sorts else ""


class RunRows(Rows):
    """Runs, as they were found."""

    DEFAULT_CSS = "RunRows { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="runs")
        self.runs: list[JobView] = []
        self.now_ms = 0
        self.looked_at: LookedAt | None = None
        self.marked: dict[int, None] = {}
        """Runs that are to be compared, in the order in which they were marked."""
        self.doubts: dict[int, bool] = {}
        """Runs that were done, each with whether something says that all is not well."""
        self.wide = False
        self.widths: dict[str, int] = dict(USUAL)

    def row_count(self) -> int:
        """One for each run."""
        return len(self.runs)

    def show(self, runs: list[JobView], now_ms: int) -> None:
        """Show these runs."""
        self.runs, self.now_ms = runs, now_ms
        self.refit()

    def show_columns(self, widths: Mapping[str, int]) -> None:
        """These columns, in this order."""
        self.widths = dict(widths) or dict(USUAL)
        self.refresh()

    def columns(self) -> list[tuple[JobColumn, int]]:
        """The columns that there is room for beside the outcome."""
        found, used = [], BEFORE + STATE
        for name, width in self.widths.items():
            if name in COLUMNS and used + width + 2 <= max(self.room, 60):
                found.append((COLUMNS[name], width))
                used += width + 2
        return found

    def current(self) -> JobView | None:
        """The run under the cursor."""
        return self.runs[self.cursor] if self.cursor < len(self.runs) else None

    def mark(self) -> None:
        """Mark the run under the cursor for comparing, or not."""
        view = self.current()
        if view is not None:
            if view.job in self.marked:
                del self.marked[view.job]
            else:
                self.marked[view.job] = None
            self.refresh()

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """Mark, number, and what else there is room for."""
        view = self.runs[row]
        doubtful = self.doubts.get(view.job, False)
        colour = "rust" if doubtful else self.palette.of_phase(view.phase)
        new = self.looked_at is not None and self.looked_at.is_new(view)
        if view.job in self.marked:
            pen.write("»", "river", bold=True)
        else:
            pen.write("▪" if new else " ", "ochre")
        pen.cell(view.label, 6 if not self.wide else 8, "ink" if new else "dim", right=True)
        pen.write(f" {view.phase.sign} " if not self.wide else " ", colour)
        if self.wide:
            for column, width in self.columns():
                words = column.says(view, self.now_ms, self.quarry.zone)
                name = column.title == "name"
                pen.cell(words, width, "ink" if name else "dim", right=column.right, bold=current and name).write("  ")
            pen.cell(
                f"{view.phase.sign} {state_words(view, self.now_ms, self.quarry.zone)}",
                max(8, self.room - pen.at),
                colour,
            )
            return
        at = view.ended_ms or view.started_ms or view.submitted_ms
        when = clock_time(at, self.now_ms, self.quarry.zone)
        outcome = f"! {outcome_words(view)}" if doubtful else outcome_words(view)
        pen.cell(view.name, 15, "ink", bold=current).write(" ")
        pen.cell(outcome, max(4, self.room - pen.at - len(when) - 2), colour).write(f" {when}", "dim")
