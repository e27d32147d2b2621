"""The jobs that ended last, for sites of few nodes: there is room for them where a large site has its nodes."""

from lazy_quarry.app.shared.cells import Pen
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.units import clock_time
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import state_words

FEW_NODES = 3
"""Nodes up to which a site's places show its hours and ends beside them."""


def ended_last(board: Board | None) -> list[JobView]:
    """Jobs that have ended lately, the newest first."""
    ended = [view for view in board.jobs if view.phase.final and view.parent is None] if board is not None else []
    return sorted(ended, key=lambda view: view.ended_ms or 0, reverse=True)


class EndedLines(Lines):
    """A line for each of them: when it ended, what it is called, and how it went."""

    DEFAULT_CSS = "EndedLines { height: 9; display: none; }"

    def __init__(self) -> None:
        super().__init__(id="ended-last")
        self.board: Board | None = None

    def show(self, board: Board) -> None:
        """New figures."""
        self.board = board
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """The heading, and a line for each."""
        draw_ended(row, ended_last(self.board), self.board, pen, self)


def draw_ended(row: int, ended: list[JobView], board: Board | None, pen: Pen, widget: Lines) -> None:
    """A line of what ended last; row 0 is the heading."""
    if board is None:
        return
    if row == 0:
        pen.write(" ENDED LAST", bold=True)
        pen.write("   5 looks at them" if ended else "   nothing has ended lately; 2 drafts a job", "dim")
    elif row <= len(ended):
        view = ended[row - 1]
        at = clock_time(view.ended_ms or 0, board.now_ms, widget.quarry.zone)
        pen.cell(f"   {at}", 13, "dim").cell(view.label, 7, "dim", right=True).write("  ").cell(view.name, 22)
        tone = widget.palette.of_phase(view.phase)
        words = state_words(view, board.now_ms, widget.quarry.zone)
        pen.write(f" {view.phase.sign} ", tone).write(words, tone if view.phase in FAILING else "dim")
