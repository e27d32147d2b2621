"""A job of a chain in Draft: its own script, or one made of its commands, which goes back into the chain."""

from functools import partial
from pathlib import Path

import tomlkit

from lazy_quarry.app.chain.on_desk import ChainOnDesk
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.chain import chain_edit
from lazy_quarry.core.chain.chain_file import read_chain
from lazy_quarry.core.paths import within
from lazy_quarry.errors import BadValue
from lazy_quarry.views.chain_views import ChainSource


class JobDrafts(Feature):
    """Takes the script of the job under the cursor to Draft."""

    NAME = "drafts"
    BOUND = (bound_of(NAME, "script", "script", "the script of the job under the cursor, in Draft"),)

    def __init__(self, place: Place, chain: ChainOnDesk) -> None:
        super().__init__(place)
        self.chain = chain

    def script(self) -> None:
        """The script of the job under the cursor, in Draft."""
        part = self.chain.part()
        if part is None:
            self.say("There is no job under the cursor whose script could be shown.")
        elif self.chain.drafting:
            self.draft(part.name)
        else:
            self.quarry.draft_job(part.job)

    def draft(self, name: str) -> None:
        """Take the script of a job of the open chain to Draft."""
        self.quarry.aside(self.chain.desk.source, partial(self._draft_of, name))

    def _draft_of(self, name: str, source: ChainSource) -> None:
        chain = read_chain(source.text, source.scripts, (), source.name).chain
        job = next((one for one in chain.jobs if one.name == name), None) if chain else None
        where = f"{name} of {Path(self.chain.desk.path).name if self.chain.desk.path else 'this chain'}"
        if job is not None and job.path:
            arguments = (f"arguments={tomlkit.item(list(job.arguments)).as_string()}",) if job.arguments else ()
            more = (*job.overrides, *arguments)
            self.quarry.draft_script(job.script, where, within(source.folder, job.path), more)
            return
        try:
            text = chain_edit.as_script(source.text, name)
        except BadValue as fault:
            self.say(f"Not opened: {fault}.", bad=True)
            return
        around = (*job.shared, *job.told) if job is not None else ()
        self.quarry.draft_script(text, where, "", around, partial(self._take_back, name))

    def _take_back(self, name: str, script: str) -> str:
        """Put a job's script back into the chain; what went wrong, or nothing. For a thread."""
        try:
            self.chain.desk.change(partial(chain_edit.with_script, name=name, script=script))
        except BadValue as fault:
            return f"Not put back into the chain: {fault}"
        self.quarry.hand_over(self.chain.read)
        return (
            "" if self.chain.fixed or not self.chain.desk.path else self.chain.desk.save_to(Path(self.chain.desk.path))
        )
