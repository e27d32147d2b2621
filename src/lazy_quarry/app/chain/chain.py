"""Chain: jobs tied by what they wait for, drawn, rehearsed, submitted and followed as one thing."""

from __future__ import annotations

from pathlib import Path

from textual import work
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from lazy_quarry.app.chain import sentences as chain_sentences
from lazy_quarry.app.chain.array_tasks import ArrayTasks
from lazy_quarry.app.chain.desk import ChainDesk
from lazy_quarry.app.chain.editing import Editing
from lazy_quarry.app.chain.file import ChainFile
from lazy_quarry.app.chain.graph import ChainGraph, EdgeChosen, SlabChosen, SlabsTied
from lazy_quarry.app.chain.head import ChainHead
from lazy_quarry.app.chain.job_drafts import JobDrafts
from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.chain.playing import Playing
from lazy_quarry.app.chain.rows import ChainList, PartHead, PartRows
from lazy_quarry.app.chain.submitted import SubmittedChain
from lazy_quarry.app.chain.tasks import ChainTasks
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.figure_catalogue import Offer, chain_figures
from lazy_quarry.app.shared.messages import CursorMoved, OpenJob
from lazy_quarry.app.shared.place import Hint, Place
from lazy_quarry.app.shared.table_catalogue import Table, chain_table
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.board import Board
from lazy_quarry.views.chain_views import ChainReport, ChainView, played


class ChainPlace(Place):
    """The chains on the left; the graph of one on the right, and below it its jobs over time."""

    DEFAULT_CSS = """
    ChainPlace #right-chain { width: 1fr; height: 1fr; }
    ChainPlace #chain-path { display: none; }
    ChainPlace #left-chain { width: 42; height: 1fr; }
    ChainPlace.-narrow ChainList, ChainPlace.-narrow #left-chain { width: 26; }
    """
    WHY_NOT = chain_sentences.WHY_NOT
    BINDINGS = [
        bound(
            "open", "open", "from the chains to the jobs; a job of a file to Draft, one that was submitted to Review"
        ),
        bound("side", "side", "keys to the chains, or to the jobs of one", priority=True),
        bound("output", "output", "what the job under the cursor printed, in Review"),
        bound("suppose_fails", "suppose_fails", "rehearse as if the job under the cursor failed"),
        bound("suppose_slower", "suppose_slower", "rehearse as if the job under the cursor took twice as long"),
        bound("fold", "fold", "jobs that are alike share a slab where there is no room for all, or never"),
        bound("back", "leave_off", "leave a line undrawn, what is typed untyped, a rehearsal unplayed"),
        *Editing.BOUND,
        *ChainFile.BOUND,
        *JobDrafts.BOUND,
        *SubmittedChain.BOUND,
        *Playing.BOUND,
        *ArrayTasks.BOUND,
    ]
    chain: ChainOnDesk
    playing: Playing
    tasks_beside: ArrayTasks
    editing: Editing
    file: ChainFile
    drafts: JobDrafts
    report: ChainReport | None = None
    _seen = -1

    def compose(self):  # type: ignore[no-untyped-def]
        """Head, list, graph, rows."""
        yield ChainHead()
        yield Typed(placeholder="a chain file", id="chain-path")
        with Horizontal():
            with Vertical(id="left-chain"):
                yield ChainList()
                yield ChainTasks()
            with Vertical(id="right-chain"):
                yield ChainGraph()
                yield PartHead()
                yield PartRows()

    def on_mount(self) -> None:
        """Take up what was not saved."""
        desk = ChainDesk(self.quarry.folder, self.quarry.shelf.beside(f"chain-{self.quarry.shelf.name}"))
        desk.take_up()
        self.chain = self.has(ChainOnDesk(self, desk, self))
        self.playing = self.has(Playing(self, self.chain))
        self.tasks_beside = self.has(ArrayTasks(self, self.chain))
        self.editing = self.has(Editing(self, self.chain, self.action_open))
        self.file = self.has(ChainFile(self, self.chain, self.playing))
        self.drafts = self.has(JobDrafts(self, self.chain))
        self.has(SubmittedChain(self, self.chain))

    def show(self, board: Board) -> None:
        """Read the chains again when something has changed."""
        first = self.board is None
        super().show(board)
        if first or board.version != self._seen:
            self._seen = board.version
            self.read()

    def arrive(self) -> None:
        """Keys go to the chains."""
        self.query_one(ChainList).focus()
        self.read()

    # -- reading -----------------------------------------------------------------------------------

    @work(thread=True, exclusive=True, group="chains")
    def read(self) -> None:
        """Read the chains again, and rehearse the one on the desk."""
        client, rows = self.quarry.client, self.query_one(PartRows)
        if client is None:
            return
        self.chain.desk.read_again()
        try:
            views = client.chains()
            report = None
            if self.chain.desk.open:
                slower = dict.fromkeys(rows.slower, 2.0)
                report = client.report_chain(self.chain.desk.source(), sorted(rows.fails), slower)
        except QuarryError as fault:
            self._say(str(fault), bad=True)
            return
        self.quarry.hand_over(self._show, views, report)

    def _show(self, views: list[ChainView], report: ChainReport | None) -> None:
        self.report = report
        draft = (report.chain or report.sketch) if report is not None else None
        if draft is None and self.chain.desk.open:
            # one without jobs yet, or that can't be read: it is there all the same
            now_ms = self.now_ms
            draft = ChainView(number=0, name=self.chain.desk.name, user="", now_ms=now_ms, parts=())
        self.query_one(ChainList).show([*([draft] if draft else []), *views])
        self.follow()

    def follow(self) -> None:
        """Graph and rows of the chain under the cursor, or of its rehearsal while that is played."""
        view = self.query_one(ChainList).current()
        rows, graph = self.query_one(PartRows), self.query_one(ChainGraph)
        rows.show(view)
        seen = view
        if view is not None and self.playing.played_ms is not None:
            seen = played(view, round(self.playing.played_ms))
            rows.play(seen)
        drafted = view is not None and not view.number
        graph.supposed = rows.supposed() if drafted else {}
        graph.show(seen)
        self.query_one(PartHead).follow(rows.axis if view is not None else None)
        part = rows.current()
        graph.choose(part.name if part else "", self.chain.begun[1])
        self.query_one(ChainHead).show(seen, self.report, self._file_words(), self.playing.played_ms is not None)
        self.tasks_beside.show()
        self.post_message(CursorMoved())

    def _file_words(self) -> str:
        """Name the open file, and how it stands."""
        if not self.chain.desk.open:
            return ""
        path = Path(self.chain.desk.path)
        told = f"{path.name}, an example" if self.chain.fixed else str(path)
        return told + (", edited, not saved" if self.chain.desk.edited else "")

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another chain, or another job of it."""
        chains, rows = self.query_one(ChainList), self.query_one(PartRows)
        under = chains.current()
        if under is not rows.whole:
            self.playing.stop()
            self.chain.begun = ("", "")
            self.follow()
            return
        part = rows.current()
        self.query_one(ChainGraph).choose(part.name if part else "", self.chain.begun[1])
        self.tasks_beside.show()

    def stop_playing(self) -> None:
        """End a rehearsal that is played."""
        self.playing.stop()

    def open_file(self, path: Path) -> None:
        """Read a chain file and rehearse it."""
        self.file.open(path)

    def open_chain(self, number: int) -> None:
        """Put the cursor on a chain that was submitted."""
        self.query_one(ChainList).wanted = number
        self.query_one(PartRows).focus()
        self.read()

    # -- what is typed and clicked, for the feature that it is for ---------------------------------

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what was typed, for whatever asked."""
        event.stop()
        self.chain.answered(event.value)

    def on_slab_chosen(self, message: SlabChosen) -> None:
        """Go to a slab, or open it."""
        self.editing.choose_slab(message)

    def on_slabs_tied(self, message: SlabsTied) -> None:
        """Draw or cut a line."""
        self.editing.tie_slabs(message)

    def on_edge_chosen(self, message: EdgeChosen) -> None:
        """Change the condition of a line."""
        self.editing.change_edge(message)

    # -- supposing ---------------------------------------------------------------------------------

    def action_suppose_fails(self) -> None:
        """Rehearse as if the job under the cursor failed."""
        self._suppose("fails")

    def action_suppose_slower(self) -> None:
        """Rehearse as if the job under the cursor took twice as long."""
        self._suppose("slower")

    def _suppose(self, what: str) -> None:
        rows = self.query_one(PartRows)
        part = rows.current()
        if part is None or rows.view is None or rows.view.number:
            self._say("Only of a chain that is open and not submitted can a failure or a delay be supposed.")
            return
        setattr(rows, what, getattr(rows, what) ^ {part.name})
        on = part.name in getattr(rows, what)
        words = "failed" if what == "fails" else "took twice as long"
        self._say(f"Rehearsed as if {part.name} {words}." if on else f"No longer supposed: that {part.name} {words}.")
        self.read()

    # -- going about -------------------------------------------------------------------------------

    def action_open(self) -> None:
        """From the chains to the jobs; from there a job of the file to Draft, one that was submitted to Review."""
        rows = self.query_one(PartRows)
        part = rows.current()
        if not self.goes_to(rows):
            rows.focus()
        elif part is not None and part.job:
            self.post_message(OpenJob(part.job))
        elif part is not None and self.chain.drafting:
            self.drafts.draft(part.name)

    def action_output(self) -> None:
        """The output of the job under the cursor, in Review."""
        part = self.chain.part()
        if part is None or not part.job:
            self._say("A job that was not submitted has printed nothing yet.")
        else:
            self.post_message(OpenJob(part.job))

    def action_fold(self) -> None:
        """Jobs that are alike share a slab where there is no room for all, or never."""
        graph = self.query_one(ChainGraph)
        graph.fold = not graph.fold
        graph.show(graph.view)
        self._say(
            "Jobs that are alike share a slab where there is no room for all."
            if graph.fold
            else "Each job has a slab of its own."
        )

    def action_leave_off(self) -> None:
        """Leave a line undrawn, what is typed untyped, a rehearsal unplayed; else go back to the chains."""
        line = self.query_one("#chain-path", Typed)
        if line.display:
            self.chain.answered("")
        elif self.chain.begun[0]:
            self.chain.begun = ("", "")
            self.follow()
        elif self.playing.played_ms is not None:
            self.playing.stop()
            self.follow()
        elif self.goes_to(self.query_one(ChainList)):
            self._say("There is nothing to leave off here.")
        else:
            self.query_one(ChainList).focus()

    def action_side(self) -> None:
        """Keys to the other list."""
        chains, rows = self.query_one(ChainList), self.query_one(PartRows)
        (rows if self.goes_to(chains) else chains).focus()

    def costs(self, act: str) -> str:
        """Say what submitting the chain comes to."""
        return self.file.costs() if act == "submit" else ""

    # -- words -------------------------------------------------------------------------------------

    def figures(self) -> list[Offer]:
        """The graph and the lanes."""
        return chain_figures(self.query_one(ChainList).current(), self.board, self.quarry.zone)

    def note(self) -> str:
        """Describe the chain or the job under the cursor."""
        chains, rows = self.query_one(ChainList), self.query_one(PartRows)
        return (
            chain_sentences.note(
                chains.current(), rows.current() if self.goes_to(rows) else None, self.report, self.quarry.zone
            )
            if not self.chain.begun[0]
            else chain_sentences.drawing_words(*self.chain.begun, self.chain.condition)
        )

    def acts(self) -> list[Hint]:
        """The acts that can be done here."""
        rows, part = self.query_one(PartRows), self.chain.part()
        return chain_sentences.acts(
            self.query_one(ChainList).current(),
            part if self.goes_to(rows) else None,
            self.chain.drafting,
            self.playing.played_ms is not None,
            self.chain.begun[0],
        )

    def applying(self) -> list[Hint]:
        """All that could be done, though a line is being drawn or a rehearsal played."""
        part = self.chain.part()
        under_way: list[Hint] = ["play_faster", "play_slower"]
        return [*chain_sentences.acts(self.query_one(ChainList).current(), part, self.chain.drafting), *under_way]

    def tables(self) -> list[Table]:
        """The jobs of the chain under the cursor."""
        view = self.query_one(ChainList).current()
        return [chain_table(view)] if view is not None and view.parts else []
