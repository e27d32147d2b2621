"""The files that a run made, in Review: looked for, and removed after a question."""

from typing import TYPE_CHECKING

from lazy_quarry.app.review.made_rows import MadeRows, RemoveWanted
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.core.units import plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.run.node.made_files import MadeFiles

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient


class FilesMade(Feature):
    """Lists what the run in sight made, and removes what the person chose of it."""

    NAME = "files"
    BOUND = (bound_of(NAME, "remove", "remove", "remove files that it made, after asking"),)

    def __init__(self, place: Place, seen: RunInSight) -> None:
        super().__init__(place)
        self.seen = seen

    @apart("made")
    def look_for(self, client: "SiteClient", job: int) -> None:
        """Read which files a run made."""
        try:
            made = client.made(job)
        except QuarryError as fault:
            made = MadeFiles("", problem=str(fault))
        self.quarry.hand_over(self._show_files, job, made)

    def _show_files(self, job: int, made: MadeFiles) -> None:
        if self.seen.shows(job):
            self.one(MadeRows).show(job, made, self.now_ms)

    def remove(self) -> None:
        """Files of the run in sight."""
        if self.seen.sheet == "made":
            self.one(MadeRows).action_remove()
        else:
            self.say(f"That removes files that a run made: {key_of('files')} shows them.")

    def ask_to_remove(self, message: RemoveWanted) -> None:
        """Ask first; they cannot be brought back."""
        rows, client, paths = self.one(MadeRows), self.quarry.client, message.paths
        if client is None or rows.made is None:
            return
        shown = ", ".join(paths[:3]) + (", …" if len(paths) > 3 else "")
        question = (
            f"Remove {plural(len(paths), 'file')} below {rows.made.folder}: {shown}? They cannot be brought back."
        )
        job = rows.job
        self.quarry.ask(question, lambda: self._remove(client, job, paths), yes="Remove", no="Keep")

    @apart("remove", exclusive=False)
    def _remove(self, client: "SiteClient", job: int, paths: list[str]) -> None:
        try:
            outcome = client.remove_made(job, paths)
            self.say(outcome.message, bad=not outcome.done)
        except QuarryError as fault:
            self.say(str(fault), bad=True)
        self.look_for(client, job)

    def path(self) -> str:
        """The file under the cursor, while files are in sight; else empty."""
        return self.one(MadeRows).path if self.seen.sheet == "made" else ""
