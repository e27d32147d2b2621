"""Watch: what runs, what waits and why, when it will start, and what to do about it."""

from collections.abc import Callable
from contextlib import suppress
from functools import partial
from itertools import islice

from textual import work
from textual.containers import Vertical
from textual.widgets import Input

from lazy_quarry.app.shared.acts import bound, bound_of
from lazy_quarry.app.shared.axis import AxisLine
from lazy_quarry.app.shared.column_list import ColumnList, ColumnsTaken
from lazy_quarry.app.shared.figure_catalogue import Offer
from lazy_quarry.app.shared.key_hint import KeyHint
from lazy_quarry.app.shared.messages import CursorMoved, OpenChain, OpenJob
from lazy_quarry.app.shared.place import Hint, Place
from lazy_quarry.app.shared.table_catalogue import Table, jobs_table, nodes_table
from lazy_quarry.app.shared.typed_line import FindLine
from lazy_quarry.app.watch import sentences as watch_sentences
from lazy_quarry.app.watch.change_pane import ChangePane, Changing, Chosen
from lazy_quarry.app.watch.doing import WatchDoing
from lazy_quarry.app.watch.job_context import JobContext
from lazy_quarry.app.watch.job_rows import JobRows
from lazy_quarry.app.watch.over_time import WatchTime
from lazy_quarry.app.watch.pane_title import PaneTitle
from lazy_quarry.app.watch.panes import WatchPanes
from lazy_quarry.app.watch.prose import Prose
from lazy_quarry.app.watch.run_history import Learnt, learnt_of
from lazy_quarry.app.watch.watch_list import GROUPS, SCOPES, SORTS, Arranger, Choice, RowKey
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.units import HOUR_MS
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.board import Board
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import sooner_words


class WatchPlace(Place):
    """Jobs or nodes as lanes above; below it what matters to the job, why, the output, a change, or the columns."""

    DEFAULT_CSS = """
    WatchPlace #find { display: none; }
    WatchPlace .pane { height: 1fr; min-height: 6; display: none; }
    """
    WHY_NOT = watch_sentences.WHY_NOT
    BINDINGS = [
        bound("open", "open", "a job in Review, a chain in Chain; a node or a group opens here"),
        bound("why", "pane('why')", "why it waits, who is ahead, and what request would start sooner"),
        bound("output", "pane('output')", "follow what it prints"),
        bound_of(
            WatchDoing.NAME,
            "change",
            "change",
            "change its request: walltime, memory, queue …, saying when it would start and what it costs",
        ),
        bound_of(WatchDoing.NAME, "hold", "do('hold')", "hold what waits: it does not start until it is released"),
        bound_of(WatchDoing.NAME, "release", "do('release')", "release what is held: it waits for its turn again"),
        bound_of(WatchDoing.NAME, "cancel", "cancel", "cancel it, after saying what would be lost"),
        bound_of(WatchDoing.NAME, "again", "again", "run again what has ended, after saying what that costs"),
        bound_of(
            WatchDoing.NAME,
            "again_failed",
            "again_failed",
            "run again what failed of an array, with what was learnt from it",
        ),
        bound_of(WatchDoing.NAME, "script", "script", "its script in Draft"),
        bound("mark", "mark", "mark a job, or take its mark away; what is done then is done to all that are marked"),
        bound("mark_all", "mark_all", "mark all of mine that are shown, or none"),
        bound_of(
            WatchDoing.NAME, "before", "rank(-1)", "move a job of mine before the next of mine; nobody else's moves"
        ),
        bound_of(
            WatchDoing.NAME, "behind", "rank(1)", "move a job of mine behind the next of mine; nobody else's moves"
        ),
        bound("find", "find", "only jobs that have these words", priority=True),  # before the letters behind it
        bound("failure", "failure", "go to the next job that did not succeed"),
        bound("sort", "sort", "sort by another thing"),
        bound("group", "group", "group by another thing, at last by nothing"),
        bound("whose", "scope", "my jobs, my accounts' or everyone's"),
        bound("view", "by_node", "lanes by node, or by job"),
        bound("fold", "unfold", "open an array, a chain, a node or a group, or fold it"),
        bound("columns", "pane('columns')", "which columns, and how wide"),
        bound("back", "back", "close the pane, end the search, take the marks away"),
        *WatchTime.BOUND,
    ]
    doing: WatchDoing
    time: WatchTime

    def __init__(self, **arguments: str) -> None:
        super().__init__(**arguments)
        self.arranger = Arranger()
        self.choice = Choice()

    @property
    def scope(self) -> str:
        """Whose jobs are shown."""
        return self.choice.scope

    def compose(self):  # type: ignore[no-untyped-def]
        """Axis, what is searched for, rows; below them one of the panes."""
        yield AxisLine()
        yield FindLine("find by number, name, user, account, queue, tier or state; enter keeps it, escape clears it")
        yield JobRows()
        yield JobContext()
        for name, content in (
            ("why", Prose(id="why-lines")),
            ("output", Prose(id="output-lines")),
            ("columns", ColumnList()),
        ):
            with Vertical(classes="pane", id=f"pane-{name}"):
                yield PaneTitle()
                yield content
        with Vertical(classes="pane", id="pane-change"):
            yield ChangePane()

    _before: int | None = None
    """The job that the cursor was on before nodes were shown."""

    def on_mount(self) -> None:
        """Take the columns that were chosen last time."""
        self.panes = WatchPanes(self.quarry, self)
        self.doing = self.has(WatchDoing(self, self.panes, self.action_pane))
        self.time = self.has(WatchTime(self))
        self.panes.take_columns()
        self.query_one(ChangePane).display = True

    # -- the present -------------------------------------------------------------------------------

    def prepare(self, board: Board) -> None:
        """Arrange the rows of a board, away from the interface's loop."""
        self.arranger.arrange(board, self.choice)

    def sight(self) -> list[int]:
        """The rows on the screen, and the one under the cursor."""
        rows, top = self.query_one(JobRows), self.query_one(JobRows).scroll_offset.y
        shown = [*rows.arranged.rows[top : top + rows.size.height + 1], *([rows.row()] if rows.row() else [])]
        views = [view for row in shown if row for view in ((row.view,) if row.view is not None else row.members)]
        return [view.job for view in views]

    def job_in_sight(self) -> JobView | None:
        """The job under the cursor."""
        row = self.query_one(JobRows).row()
        return row.view if row is not None else None

    def show(self, board: Board) -> None:
        """Show new rows; the row under the cursor stays where it is."""
        if self.board is None and board.clock.kind == "wall":
            self.query_one(JobRows).axis.show_span(HOUR_MS)  # what runs on one machine is mostly short
        super().show(board)
        self._arrange()
        self._learn()

    def _arrange(self) -> None:
        board = self.board
        if board is None:
            return
        arranged = self.arranger.arrange(board, self.choice)
        axis, rows = self.query_one(AxisLine), self.query_one(JobRows)
        rows.show(arranged, self.choice, board)
        scopes = [(name, words, arranged.counts.get(name, 0)) for name, words in SCOPES]
        axis.show(scopes, self.scope, watch_sentences.choice_words(self.choice, len(rows.marked)))
        axis.follow(rows.axis, rows.left, rows.headings)
        self.query_one(JobContext).follow(rows.axis, rows.left)
        self._seek()
        self._under(rows)

    def _under(self, rows: JobRows) -> None:
        """Tell the pane what is under the cursor."""
        row = rows.row()
        self.query_one(JobContext).show(self.board, row.view if row else None, row.node if row else None)

    def arrive(self) -> None:
        """Keys go to the jobs, the cursor to the one that was just submitted."""
        rows = self.query_one(JobRows)
        rows.focus()
        self._seek()
        self._learn()

    def _seek(self) -> None:
        rows = self.query_one(JobRows)
        wanted = self.quarry.looked_at
        place = rows.arranged.place_of(("job", wanted)) if wanted is not None else None
        if place is not None:
            self.quarry.looked_at = None
            rows.move(place)

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Something else is looked at."""
        self._under(self.query_one(JobRows))
        self._learn()

    # -- what is learnt of the job under the cursor -------------------------------------------------

    def _learn(self) -> None:
        view = self.query_one(JobRows).current()
        if view is not None and self.display:
            self._ask(view, self.panes.shown)

    def _ask(self, view: JobView, pane: str) -> None:
        learn = partial(learnt_of, self.quarry.client, view, pane)
        self.run_worker(partial(self._hand_over, learn), thread=True, exclusive=True, group="explain")

    def _hand_over(self, learn: Callable[[], Learnt | None]) -> None:
        if (found := learn()) is not None:
            self.quarry.hand_over(self._learnt, found)

    def _learnt(self, found: Learnt) -> None:
        self.panes.show(self.query_one(JobRows).current(), found)
        self.quarry.tell()

    def action_pane(self, name: str) -> None:
        """Show something else below, or what matters to the job again."""
        self.panes.toggle(name)
        self._learn()
        self.quarry.tell()

    def on_columns_taken(self, message: ColumnsTaken) -> None:
        """Other columns: shown at once, kept for next time."""
        self.panes.keep_columns(message.widths)
        self._arrange()
        self.query_one(JobRows).refresh()

    def on_chosen(self, message: Chosen) -> None:
        """Make the change that was chosen."""
        self.doing.change_chosen(message)

    def on_changing(self, message: Changing) -> None:
        """Say what the change would come to."""
        self.doing.look_ahead(message)

    # -- the note and the keys ---------------------------------------------------------------------

    def figures(self) -> list[Offer]:
        """The rows as lanes."""
        return self.time.figures()

    def tables(self) -> list[Table]:
        """The jobs that are listed, or the nodes."""
        rows = self.query_one(JobRows)
        if self.choice.by_node:
            return [nodes_table([row.node for row in rows.arranged.rows if row.node is not None])]
        return [jobs_table(f"jobs-{self.scope}", rows.jobs)] if rows.arranged.rows else []

    def note(self) -> str:
        """Describe the row under the cursor, why it is so, and what could be done."""
        row = self.query_one(JobRows).row()
        if self.board is None:
            return ""
        if row is None:
            return watch_sentences.empty_words(self.choice)
        if row.view is None:
            return watch_sentences.row_words(row, self.board, self.quarry.zone)
        detail = self.panes.detail
        changes = detail.explained.changes if detail and detail.explained and detail.view.job == row.view.job else ()
        sooner = sooner_words(row.view, changes, self.board.now_ms, self.quarry.zone)
        instead = " ".join(words for _, words in islice(sooner, 2))
        return watch_sentences.job_words(row.view, self.board, self.quarry.zone, instead)

    def acts(self) -> list[Hint]:
        """The acts on what is under the cursor, or on all that is marked."""
        rows = self.query_one(JobRows)
        row, user = rows.row(), self.board.person.user if self.board else ""
        return watch_sentences.acts_of(row, user, len(rows.marked), self.panes.shown)

    def keys(self) -> list[KeyHint]:
        """The same; while a request is changed, what its pane takes."""
        return watch_sentences.CHANGE_KEYS if self.panes.shown == "change" else super().keys()

    # -- what is shown -----------------------------------------------------------------------------

    def _choose(self, **changes: object) -> None:
        self.choice = replace(self.choice, **changes)  # type: ignore[arg-type]
        self._arrange()
        self.post_message(CursorMoved())

    def action_unfold(self) -> None:
        """Open the array, the chain, the node or the group under the cursor, or fold it."""
        row = self.query_one(JobRows).row()
        if row is None:
            self._say("There is no row here to open or fold.")
            return
        key: RowKey = row.key if row.key[0] != "rest" else ("array", row.key[1])
        if row.view is not None:
            if not row.view.rows and row.view.parent is None:
                self._say("This job is not an array, so it has no tasks to show.")
                return
            key = ("array", row.view.parent or row.view.job)
        self._choose(opened=self.choice.opened ^ {key})
        if row.view is not None and row.view.phase.final and key in self.choice.opened:
            self._read_tasks(int(key[1]))

    @work(thread=True, group="tasks")
    def _read_tasks(self, array: int) -> None:
        client = self.quarry.client
        if client is not None:
            with suppress(QuarryError):
                self.quarry.hand_over(self._show_tasks, client.detail(array).tasks)

    def _show_tasks(self, tasks: tuple[JobView, ...]) -> None:
        numbers = {view.job for view in tasks}
        self._choose(read=(*(view for view in self.choice.read if view.job not in numbers), *tasks))

    def action_scope(self) -> None:
        """The next scope."""
        names = [name for name, _ in SCOPES]
        self.set_scope(names[(names.index(self.scope) + 1) % len(names)])

    def set_scope(self, scope: str) -> None:
        """Show mine, my accounts' or everyone's jobs."""
        self._choose(scope=scope)

    def action_sort(self) -> None:
        """Sort by the next thing."""
        names = list(SORTS)
        self._choose(sort=names[(names.index(self.choice.sort) + 1) % len(names)])

    def action_group(self) -> None:
        """Group by the next thing, at last by nothing."""
        names = list(GROUPS)
        self._choose(group=names[(names.index(self.choice.group) + 1) % len(names)], by_node=False)

    def action_by_node(self) -> None:
        """Nodes as lanes, or jobs again; the cursor stays with its job, on the first node that it runs on, and comes back to it."""
        rows = self.query_one(JobRows)
        if not self.choice.by_node:
            view = rows.current()
            self._before = view.job if view is not None else None
            node = next(iter((view.nodes or view.forecast_nodes) if view is not None else ()), "")
            self._choose(by_node=True)
            if node and (place := rows.arranged.place_of(("node", node))) is not None:
                rows.move(place)
        else:
            self._choose(by_node=False)
            if self._before is not None and (place := rows.arranged.place_of(("job", self._before))) is not None:
                rows.move(place)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """While text is typed, a slash is only a slash."""
        return action != "find" or (self.display and not isinstance(self.app.focused, Input))

    def action_find(self) -> None:
        """Type what to look for; rows follow each key."""
        line = self.query_one("#find", FindLine)
        line.display = True
        self.screen.set_focus(line)
        self._make_ready()

    @work(thread=True, group="find")
    def _make_ready(self) -> None:
        if self.board is not None:
            self.arranger.ready(self.board, self.choice)

    def on_input_changed(self, event: Input.Changed) -> None:
        """Only the rows that have what was typed."""
        if event.input.id == "find":
            event.stop()
            self._choose(find=event.value)

    def action_back(self) -> None:
        """Close the pane; or end the search; or take the marks away."""
        rows, line = self.query_one(JobRows), self.query_one("#find", FindLine)
        if self.panes.shown != "context":
            self.action_pane(self.panes.shown)
            self.screen.set_focus(rows)
        elif line.display or self.choice.find:
            line.display, line.value = False, ""
            self._choose(find="")
            self.screen.set_focus(rows)
        elif rows.marked:
            rows.marked.clear()
            self._arrange()
        elif self.choice.by_node:
            self.action_by_node()
        else:
            self._say("There is nothing to close, to clear or to unmark here.")
        self.quarry.tell()

    # -- what is done ------------------------------------------------------------------------------

    def action_open(self) -> None:
        """Go to Review with this job, to Chain with a chain; a node or a group opens."""
        rows = self.query_one(JobRows)
        row = rows.row()
        if view := rows.current():
            self.post_message(OpenJob(view.job))
        elif row is not None and row.members:
            self.post_message(OpenChain(int(row.key[1])))
        elif rows.row() is not None:
            self.action_unfold()

    def action_mark(self) -> None:
        """Mark this job or this chain, or take its mark away."""
        self.query_one(JobRows).toggle_mark()
        self._arrange()
        self.quarry.tell()

    def action_mark_all(self) -> None:
        """Mark all my jobs that are shown and have not ended. If all are marked, unmark them."""
        rows = self.query_one(JobRows)
        before = set(rows.marked)
        rows.toggle_all_marks()
        self._arrange()
        if rows.marked == before:
            self._say("No job of yours is shown that has not ended, so there is none to mark.")
        self.quarry.tell()

    def action_failure(self) -> None:
        """To the next job below the cursor that did not succeed, from the last one to the first."""
        rows = self.query_one(JobRows)
        wrong = [
            place for place, row in enumerate(rows.arranged.rows) if row.view is not None and _went_wrong(row.view)
        ]
        if not wrong:
            self._say("No job that is shown here has failed.")
            return
        rows.move(next((place for place in wrong if place > rows.cursor), wrong[0]))


def _went_wrong(view: JobView) -> bool:
    """True when a job did not succeed, or tasks of it did not."""
    return left_undone(view.phase, view.planned) or bool(view.failed_tasks)
