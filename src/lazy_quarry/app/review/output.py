"""The output of a run in Review: found in, gone through to its first error, opened elsewhere, however long it is."""

import os
import re
import shlex
import subprocess
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Literal

from textual import work
from textual.app import SuspendNotSupported
from textual.widgets import Input

from lazy_quarry.app.review.output_rows import MoreWanted, OutputRows
from lazy_quarry.app.review.output_window import PIECE, find
from lazy_quarry.app.shared.acts import bound
from lazy_quarry.app.shared.job_doing import JobDoing
from lazy_quarry.app.shared.messages import CursorMoved
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.advice.error_lines import is_wrong
from lazy_quarry.errors import QuarryError
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.views.job_detail import JobDetail

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

LONG = 4_000
"""Signs of a line that are searched; a pattern may take long on more."""


class ReviewOutput(JobDoing):
    """A place with the output of a run."""

    BINDINGS = [
        bound("next", "again", "the next place with what was found, or the next line that tells of an error"),
        bound("failure", "failure", "the next task that failed; in an output the first line that tells of an error"),
        bound("fold", "wrap", "long lines over several rows, or on one"),
        bound("pager", "outside('PAGER')", "what it printed, or the file under the cursor, in $PAGER"),
        bound("editor", "outside('EDITOR')", "the same in $EDITOR"),
        bound("copy", "copy", "the path of the output, or of the file under the cursor, to the clipboard"),
    ]
    which: Literal["output", "errors"] = "output"
    detail: JobDetail | None = None
    _pattern: re.Pattern[str] | None = None
    _stopped = False

    def _load(self) -> None:
        """Show the run under the cursor; the place does it."""
        raise NotImplementedError

    # -- going through it --------------------------------------------------------------------------

    def on_more_wanted(self, message: MoreWanted) -> None:
        """Read what is asked for."""
        client, detail, window = self.quarry.client, self.detail, self.query_one(OutputRows).window
        if client is not None and detail is not None:
            self._read_more(client, detail.view.job, message.where, window.begin, window.end)

    @work(thread=True, exclusive=True, group="output")
    def _read_more(self, client: "SiteClient", job: int, where: str, begin: int, end: int) -> None:
        first = {"start": 0, "end": -PIECE, "earlier": max(0, begin - PIECE), "later": end}[where]
        try:
            chunk = client.output(job, self.which, first)
        except QuarryError as fault:
            self._say(str(fault), bad=True)
            return
        if first < 0:
            first = max(0, chunk.size + first)
        self.quarry.hand_over(self._take_more, job, where, first, chunk)

    def _take_more(self, job: int, where: str, first: int, chunk: OutputChunk) -> None:
        rows = self.query_one(OutputRows)
        if self.detail is None or self.detail.view.job != job:
            return
        if where in ("start", "end"):
            rows.show(first, chunk, rows.heading, where == "end")
        elif where == "later" and rows.window.end == first:
            rows.add_later(chunk)
        elif where == "earlier" and rows.window.begin > first:
            rows.add_earlier(first, chunk)

    # -- finding -----------------------------------------------------------------------------------

    def find_in_output(self) -> None:
        """Type a pattern."""
        line = self.query_one("#output-find", Typed)
        line.display = True
        self.screen.set_focus(line)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Find it, from the top of what is in sight on."""
        if event.input.id != "output-find":
            return  # every class of a place is told of what is typed
        event.stop()
        line = self.query_one("#output-find", Typed)
        line.display = False
        self.screen.set_focus(self.query_one(OutputRows))
        if not event.value:
            return
        try:
            self._pattern = re.compile(event.value, re.IGNORECASE)
        except re.error as fault:
            self._say(f"Not a pattern: {fault}.", bad=True)
            return
        self._search(self._matches, 0, event.value)

    def _matches(self, line: str) -> bool:
        return self._pattern is not None and self._pattern.search(line[:LONG]) is not None

    def action_again(self) -> None:
        """The next line with the pattern, or of those that tell of an error."""
        rows = self.query_one(OutputRows)
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
        client, detail = self.quarry.client, self.detail
        if client is not None and detail is not None:
            self.query_one(OutputRows).told = "searching …"
            self.query_one(OutputRows).refresh()
            self._find(client, detail.view.job, wanted, begin, what)

    @work(thread=True, exclusive=True, group="output")
    def _find(self, client: "SiteClient", job: int, wanted: Callable[[str], bool], begin: int, what: str) -> None:
        def elsewhere() -> bool:
            return self.detail is None or self.detail.view.job != job

        try:
            at = find(partial(client.output, job, self.which), wanted, begin, elsewhere)
            chunk = client.output(job, self.which, at) if at is not None else None
        except QuarryError as fault:
            self._say(str(fault), bad=True)
            return
        self.quarry.hand_over(self._found, job, at, chunk, what)

    def _found(self, job: int, at: int | None, chunk: OutputChunk | None, what: str) -> None:
        rows = self.query_one(OutputRows)
        rows.told = ""
        rows.refresh()
        if self.detail is None or self.detail.view.job != job:
            return
        if at is None or chunk is None:
            self._say(f"The output has not got {what}, from here on." if what != "it" else "There is no further one.")
            return
        rows.show(at, chunk, rows.heading, False)
        self.screen.set_focus(rows)
        if at > 0:  # what stands before it, above it
            self._read_more_before(job, at)
        self.post_message(CursorMoved())

    def _read_more_before(self, job: int, at: int) -> None:
        if self.quarry.client is not None:
            self._read_more(self.quarry.client, job, "earlier", at, at)

    # -- elsewhere ---------------------------------------------------------------------------------

    def action_wrap(self) -> None:
        """Long lines over several rows, or on one."""
        rows = self.query_one(OutputRows)
        rows.wrap()
        self._say(
            "Long lines go over several rows."
            if rows.wrapped
            else "Each line stands on one row; ← → show the rest of it."
        )

    def other_stream(self) -> None:
        """Errors in place of the output, or the output again."""
        self.which = "errors" if self.which == "output" else "output"
        self.query_one(OutputRows).window.path = ""
        self._load()

    def path_in_sight(self) -> str:
        """The file that is in sight."""
        return self.query_one(OutputRows).window.path

    def action_copy(self) -> None:
        """The path to the terminal's clipboard (OSC 52)."""
        path = self.path_in_sight()
        if not path:
            self._say("There is no file here whose path could be copied.")
        else:
            self.app.copy_to_clipboard(path)
            self._say(f"{path} was given to the terminal's clipboard.")

    def action_outside(self, variable: str) -> None:
        """Give the terminal to the person's own program until it ends."""
        path, client = self.path_in_sight(), self.quarry.client
        if not path or client is None:
            self._say("There is no file here that could be opened.")
            return
        if not os.path.exists(path):
            self._say(f"{path} is not on this machine, so no program here can open it.", bad=True)
            return
        words = shlex.split(os.environ.get(variable) or {"PAGER": "less", "EDITOR": "vi"}[variable])
        try:
            with self.app.suspend():
                subprocess.run([*words, path], check=False)
        except (OSError, SuspendNotSupported) as fault:
            self._say(f"{words[0]} could not be opened: {getattr(fault, 'strerror', None) or fault}.", bad=True)
        self.app.refresh()
