"""The output of a run in Review: found in, gone through to its first error, opened elsewhere, however long it is."""

import os
import re
import shlex
import subprocess
from collections.abc import Callable
from functools import partial

from textual.app import SuspendNotSupported

from lazy_quarry.app.review.output_rows import MoreWanted, OutputRows
from lazy_quarry.app.review.output_window import PIECE, find
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.shared.acts import bound_of
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.advice.error_lines import is_wrong
from lazy_quarry.run.runner import OutputChunk

LONG = 4_000
"""Signs of a line that are searched; a pattern may take long on more."""


class OutputReading(Feature):
    """Reads more of the output of the run in sight, finds in it, and takes it elsewhere.

    ``load`` reads the run in sight again; ``path`` is the file that stands on another sheet, or empty.
    """

    NAME = "output"
    BOUND = (
        bound_of(
            NAME,
            "next",
            "next_found",
            "the next place with what was found, or the next line that tells of an error",
        ),
        bound_of(NAME, "fold", "wrap", "long lines over several rows, or on one"),
        bound_of(NAME, "pager", "outside('PAGER')", "what it printed, or the file under the cursor, in $PAGER"),
        bound_of(NAME, "editor", "outside('EDITOR')", "the same in $EDITOR"),
        bound_of(NAME, "copy", "copy", "the path of the output, or of the file under the cursor, to the clipboard"),
    )

    def __init__(self, place: Place, seen: RunInSight, load: Callable[[], None], path: Callable[[], str]) -> None:
        super().__init__(place)
        self.seen, self._load, self._other_path = seen, load, path
        self._pattern: re.Pattern[str] | None = None

    # -- going through it --------------------------------------------------------------------------

    def more(self, message: MoreWanted) -> None:
        """Read what is asked for."""
        detail, window = self.seen.detail, self.one(OutputRows).window
        if detail is not None:
            self._read_more(detail.view.job, message.where, window.begin, window.end)

    @apart("output")
    def _read_more(self, job: int, where: str, begin: int, end: int) -> None:
        first = {"start": 0, "end": -PIECE, "earlier": max(0, begin - PIECE), "later": end}[where]
        chunk = self.client.output(job, self.seen.which, first)
        if first < 0:
            first = max(0, chunk.size + first)
        self.quarry.hand_over(self._take_more, job, where, first, chunk)

    def _take_more(self, job: int, where: str, first: int, chunk: OutputChunk) -> None:
        rows = self.one(OutputRows)
        if not self.seen.shows(job):
            return
        if where in ("start", "end"):
            rows.show(first, chunk, rows.heading, where == "end")
        elif where == "later" and rows.window.end == first:
            rows.add_later(chunk)
        elif where == "earlier" and rows.window.begin > first:
            rows.add_earlier(first, chunk)

    # -- finding -----------------------------------------------------------------------------------

    def ask_pattern(self) -> None:
        """Type a pattern."""
        self.type_in("#output-find")

    def take_pattern(self, words: str) -> None:
        """Find it, from the top of what is in sight on."""
        line = self.one(Typed, "#output-find")
        line.display = False
        self.focus(self.one(OutputRows))
        if not words:
            return
        try:
            self._pattern = re.compile(words, re.IGNORECASE)
        except re.error as fault:
            self.say(f"Not a pattern: {fault}.", bad=True)
            return
        self._search(self._matches, 0, words)

    def _matches(self, line: str) -> bool:
        return self._pattern is not None and self._pattern.search(line[:LONG]) is not None

    def next_found(self) -> None:
        """The next line with the pattern, or of those that tell of an error."""
        rows = self.one(OutputRows)
        wanted = self._matches if self._pattern is not None else is_wrong
        lines = rows.rows[max(0, rows.cursor - 1) :]
        place = next((at for at, line in enumerate(lines) if wanted(line)), None)
        if place is not None:
            rows.move(max(0, rows.cursor - 1) + 2 + place)
        else:
            self._search(wanted, rows.window.end, "it")

    def first_error(self) -> None:
        """To the first line that tells of an error."""
        self._pattern = None
        self._search(is_wrong, 0, "a line that tells of an error")

    def _search(self, wanted: Callable[[str], bool], begin: int, what: str) -> None:
        detail = self.seen.detail
        if detail is not None:
            self.one(OutputRows).told = "searching …"
            self.one(OutputRows).refresh()
            self._find(detail.view.job, wanted, begin, what)

    @apart("output")
    def _find(self, job: int, wanted: Callable[[str], bool], begin: int, what: str) -> None:
        def elsewhere() -> bool:
            return not self.seen.shows(job)

        at = find(partial(self.client.output, job, self.seen.which), wanted, begin, elsewhere)
        chunk = self.client.output(job, self.seen.which, at) if at is not None else None
        self.quarry.hand_over(self._found, job, at, chunk, what)

    def _found(self, job: int, at: int | None, chunk: OutputChunk | None, what: str) -> None:
        rows = self.one(OutputRows)
        rows.told = ""
        rows.refresh()
        if not self.seen.shows(job):
            return
        if at is None or chunk is None:
            self.say(
                f"From here on the output has nothing of this: {what}." if what != "it" else "There is no further one."
            )
            return
        rows.show(at, chunk, rows.heading, False)
        self.focus(rows)
        if at > 0:  # what stands before it, above it
            self._read_more_before(job, at)
        self.post(CursorMoved())

    def _read_more_before(self, job: int, at: int) -> None:
        self._read_more(job, "earlier", at, at)

    # -- elsewhere ---------------------------------------------------------------------------------

    def wrap(self) -> None:
        """Long lines over several rows, or on one."""
        rows = self.one(OutputRows)
        rows.wrap()
        self.say(
            "Long lines go over several rows."
            if rows.wrapped
            else "Each line stands on one row; ← → show the rest of it."
        )

    def other_stream(self) -> None:
        """Errors in place of the output, or the output again."""
        self.seen.which = "errors" if self.seen.which == "output" else "output"
        self.one(OutputRows).window.path = ""
        self._load()

    def path_in_sight(self) -> str:
        """The file under the cursor, else what the run prints into."""
        return self._other_path() or self.one(OutputRows).window.path

    def copy(self) -> None:
        """The path to the terminal's clipboard (OSC 52)."""
        path = self.path_in_sight()
        if not path:
            self.say("There is no file here whose path could be copied.")
        else:
            self.place.app.copy_to_clipboard(path)
            self.say(f"{path} was given to the terminal's clipboard.")

    def outside(self, variable: str) -> None:
        """Give the terminal to the person's own program until it ends."""
        path = self.path_in_sight()
        if not path:
            self.say("There is no file here that could be opened.")
            return
        if not os.path.exists(path):
            self.say(f"{path} is not on this machine, so no program here can open it.", bad=True)
            return
        words = shlex.split(os.environ.get(variable) or {"PAGER": "less", "EDITOR": "vi"}[variable])
        try:
            with self.place.app.suspend():
                subprocess.run([*words, path], check=False)
        except (OSError, SuspendNotSupported) as fault:
            self.say(f"{words[0]} could not be opened: {getattr(fault, 'strerror', None) or fault}.", bad=True)
        self.place.app.refresh()
