"""Jobs as rows with their lanes on one time axis."""

from collections.abc import Iterable

from textual.geometry import Size

from lazy_quarry.app.shared.axis import Axis
from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.job_columns import NUMBER_CELLS, STATE_CELLS, shown_columns
from lazy_quarry.app.shared.messages import OpenJob
from lazy_quarry.app.shared.theme import OWNERS
from lazy_quarry.app.watch.lane import draw_lane, draw_lanes, draw_node_lane
from lazy_quarry.app.watch.watch_list import Arranged, Choice, Row, RowKey
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.units import plural
from lazy_quarry.views.board import Board, NodeView, PersonView
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.job_columns import JobColumn
from lazy_quarry.wording.sentences import chain_state, shut_words, state_words


def fold_sign(opened: bool) -> str:
    """The sign of a row that has others below it: ``-`` while these are shown, ``+`` where it can be opened."""
    return "-" if opened else "+"


class JobRows(Rows):
    """Jobs, groups or nodes as rows, each with its lane."""

    DEFAULT_CSS = "JobRows { height: 2fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="jobs")
        self.arranged = Arranged([])
        self.axis = Axis(0)
        self.person = PersonView("", "", (), ())
        self.scope, self.by_node = "mine", False
        self.opened: frozenset[RowKey] = frozenset()
        self.marked: set[int] = set()
        self.widths: dict[str, int] = {}

    @property
    def jobs(self) -> list[JobView]:
        """The jobs among the rows, in their order."""
        return [view for row in self.arranged.rows for view in self.views_of(row)]

    def views_of(self, row: Row) -> tuple[JobView, ...]:
        """The jobs that a row stands for; those of an open chain have rows of their own."""
        if row.view is not None:
            return (row.view,)
        return row.members if row.key not in self.opened else ()

    @property
    def left(self) -> int:
        """Where the lanes begin: what stands before them has what it needs and no more."""
        return NUMBER_CELLS + 3 + STATE_CELLS + sum(cells + 2 for _, cells in self.columns)

    @property
    def columns(self) -> list[tuple[JobColumn, int]]:
        """The columns in sight."""
        return shown_columns(self.widths, self.room or self.size.width, self.scope)

    @property
    def headings(self) -> list[tuple[str, int, bool]]:
        """Headings over the columns: words, cells, whether to the right."""
        if self.by_node:
            return [("", 3, False), ("node", 10, False), ("cores", 14, False), ("free now", 12, False)]
        found = [("job", NUMBER_CELLS, True), ("", 2, False)]
        for column, cells in self.columns:
            found += [(column.title, cells, column.right), ("", 2, False)]
        return [*found, ("state", STATE_CELLS, False)]

    def show_columns(self, widths: dict[str, int]) -> None:
        """Show these columns, by name with their widths in cells."""
        self.widths = widths
        self.refresh()

    def row_count(self) -> int:
        """All rows."""
        return len(self.arranged.rows)

    def row(self) -> Row | None:
        """The row under the cursor."""
        return self.arranged.rows[self.cursor] if self.cursor < len(self.arranged.rows) else None

    def current(self) -> JobView | None:
        """The job under the cursor."""
        row = self.row()
        return row.view if row else None

    def show(self, arranged: Arranged, choice: Choice, board: Board) -> None:
        """Show new rows. The cursor stays on its row, and that row stays where it was on the screen."""
        self.person, self.scope, self.opened = board.person, choice.scope, choice.opened
        self.by_node = choice.by_node
        self.axis.now_ms = board.now_ms
        under = self.row()
        self.arranged, before = arranged, self.arranged
        if under is not None and before is not arranged:
            place = arranged.place_of(under.key, self.cursor)
            if place is not None and place != self.cursor:
                shift = place - self.cursor
                self.cursor = place
                self.virtual_size = Size(self.room, self.row_count())
                self.scroll_to(y=max(0, self.scroll_offset.y + shift), animate=False)
        self.refit()

    def clicked(self, row: int, column: int) -> None:
        """The cursor goes there; a second click opens the job."""
        again = row == self.cursor
        self.move(row)
        if again and (job := self.current()):
            self.post_message(OpenJob(job.job))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One row of whichever kind."""
        one = self.arranged.rows[row]
        if one.view is not None:
            self._draw_job(one, one.view, pen, current)
        elif one.node is not None:
            self._draw_node(one, one.node, pen, current)
        elif one.key[0] == "rest":
            pen.write("  " * one.depth).cell("·…", NUMBER_CELLS - pen.at, "dim", right=True)
            pen.write("  ").write(f"▱ {one.words}", "river")
        elif one.members:
            self._draw_chain(one, pen, current)
        else:
            sign = fold_sign(one.key not in self.opened)
            pen.write(f" {sign} ", "ochre").write(f"{one.key[1]}".upper(), bold=True).write(f"   {one.words}", "dim")

    def _draw_job(self, row: Row, view: JobView, pen: Pen, current: bool) -> None:
        """Number, columns, state, lane."""
        past = view.phase.final
        colour = self.palette.of_phase(view.phase)
        left = self.left
        pen.write("▍" if view.job in self.marked else " ", "ochre")
        sign = fold_sign(("array", view.job) in self.opened) if view.rows else " "
        pen.write(" " * row.depth + sign, "ochre")
        label = f"·{view.task}" if view.parent is not None and row.depth else view.label
        pen.cell(label, NUMBER_CELLS - pen.at, "dim", right=True).write("  ")
        columns = self.columns
        if view.parameters and row.depth and columns:  # a task of an open array: what tells it from the others
            values = " ".join(f"{key}={value}" for key, value in view.parameters)
            pen.cell(values, sum(cells + 2 for _, cells in columns) - 2, "dim" if past else "ink", bold=current).write(
                "  "
            )
            columns = []
        for column, cells in columns:
            name = column.title == "name"
            words = column.says(view, self.axis.now_ms, self.quarry.zone)
            pen.cell(
                words, cells, ("dim" if past else "ink") if name else "dim", right=column.right, bold=current and name
            )
            pen.write("  ")
        pen.write(view.phase.sign, colour)
        words = state_words(view, self.axis.now_ms, self.quarry.zone)
        tone = colour if not past or view.phase is not Phase.DONE else "dim"
        room = left - pen.at - 1
        if view.warning:
            words = words[: room - 3]
            pen.write(f" {words} ", tone).write("!", "rust", bold=True).to(left)
        else:
            pen.cell(f" {words}", room, tone).write(" ")
        own = OWNERS[self.person.owner(view.user, view.account)]
        draw_lane(pen, view, self.axis, self.room - left, own)

    def _draw_chain(self, row: Row, pen: Pen, current: bool) -> None:
        """Number and name, how many of its jobs are over, all of them on one lane."""
        marked = all(view.job in self.marked for view in row.members)
        pen.write("▍" if marked else " ", "ochre").write(fold_sign(row.key in self.opened), "ochre")
        pen.cell(f"⋈ {row.key[1]}", NUMBER_CELLS - pen.at, "dim", right=True).write("  ")
        phase, words = chain_state(row.members)
        own = any(view.user == self.person.user for view in row.members)
        name = f"{row.words}   chain of {plural(len(row.members), 'job')}"
        pen.cell(name, max(0, sum(cells + 2 for _, cells in self.columns) - 2), "ink", bold=current).write("  ")
        pen.write(phase.sign, self.palette.of_phase(phase))
        pen.cell(f" {words}", self.left - pen.at - 1, self.palette.of_phase(phase)).write(" ")
        draw_lanes(pen, row.members, self.axis, self.room - self.left, "ochre" if own else "stone")

    def _draw_node(self, row: Row, node: NodeView, pen: Pen, current: bool) -> None:
        """Name, what is free, who has its cores when."""
        left = self.left
        sign = fold_sign(row.key in self.opened)
        pen.write(f" {sign} ", "ochre").cell(node.name, 9, "ink", bold=current).write(" ")
        bar_cells = 12
        used = min(node.cores, node.cores_used)
        parts = [(float(used), "━", "stone"), (float(node.cores - used), "━", "rust" if node.shut else "faint")]
        bar(pen, parts, bar_cells, node.cores)
        jobs = len({occupant.job for occupant in node.occupants})
        words = shut_words(node, self.axis.now_ms, self.quarry.zone, brief=True) or row.words
        told = f"  {words}" + (f", {plural(jobs, 'job')}" if jobs and not node.shut else "")
        pen.cell(told, left - pen.at - 1, "rust" if node.shut else "dim").write(" ")
        held = self.arranged.held.get(node.name, [])
        quiet = node.quiet_since_ms
        draw_node_lane(pen, held, node.cores, self.axis, self.room - left, closed=node.shut, quiet_since_ms=quiet)

    # -- marks -------------------------------------------------------------------------------------

    def toggle_mark(self) -> None:
        """Mark the job under the cursor, or take its mark away; the cursor stays, for the list sorts itself."""
        row = self.row()
        if row is not None and row.members:
            every = {view.job for view in row.members}
            self.marked = self.marked - every if self.marked >= every else self.marked | every
        elif view := self.current():
            self.marked ^= {view.job}

    def toggle_all_marks(self) -> None:
        """Mark all live jobs of the person that are shown. If all are marked, unmark them."""
        every = {view.job for view in self.jobs if view.user == self.person.user and not view.phase.final}
        self.marked = set() if self.marked >= every else self.marked | every

    def chosen(self, jobs: Iterable[JobView]) -> list[JobView]:
        """The marked ones of these jobs; where none is marked, the one under the cursor."""
        if self.marked:
            return [view for view in jobs if view.job in self.marked]
        view = self.current()
        return [view] if view is not None else []
