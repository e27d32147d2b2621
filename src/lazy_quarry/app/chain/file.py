"""The chain file: opened, begun, saved, and submitted."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from lazy_quarry.app.chain import sentences as chain_sentences
from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.chain.playing import Playing
from lazy_quarry.app.chain.rows import ChainList, PartRows
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.draft_shelf import THERE
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.paths import name_of_script
from lazy_quarry.core.units import format_core_hours, plural
from lazy_quarry.core.values import replace
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.chain_source import read_source
from lazy_quarry.views.chain_views import ChainReceipt, ChainSource

EMPTY_FILE = "# a chain\n"


class ChainFile(Feature):
    """Opens, saves and submits the file on the desk."""

    NAME = "file"
    BOUND = (
        bound_of(NAME, "open_file", "ask", "open a chain file, or begin a new one", priority=True),
        bound_of(NAME, "submit", "submit", "submit the chain that is open", priority=True),
        bound_of(NAME, "save", "save", "save the file", priority=True),
    )

    def __init__(self, place: Place, chain: ChainOnDesk, playing: Playing) -> None:
        super().__init__(place)
        self.chain, self.desk, self._playing = chain, chain.desk, playing

    def ask(self) -> None:
        """Ask for a chain file."""
        ask = "a chain file; one that is not there is begun"
        self.quarry.aside(self._first_path, lambda path: self.chain.ask(ask, path, self._opened))

    def _first_path(self) -> str:
        """A chain file to begin with; for a thread."""
        if self.desk.path:
            return self.desk.path
        folder = Path(self.board.site.examples) if self.board and self.board.site.examples else self.quarry.folder
        found = sorted(folder.glob("*.toml")) if folder.is_dir() else []
        return str(found[0] if found else self.quarry.folder) + ("" if found else "/")

    def _opened(self, words: str) -> None:
        path = Path(words).expanduser()
        path = path if path.is_absolute() else self.quarry.folder / path
        self.unless_lost(lambda: self.open(path))

    def open(self, path: Path) -> None:
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
        self.say(f"A new chain, {self.desk.name}: {key_of('add')} adds its first job, {key_of('save')} saves it.")

    def _put(self, text: str, path: Path, saved: str) -> None:
        self.desk.put(text, os.path.abspath(path), saved)
        self.chain.begun = ("", "")
        self._playing.stop()
        rows, chains = self.one(PartRows), self.one(ChainList)
        rows.fails = rows.slower = frozenset()
        chains.views, chains.cursor = [], 0
        rows.focus()
        self.chain.read()

    def submit(self) -> None:
        """Submit the chain that is open, as it is seen; what was changed is saved first, where it has a file of its own."""
        if not self.desk.open:
            self.say(f"Open a chain file first, with {key_of('open_file')}.", bad=True)
            return
        if self._playing.played_ms is not None:  # what is seen is another time than now
            question = f"Submit {self.desk.name} now, while its rehearsal is played? {self.costs()}"
            self.quarry.ask(question, self._submit_open, yes="Submit", no="Go on playing")
        else:
            self._submit_open()

    def costs(self) -> str:
        """Say what submitting the chain comes to; empty where there is none to submit."""
        view = self.chain.view()
        if not self.desk.open or view is None or view.number:
            return ""
        most = f": at most {format_core_hours(view.most_core_ms)} core-hours" if view.most_core_ms else ""
        return f"Submit the {plural(len(view.parts), 'job')} of {view.name}{most}?"

    def _submit_open(self) -> None:
        self.quarry.aside(partial(self._ready, self.chain.fixed), self._submit)

    def _ready(self, fixed: bool) -> ChainSource:
        """The chain as its files have it now, saved where it was changed; for a thread. Raises :class:`QuarryError`."""
        self.desk.read_again()
        own = self.desk.edited and self.desk.path and not fixed
        if own and (problem := self.desk.save_to(Path(self.desk.path))):
            raise QuarryError(problem)
        source = self.desk.source()
        # an example that was changed here has no file that a continuation could read
        return replace(source, path="") if self.desk.edited else source

    @apart("chain-submit", exclusive=False, refused="Not submitted: ")
    def _submit(self, source: ChainSource) -> None:
        self.quarry.hand_over(self._submitted, self.client.submit_chain(source))

    def _submitted(self, receipt: ChainReceipt) -> None:
        if receipt.chain is None:
            self.say(f"Not submitted: {chain_sentences.first_words(receipt)}", bad=True)
            return
        self.desk.put("", "")
        self.chain.begun = ("", "")
        self._playing.stop()
        self.one(ChainList).wanted = receipt.chain
        self.say(
            f"Submitted as chain {receipt.chain}: {plural(len(receipt.jobs), 'job')}; {key_of('open_file')} begins another."
        )
        self.quarry.read_board()
        self.chain.read()

    # -- saving -----------------------------------------------------------------------------------

    def save(self) -> None:
        """Write the chain to its file, or ask for one."""
        if not self.desk.open:
            self.say(f"There is no chain to save: {key_of('open_file')} opens a file.")
        elif self.desk.path and not self.chain.fixed:
            self._save(Path(self.desk.path))
        else:
            name = Path(self.desk.path).name if self.desk.path else "chain.toml"
            self.chain.ask("save it as", str(self.quarry.folder / name), self._save_as)

    def _save_as(self, words: str) -> None:
        path = Path(words).expanduser()
        path = path if path.is_absolute() else self.quarry.folder / path
        self._save(path, str(path) == self.desk.path)

    def _save(self, path: Path, replace: bool = True) -> None:
        self.quarry.aside(lambda: self.desk.save_to(path, replace), partial(self._was_saved, path))

    def _was_saved(self, path: Path, problem: str) -> None:
        if problem == THERE:
            question = f"{path} is there already. Replace it?"
            self.quarry.ask(question, lambda: self._save(path), yes="Replace", no="Keep it")
            return
        self.say(problem or f"Saved to {path}.", bad=bool(problem))
        self.chain.read()

    def unless_lost(self, then: Callable[[], object]) -> None:
        """Do something that puts another chain on the desk, after a question when changes would be lost."""
        if self.desk.open and self.desk.worth_keeping:
            what = self.desk.path or "this chain"
            self.quarry.ask(f"Discard unsaved changes to {what}?", then, yes="Discard", no="Keep editing")
        else:
            then()
