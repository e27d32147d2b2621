"""The files that a run made, in Review: looked for, copied elsewhere, and removed after a question."""

import time
from functools import partial
from glob import escape
from pathlib import Path

from lazy_quarry.app.review.made_rows import MadeRows, RemoveWanted
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.units import plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.fetched import Fetcher
from lazy_quarry.run.node.made_files import MadeFiles

_TELL_S = 0.3
"""Between two words about how far a copy is."""


class FilesMade(Feature):
    """Lists what the run in sight made, and copies elsewhere or removes what the person chose of it."""

    NAME = "files"
    BOUND = (
        bound_of(NAME, "remove", "remove", "remove files that it made, after asking"),
        bound_of(NAME, "fetch", "fetch", "copy files that it made to a folder, checked, and never over others"),
    )

    def __init__(self, place: Place, seen: RunInSight) -> None:
        super().__init__(place)
        self.seen = seen
        self._wanted: tuple[int, list[str]] = (0, [])
        """The files that are to be copied, and of which job."""

    @apart("made")
    def look_for(self, job: int) -> None:
        """Read which files a run made."""
        try:
            made = self.client.made(job)
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
        rows, paths = self.one(MadeRows), message.paths
        if rows.made is None:
            return
        shown = ", ".join(paths[:3]) + (", …" if len(paths) > 3 else "")
        question = (
            f"Remove {plural(len(paths), 'file')} below {rows.made.folder}: {shown}? They cannot be brought back."
        )
        job = rows.job
        self.quarry.ask(question, lambda: self._remove(job, paths), yes="Remove", no="Keep")

    @apart("remove", exclusive=False)
    def _remove(self, job: int, paths: list[str]) -> None:
        try:
            outcome = self.client.remove_made(job, paths)
            self.say(outcome.message, bad=not outcome.done)
        finally:
            self.look_for(job)

    # -- copying them elsewhere --------------------------------------------------------------------

    def fetch(self) -> None:
        """Ask for the folder to which what is marked, or the file under the cursor, is to be copied."""
        rows = self.one(MadeRows)
        if self.seen.sheet != "made" or not rows.chosen:
            self.say(f"That copies files that a run made: {key_of('files')} shows them.")
            return
        self._wanted = rows.job, [escape(path) for path in rows.chosen]
        before = self.one(Typed, "#fetch-to").value
        self.type_in(
            "#fetch-to",
            before or str(Path.cwd()),
            placeholder=f"the folder that {plural(len(rows.chosen), 'file')} should be copied to",
        )

    def take_folder(self, words: str) -> None:
        """Copy them there."""
        self.focus(self.one(MadeRows))
        if words.strip():
            self._fetch(*self._wanted, Path(words.strip()).expanduser(), False)

    @apart("fetch", exclusive=False)
    def _fetch(self, job: int, paths: list[str], folder: Path, replace: bool) -> None:
        fetcher, told_at = Fetcher(self.client, job, folder, replace), 0.0
        for told in fetcher.fetch(paths):
            if time.monotonic() - told_at > _TELL_S:
                told_at = time.monotonic()
                self.quarry.hand_over(self.say, f"Fetching: {told}.")
        self.quarry.hand_over(self._fetched, fetcher, paths)

    def _fetched(self, fetcher: Fetcher, paths: list[str]) -> None:
        differ = fetcher.differ
        done = "; ".join([*fetcher.words(), f"in {fetcher.folder}"]) if fetcher.words() else ""
        if not differ:
            self.say(". ".join([done, *fetcher.problems[:1]]).strip(". ") + ".", bad=bool(fetcher.problems))
            return
        question = f"{plural(len(differ), 'file')} in {fetcher.folder} differ from those of the job. Write over them?"
        again = partial(self._fetch, fetcher.number, paths, fetcher.folder, True)
        self.quarry.ask(question, again, yes="Write over", no="Keep")

    def path(self) -> str:
        """The file under the cursor, while files are in sight; else empty."""
        return self.one(MadeRows).path if self.seen.sheet == "made" else ""
