"""A chain that was submitted: held, released, cancelled, and gone on with where something failed."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lazy_quarry.app.chain import sentences as chain_sentences
from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.site.chain_source import read_source
from lazy_quarry.views.chain_views import ChainSource
from lazy_quarry.views.foretold import foretold_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient


class SubmittedChain(Feature):
    """Does something to the whole chain under the cursor."""

    NAME = "submitted"
    BOUND = (
        bound_of(NAME, "hold", "hold", "hold what waits of a chain that was submitted"),
        bound_of(NAME, "release", "release", "release what is held of it"),
        bound_of(NAME, "cancel", "cancel", "cancel all of it, after saying what would be lost"),
        bound_of(
            NAME,
            "again_failed",
            "go_on",
            "run again what failed and all that follows it, after saying what that costs",
        ),
    )

    def __init__(self, place: Place, chain: ChainOnDesk) -> None:
        super().__init__(place)
        self.chain = chain

    def _number(self) -> int:
        view = self.chain.view()
        if view is None or not view.number:
            self.say("That is for a chain that was submitted.")
            return 0
        return view.number

    def hold(self) -> None:
        """Hold what waits of it."""
        if number := self._number():
            self._act("hold_chain", number)

    def release(self) -> None:
        """Release what is held of it."""
        if number := self._number():
            self._act("release_chain", number)

    def cancel(self) -> None:
        """Cancel all of it, after a question."""
        view = self.chain.view()
        if view is not None and (number := self._number()):
            question = (
                f"Cancel chain {number} {view.name}? {view.left} of its jobs have not ended; what runs is stopped."
            )
            self.quarry.ask(question, lambda: self._act("cancel_chain", number), yes="Cancel", no="Leave it")

    def go_on(self) -> None:
        """Run again what failed, by the file as it is now, after saying what that comes to."""
        if number := self._number():
            self._look_ahead(number)

    @apart("chain-look")
    def _look_ahead(self, number: int) -> None:
        source = self._source_of(self.client, number)
        found = self.client.would_continue(number, source)
        words = foretold_words(found, self.quarry.zone)
        if found.refused:
            self.say(f"{words[:1].upper()}{words[1:]}.", bad=True)
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

    @apart("chain-act", exclusive=False)
    def _act(self, call: str, number: int) -> None:
        outcomes = getattr(self.client, call)(number)
        done = [one.message for one in outcomes if one.done]
        refused = [one.message for one in outcomes if not one.done]
        self.say(", ".join((refused or done)[:4]) + ".", bad=bool(refused))
        self.quarry.hand_over(self.quarry.read_board)

    @apart("chain-act", exclusive=False)
    def _continue(self, number: int, source: ChainSource) -> None:
        receipt = self.client.continue_chain(number, source)
        if receipt.chain is None:
            self.say(f"Not continued: {chain_sentences.first_words(receipt)}", bad=True)
        else:
            self.say(f"Chain {number} goes on: {', '.join(name for name, _ in receipt.jobs)}.")
        self.quarry.hand_over(self.quarry.read_board)
