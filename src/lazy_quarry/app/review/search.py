"""The choice of runs that Review lists: all of one's own, or all that a search finds; saved searches, sorting, columns."""

import json
from contextlib import suppress
from typing import TYPE_CHECKING

from textual import work
from textual.widgets import Input

from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.run_rows import RunHead, RunRows
from lazy_quarry.app.review.sheets import ReviewSheets
from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.column_list import ColumnList, ColumnsTaken
from lazy_quarry.app.shared.typed_line import Typed
from lazy_quarry.core.search.fields import FIELDS
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.found_parts import parts_words
from lazy_quarry.site.saved_searches import SavedSearches
from lazy_quarry.views.job_view import JobView

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient

LISTED = 300
"""Runs that are listed at a time; more are read when the cursor comes to the last one."""
HINT = 'surge overtime last month, or name:surge* memory:>4GiB since:2w text:"no convergence"'

COLUMNS = "review-columns.json"


class ReviewSearch(ReviewSheets):
    """A place with runs that can be searched."""

    BINDINGS = [
        bound("find", "search", "search all that ever ran; in the output a pattern"),
        bound("open_file", "saved", "the next of the searches that were saved"),
        bound("save", "keep", "save this search under a name"),
        bound("back", "all_runs", "leave what is typed, the wide list, the search"),
        bound("view", "widen", "the list over the whole width with its columns, or beside the verdict"),
        bound("columns", "columns", "which columns, and how wide"),
        bound("sort", "sort(1)", "sort by another column"),
        bound("turn", "turn", "sort the other way round"),
    ]
    words = ""
    """The search; empty for one's own runs."""
    sort = ""
    been_read = False
    """True when the runs were read once; before that it isn't known that there are none."""
    _more = False
    _keeping = False
    _saved = -1

    def _show_runs(self, runs: list[JobView]) -> None:
        """Show these; the place does it."""
        raise NotImplementedError

    def _take_columns(self) -> None:
        """The columns that were chosen last time, if any were."""
        with suppress(ValueError, AttributeError):
            widths = json.loads(self.quarry.shelf.kept.text(COLUMNS) or "")
            self.query_one(RunRows).show_columns({str(name): int(width) for name, width in widths.items()})

    # -- reading -----------------------------------------------------------------------------------

    @work(thread=True, exclusive=True, group="runs")
    def _read(self, most: int = LISTED) -> None:
        client = self.quarry.client
        if client is None:
            return
        try:
            runs, told = self._listed(client, most)
        except QuarryError as fault:
            self.quarry.hand_over(self._refused, str(fault))
            return
        self.quarry.hand_over(self._take, runs, told)

    def _listed(self, client: "SiteClient", most: int) -> tuple[list[JobView], str]:
        if not self.words and not self.sort:
            live = [view for view in client.jobs(everyone=False) if view.started_ms is not None]
            runs = [*reversed(live), *client.jobs(ended=True, everyone=False, limit=most)]
            if self.wanted is not None and all(view.job != self.wanted for view in runs):
                runs.insert(0, client.job(self.wanted))
            self._more = len(runs) >= most
            return runs, "mine, the newest first"
        everyone = bool(self.words)
        live = [] if self.sort else list(client.search(self.words, False, everyone, "-job", most).jobs)
        found = client.search(self.words, True, everyone, self.sort, most)
        runs = [*(view for view in live if view.started_ms is not None), *found.jobs]
        self._more = found.more
        if (
            not runs
            and self.words
            and (parts := parts_words(client, self.words, everyone, self._now_ms(), self.quarry.zone))
        ):
            self._say(f"Nothing has all of it: {parts}.")
        told = f"{len(runs):,}{' and more' if found.more else ''}"
        return runs, f"{told}; some that ended lately are not looked through yet" if found.behind else told

    def _now_ms(self) -> int:
        return self.board.now_ms if self.board is not None else 0

    def _take(self, runs: list[JobView], told: str) -> None:
        self.been_read = True
        self.query_one(RunHead).say(self.words, self.sort, told if runs else "nothing was found")
        self._show_runs(runs)

    def _refused(self, why: str) -> None:
        self.query_one(RunHead).say(self.words, self.sort, "")
        self._say(why, bad=True)

    def _read_on(self) -> None:
        """The cursor is on the last run: read more of them."""
        rows = self.query_one(RunRows)
        if self._more and rows.cursor == len(rows.runs) - 1 and len(rows.runs) < 5000:
            self._read(len(rows.runs) + LISTED)

    # -- searching ---------------------------------------------------------------------------------

    def action_search(self) -> None:
        """Type a search; in the output a pattern."""
        if self.sheet == "output" and self.goes_to(self.query_one(OutputRows)):
            self.find_in_output()
            return
        self._ask(self.words, f"a search: {HINT}", keeping=False)
        names = ", ".join(name for name in FIELDS)
        self._say(
            f"States and times as they are said: overtime last month. Other words are looked for everywhere. Fields: {names}."
        )

    def search(self, words: str) -> None:
        """Show what a search finds."""
        self.query_one(RunRows).focus()
        self.words, self.wanted = words, None
        self._read()

    def action_keep(self) -> None:
        """Type a name for the present search."""
        if not self.words:
            self._say(f"Search first, with {key_of('find')}; then its search can be saved under a name.")
            return
        self._ask("", f"a name for {self.words}", keeping=True)

    def _ask(self, value: str, words: str, keeping: bool) -> None:
        line = self.query_one("#search", Typed)
        self._keeping = keeping
        line.value, line.placeholder, line.display = value, words, True
        self.screen.set_focus(line)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """A search, a name, or a pattern of another line."""
        if event.input.id != "search":
            return
        event.stop()
        event.input.display = False
        self.screen.set_focus(self.query_one(RunRows))
        if self._keeping:
            self._save(event.value)
            return
        self.words = event.value.strip()
        self._read()

    def _save(self, name: str) -> None:
        words, key = self.words, key_of("open_file")
        said = f'Saved as "{name}": {key} goes through what is saved, and lq jobs --ended --saved "{name}" lists it.'
        self.quarry.aside(lambda: SavedSearches().save(name, words), lambda _: self._say(said))

    def action_saved(self) -> None:
        """The next of the saved searches."""
        self.quarry.aside(lambda: list(SavedSearches().all().items()), self._next_of)

    def _next_of(self, known: list[tuple[str, str]]) -> None:
        if not known:
            self._say(
                f"No search is saved yet: {key_of('find')} searches, {key_of('save')} saves the search under a name."
            )
            return
        self._saved = (self._saved + 1) % len(known)
        name, self.words = known[self._saved]
        self._say(f'"{name}": {self.words}')
        self._read()

    def action_all_runs(self) -> None:
        """Leave a line that is typed in, a wide list, or a search."""
        typed = [line for line in self.query(Typed) if line.display]
        if typed:
            for line in typed:
                line.display = False
            self.screen.set_focus(self.query_one(RunRows))
        elif self.query_one(ColumnList).display:
            self.action_columns()
        elif self.query_one(RunRows).wide:
            self.action_widen()
        elif self.words or self.sort:
            self.words = self.sort = ""
            self._read()
        elif not self.goes_to(self.query_one(RunRows)):
            self.screen.set_focus(self.query_one(RunRows))
        elif self.query_one(RunRows).marked:
            self.query_one(RunRows).marked.clear()
            self.query_one(RunRows).refresh()
        else:
            self._say("There is nothing to leave here: these are all your runs.")

    # -- the list itself ---------------------------------------------------------------------------

    def action_widen(self) -> None:
        """The list over the whole width, or beside the verdict."""
        rows = self.query_one(RunRows)
        rows.wide = not rows.wide
        self.set_class(rows.wide, "-wide")
        if not rows.wide:
            self.query_one(ColumnList).display = False
        rows.refit()
        self.query_one(RunHead).refresh()
        self.screen.set_focus(rows)

    def action_columns(self) -> None:
        """Choose columns, beside the wide list."""
        listed, rows = self.query_one(ColumnList), self.query_one(RunRows)
        if not rows.wide:
            self.action_widen()
        listed.display = not listed.display
        listed.show(dict(rows.widths))
        self.screen.set_focus(listed if listed.display else rows)

    def on_columns_taken(self, message: ColumnsTaken) -> None:
        """Other columns: shown at once, kept for next time."""
        self.query_one(RunRows).show_columns(message.widths)
        self.query_one(RunHead).refresh()
        self.quarry.shelf.kept.put(COLUMNS, json.dumps(message.widths))

    def action_sort(self, by: int) -> None:
        """Sort by the next column that can be sorted by; after the last one by the end again."""
        names = [column.sorts for column, _ in self.query_one(RunRows).columns() if column.sorts]
        here = self.sort.lstrip("-")
        at = names.index(here) + by if here in names else 0
        self.sort = f"-{names[at]}" if 0 <= at < len(names) else ""
        self._read()

    def action_sort_by(self, name: str) -> None:
        """Sort by this column, the greatest first; a second time the least."""
        self.sort = name if self.sort == f"-{name}" else f"-{name}"
        self._read()

    def action_turn(self) -> None:
        """The other way round."""
        if not self.sort:
            self.sort = "-ended"
        self.sort = self.sort[1:] if self.sort.startswith("-") else f"-{self.sort}"
        self._read()
