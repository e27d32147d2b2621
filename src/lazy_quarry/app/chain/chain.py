"""Chain: jobs tied by what they wait for, drawn, rehearsed, submitted and followed as one thing."""

from __future__ import annotations

import os
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from textual import work
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from lazy_quarry.app.chain import sentences as chain_sentences
from lazy_quarry.app.chain.desk import ChainDesk
from lazy_quarry.app.chain.editing import ChainEditing
from lazy_quarry.app.chain.graph import ChainGraph
from lazy_quarry.app.chain.head import ChainHead
from lazy_quarry.app.chain.rows import ChainList, PartHead, PartRows
from lazy_quarry.app.chain.tasks import ChainTasks
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.figure_catalogue import Offer, chain_figures
from lazy_quarry.app.shared.messages import CursorMoved, OpenJob, Say
from lazy_quarry.app.shared.place import Hint
from lazy_quarry.app.shared.table_catalogue import Table, chain_table
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.paths import name_of_script
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.chain_source import read_source
from lazy_quarry.views.board import Board
from lazy_quarry.views.chain_views import ChainReceipt, ChainReport, ChainSource, ChainView, played
from lazy_quarry.views.foretold import foretold_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

EMPTY_FILE = "# a chain\n"


class ChainPlace(ChainEditing):
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
        bound("hold", "hold", "hold what waits of a chain that was submitted"),
        bound("release", "release", "release what is held of it"),
        bound("cancel", "cancel", "cancel all of it, after saying what would be lost"),
        bound("again_failed", "go_on", "run again what failed and all that follows it, after saying what that costs"),
        bound("open_file", "ask", "open a chain file, or begin a new one", priority=True),
        bound("submit", "submit", "submit the chain that is open", priority=True),
    ]
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
        self.desk = ChainDesk(self.quarry.folder, self.quarry.shelf.beside(f"chain-{self.quarry.shelf.name}"))
        self.desk.take_up()

    def show(self, board: Board) -> None:
        """Read the chains again when something has changed."""
        first = self.board is None
        super().show(board)
        if first or board.version != self._seen:
            self._seen = board.version
            self._read()

    def arrive(self) -> None:
        """Keys go to the chains."""
        self.query_one(ChainList).focus()
        self._read()

    # -- reading -----------------------------------------------------------------------------------

    @work(thread=True, exclusive=True, group="chains")
    def _read(self) -> None:
        client, rows = self.quarry.client, self.query_one(PartRows)
        if client is None:
            return
        self.desk.read_again()
        try:
            views = client.chains()
            report = None
            if self.desk.open:
                slower = dict.fromkeys(rows.slower, 2.0)
                report = client.report_chain(self.desk.source(), sorted(rows.fails), slower)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.quarry.hand_over(self._show, views, report)

    def _show(self, views: list[ChainView], report: ChainReport | None) -> None:
        self.report = report
        draft = (report.chain or report.sketch) if report is not None else None
        if draft is None and self.desk.open:  # one without jobs yet, or that can't be read: it is there all the same
            now_ms = self.board.now_ms if self.board is not None else 0
            draft = ChainView(number=0, name=self.desk.name, user="", now_ms=now_ms, parts=())
        self.query_one(ChainList).show([*([draft] if draft else []), *views])
        self._follow()

    def _follow(self) -> None:
        """Graph and rows of the chain under the cursor, or of its rehearsal while that is played."""
        view = self.query_one(ChainList).current()
        rows, graph = self.query_one(PartRows), self.query_one(ChainGraph)
        rows.show(view)
        seen = view
        if view is not None and self.played_ms is not None:
            seen = played(view, round(self.played_ms))
            rows.play(seen)
        drafted = view is not None and not view.number
        graph.supposed = rows.supposed() if drafted else {}
        graph.show(seen)
        self.query_one(PartHead).follow(rows.axis if view is not None else None)
        part = rows.current()
        graph.choose(part.name if part else "", self.begun[1])
        self.query_one(ChainHead).show(seen, self.report, self._file_words(), self.played_ms is not None)
        self._show_tasks()
        self.post_message(CursorMoved())

    def _file_words(self) -> str:
        """Name the open file, and how it stands."""
        if not self.desk.open:
            return ""
        path = Path(self.desk.path)
        told = f"{path.name}, an example" if self._fixed() else str(path)
        return told + (", edited, not saved" if self.desk.edited else "")

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another chain, or another job of it."""
        chains, rows = self.query_one(ChainList), self.query_one(PartRows)
        under = chains.current()
        if under is not rows.whole:
            self._stop()
            self.begun = ("", "")
            self._follow()
            return
        part = rows.current()
        self.query_one(ChainGraph).choose(part.name if part else "", self.begun[1])
        self._show_tasks()

    # -- opening and submitting --------------------------------------------------------------------

    def action_ask(self) -> None:
        """Ask for a chain file."""
        ask = "a chain file; one that is not there is begun"
        self.quarry.aside(self._first_path, lambda path: self._ask(ask, path, self._opened))

    def _first_path(self) -> str:
        """A chain file to begin with; for a thread."""
        if self.desk.path:
            return self.desk.path
        folder = Path(self.board.site.examples) if self.board and self.board.site.examples else self.quarry.folder
        found = sorted(folder.glob("*.toml")) if folder.is_dir() else []
        return str(found[0] if found else self.quarry.folder) + ("" if found else "/")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what was typed, for whatever asked."""
        event.stop()
        self._answered(event.value)

    def _opened(self, words: str) -> None:
        path = Path(words).expanduser()
        path = path if path.is_absolute() else self.quarry.folder / path
        self.unless_lost(lambda: self.open_file(path))

    def open_file(self, path: Path) -> None:
        """Read a chain file and rehearse it; one that is not there is begun, after a question."""

        def read() -> str | None:
            if not path.exists() and path.suffix == ".toml" and path.parent.is_dir():
                return None
            try:
                return read_source(str(path)).text
            except QuarryError as fault:
                raise QuarryError(f"Not opened: {fault}") from None

        self.quarry.aside(read, partial(self._was_read, path))

    def _was_read(self, path: Path, text: str | None) -> None:
        if text is None:
            question = f"{path} is not there. Begin a new chain, to be saved there?"
            self.quarry.ask(question, lambda: self._begin(path), yes="Begin it", no="Leave it")
            return
        self._put(text or EMPTY_FILE, path, text)

    def _begin(self, path: Path) -> None:
        self._put(f'name = "{name_of_script(str(path))}"\n', path, "")
        self.post_message(
            Say(f"A new chain, {self.desk.name}: {key_of('add')} adds its first job, {key_of('save')} saves it.")
        )

    def _put(self, text: str, path: Path, saved: str) -> None:
        self.desk.put(text, os.path.abspath(path), saved)
        self.begun = ("", "")
        self._stop()
        rows, chains = self.query_one(PartRows), self.query_one(ChainList)
        rows.fails = rows.slower = frozenset()
        chains.views, chains.cursor = [], 0
        rows.focus()
        self._read()

    def open_chain(self, number: int) -> None:
        """Put the cursor on a chain that was submitted."""
        self.query_one(ChainList).wanted = number
        self.query_one(PartRows).focus()
        self._read()

    def action_submit(self) -> None:
        """Submit the chain that is open, as it is seen; what was changed is saved first, where it has a file of its own."""
        if not self.desk.open:
            self.post_message(Say(f"Open a chain file first, with {key_of('open_file')}.", bad=True))
            return
        if self.played_ms is not None:  # what is seen is another time than now
            question = f"Submit {self.desk.name} now, while its rehearsal is played? {self.costs('submit')}"
            self.quarry.ask(question, self._submit_open, yes="Submit", no="Go on playing")
        else:
            self._submit_open()

    def costs(self, act: str) -> str:
        """Say what submitting the chain comes to."""
        view = self.query_one(ChainList).current()
        if act != "submit" or not self.desk.open or view is None or view.number:
            return ""
        most = f": at most {format_core_hours(view.most_core_ms)} core-hours" if view.most_core_ms else ""
        return f"Submit the {plural(len(view.parts), 'job')} of {view.name}{most}?"

    def _submit_open(self) -> None:
        self.quarry.aside(partial(self._ready, self._fixed()), self._submit)

    def _ready(self, fixed: bool) -> ChainSource:
        """The chain as its files have it now, saved where it was changed; for a thread. Raises :class:`QuarryError`."""
        self.desk.read_again()
        own = self.desk.edited and self.desk.path and not fixed
        if own and (problem := self.desk.save_to(Path(self.desk.path))):
            raise QuarryError(problem)
        source = self.desk.source()
        # an example that was changed here has no file that a continuation could read
        return replace(source, path="") if self.desk.edited else source

    @work(thread=True, exclusive=True, group="chain-submit")
    def _submit(self, source: ChainSource) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            receipt = client.submit_chain(source)
        except QuarryError as fault:
            self.post_message(Say(f"Not submitted: {fault}", bad=True))
            return
        self.quarry.hand_over(self._submitted, receipt)

    def _submitted(self, receipt: ChainReceipt) -> None:
        if receipt.chain is None:
            self.post_message(Say(f"Not submitted: {chain_sentences.first_words(receipt)}", bad=True))
            return
        self.desk.put("", "")
        self.begun = ("", "")
        self._stop()
        self.query_one(ChainList).wanted = receipt.chain
        self.post_message(
            Say(
                f"Submitted as chain {receipt.chain}: {plural(len(receipt.jobs), 'job')}; {key_of('open_file')} begins another."
            )
        )
        self.quarry.read_board()
        self._read()

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
            self.post_message(Say("Suppositions are of a chain that is rehearsed, before it is submitted."))
            return
        setattr(rows, what, getattr(rows, what) ^ {part.name})
        on = part.name in getattr(rows, what)
        words = "failed" if what == "fails" else "took twice as long"
        self._say(f"Rehearsed as if {part.name} {words}." if on else f"No longer supposed: that {part.name} {words}.")
        self._read()

    # -- one that was submitted --------------------------------------------------------------------

    def _number(self) -> int:
        view = self.query_one(ChainList).current()
        if view is None or not view.number:
            self.post_message(Say("That is for a chain that was submitted."))
            return 0
        return view.number

    def action_hold(self) -> None:
        """Hold what waits of it."""
        if number := self._number():
            self._act("hold_chain", number)

    def action_release(self) -> None:
        """Release what is held of it."""
        if number := self._number():
            self._act("release_chain", number)

    def action_cancel(self) -> None:
        """Cancel all of it, after a question."""
        view = self.query_one(ChainList).current()
        if view is not None and (number := self._number()):
            question = (
                f"Cancel chain {number} {view.name}? {view.left} of its jobs have not ended; what runs is stopped."
            )
            self.quarry.ask(question, lambda: self._act("cancel_chain", number), yes="cancel it", no="leave it")

    def action_output(self) -> None:
        """The output of the job under the cursor, in Review."""
        part = self._part()
        if part is None or not part.job:
            self._say("A job that was not submitted has printed nothing yet.")
        else:
            self.post_message(OpenJob(part.job))

    def action_go_on(self) -> None:
        """Run again what failed, by the file as it is now, after saying what that comes to."""
        if number := self._number():
            self._look_ahead(number)

    @work(thread=True, exclusive=True, group="chain-act")
    def _look_ahead(self, number: int) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            source = self._source_of(client, number)
            found = client.would_continue(number, source)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        words = foretold_words(found, self.quarry.zone)
        if found.refused:
            self.post_message(Say(f"{words[:1].upper()}{words[1:]}.", bad=True))
            return
        question = f"Run again of chain {number}: {words}?"
        then = partial(self._continue, number, source)
        self.quarry.hand_over(partial(self.quarry.ask, question, then, yes="Run again", no="Leave it"))

    @staticmethod
    def _source_of(client: SiteClient, number: int) -> ChainSource:
        """The file of a chain as it is now, or as it was when that is gone."""
        text, path, folder = client.chain_source(number)
        there = bool(path) and Path(path).exists()
        return read_source(path) if there else read_source("", (), folder, text)

    @work(thread=True, exclusive=True, group="chain-act")
    def _act(self, call: str, number: int) -> None:
        try:
            outcomes = getattr(self.quarry.client, call)(number)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        done = [one.message for one in outcomes if one.done]
        refused = [one.message for one in outcomes if not one.done]
        self.post_message(Say(", ".join((refused or done)[:4]) + ".", bad=bool(refused)))
        self.quarry.hand_over(self.quarry.read_board)

    @work(thread=True, exclusive=True, group="chain-act")
    def _continue(self, number: int, source: ChainSource) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            receipt = client.continue_chain(number, source)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        if receipt.chain is None:
            self.post_message(Say(f"Not continued: {chain_sentences.first_words(receipt)}", bad=True))
        else:
            self.post_message(Say(f"Chain {number} goes on: {', '.join(name for name, _ in receipt.jobs)}."))
        self.quarry.hand_over(self.quarry.read_board)

    def action_side(self) -> None:
        """Keys to the other list."""
        chains, rows = self.query_one(ChainList), self.query_one(PartRows)
        (rows if self.goes_to(chains) else chains).focus()

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
            if not self.begun[0]
            else chain_sentences.drawing_words(*self.begun, self.condition)
        )

    def acts(self) -> list[Hint]:
        """The acts that can be done here."""
        rows, part = self.query_one(PartRows), self._part()
        return chain_sentences.acts(
            self.query_one(ChainList).current(),
            part if self.goes_to(rows) else None,
            self.drafting,
            self.played_ms is not None,
            self.begun[0],
        )

    def applying(self) -> list[Hint]:
        """All that could be done, though a line is being drawn or a rehearsal played."""
        part = self._part()
        under_way: list[Hint] = ["play_faster", "play_slower"]
        return [*chain_sentences.acts(self.query_one(ChainList).current(), part, self.drafting), *under_way]

    def tables(self) -> list[Table]:
        """The jobs of the chain under the cursor."""
        view = self.query_one(ChainList).current()
        return [chain_table(view)] if view is not None and view.parts else []
