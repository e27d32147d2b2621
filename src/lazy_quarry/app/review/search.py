"""The choice of runs that Review lists: all of one's own, or all that a search finds; saved searches, sorting, columns."""

import json
from collections.abc import Callable
from contextlib import suppress
from typing import TYPE_CHECKING

from lazy_quarry.app.review.output_rows import OutputRows
from lazy_quarry.app.review.run_in_sight import RunInSight
from lazy_quarry.app.review.run_rows import RunHead, RunRows
from lazy_quarry.app.shared.acts import bound_of, key_of
from lazy_quarry.app.shared.column_list import ColumnList, ColumnsTaken
from lazy_quarry.app.shared.feature import Feature, apart
from lazy_quarry.app.shared.place import Place
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


class RunSearch(Feature):
    """Reads the runs that are listed, and searches, sorts and shows them as the person wants.

    ``show`` takes the runs; ``in_output`` begins to find a pattern in the output.
    """

    NAME = "searching"
    BOUND = (
        bound_of(NAME, "find", "ask", "search all that ever ran; in the output a pattern"),
        bound_of(NAME, "open_file", "saved", "the next of the searches that were saved"),
        bound_of(NAME, "save", "keep", "save this search under a name"),
        bound_of(NAME, "back", "all_runs", "leave what is typed, the wide list, the search"),
        bound_of(NAME, "view", "widen", "the list over the whole width with its columns, or beside the verdict"),
        bound_of(NAME, "columns", "columns", "which columns, and how wide"),
        bound_of(NAME, "sort", "sort_on(1)", "sort by another column"),
        bound_of(NAME, "turn", "turn", "sort the other way round"),
    )

    def __init__(
        self, place: Place, seen: RunInSight, show: Callable[[list[JobView]], None], in_output: Callable[[], None]
    ) -> None:
        super().__init__(place)
        self.seen, self._show_runs, self._in_output = seen, show, in_output
        self.words = ""
        """The search; empty for one's own runs."""
        self.sort = ""
        """The field that it is sorted by, with a minus for the greatest first; empty for the newest first."""
        self.wanted: int | None = None
        """A job that the list is to come to."""
        self.been_read = False
        """True when the runs were read once; before that it isn't known that there are none."""
        self._more = self._keeping = False
        self._saved = -1

    def take_columns(self) -> None:
        """The columns that were chosen last time, if any were."""
        with suppress(ValueError, AttributeError):
            widths = json.loads(self.quarry.shelf.kept.text(COLUMNS) or "")
            self.one(RunRows).show_columns({str(name): int(width) for name, width in widths.items()})

    # -- reading -----------------------------------------------------------------------------------

    @apart("runs")
    def read(self, most: int = LISTED) -> None:
        """Read the runs anew, so many at most."""
        if self.quarry.client is None:
            return
        try:
            runs, told = self._listed(self.quarry.client, most)
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
            and (parts := parts_words(client, self.words, everyone, self.now_ms, self.quarry.zone))
        ):
            self.say(f"Nothing has all of it: {parts}.")
        told = f"{len(runs):,}{' and more' if found.more else ''}"
        return runs, f"{told}; some that ended lately are not looked through yet" if found.behind else told

    def _take(self, runs: list[JobView], told: str) -> None:
        self.been_read = True
        self.one(RunHead).say(self.words, self.sort, told if runs else "nothing was found")
        self._show_runs(runs)

    def _refused(self, why: str) -> None:
        self.one(RunHead).say(self.words, self.sort, "")
        self.say(why, bad=True)

    def read_on(self) -> None:
        """The cursor is on the last run: read more of them."""
        rows = self.one(RunRows)
        if self._more and rows.cursor == len(rows.runs) - 1 and len(rows.runs) < 5000:
            self.read(len(rows.runs) + LISTED)

    # -- searching ---------------------------------------------------------------------------------

    def ask(self) -> None:
        """Type a search; in the output a pattern."""
        if self.seen.sheet == "output" and self.goes_to(self.one(OutputRows)):
            self._in_output()
            return
        self._ask(self.words, f"a search: {HINT}", keeping=False)
        names = ", ".join(name for name in FIELDS)
        self.say(
            f"States and times as they are said: overtime last month. Other words are looked for everywhere. Fields: {names}."
        )

    def typing(self, so_far: str) -> None:
        """Say what a field means once its name and colon have been typed."""
        name = so_far.rpartition(" ")[2].removeprefix("-").removesuffix(":")
        if not self._keeping and so_far.endswith(":") and (field := FIELDS.get(name)):
            self.say(f"{field.name}: {field.means}.")

    def search(self, words: str) -> None:
        """Show what a search finds."""
        self.one(RunRows).focus()
        self.words, self.wanted = words, None
        self.read()

    def keep(self) -> None:
        """Type a name for the present search."""
        if not self.words:
            self.say(f"Search first, with {key_of('find')}; then its search can be saved under a name.")
            return
        self._ask("", f"a name for {self.words}", keeping=True)

    def _ask(self, value: str, words: str, keeping: bool) -> None:
        self._keeping = keeping
        self.type_in("#search", value, words)

    def take_line(self, typed: str) -> None:
        """Search, or save the search under the name that was typed."""
        self.focus(self.one(RunRows))
        if self._keeping:
            self._save(typed)
            return
        self.words = typed.strip()
        self.read()

    def _save(self, name: str) -> None:
        words, key = self.words, key_of("open_file")
        said = f'Saved as "{name}": {key} goes through what is saved, and lq jobs --ended --saved "{name}" lists it.'
        self.quarry.aside(lambda: SavedSearches().save(name, words), lambda _: self.say(said))

    def saved(self) -> None:
        """The next of the saved searches."""
        self.quarry.aside(lambda: list(SavedSearches().all().items()), self._next_of)

    def _next_of(self, known: list[tuple[str, str]]) -> None:
        if not known:
            self.say(
                f"No search is saved yet: {key_of('find')} searches, {key_of('save')} saves the search under a name."
            )
            return
        self._saved = (self._saved + 1) % len(known)
        name, self.words = known[self._saved]
        self.say(f'"{name}": {self.words}')
        self.read()

    def all_runs(self) -> None:
        """Leave a line that is typed in, a wide list, or a search."""
        typed = [line for line in self.place.query(Typed) if line.display]
        if typed:
            for line in typed:
                line.display = False
            self.focus(self.one(RunRows))
        elif self.one(ColumnList).display:
            self.columns()
        elif self.one(RunRows).wide:
            self.widen()
        elif self.words or self.sort:
            self.words = self.sort = ""
            self.read()
        elif not self.goes_to(self.one(RunRows)):
            self.focus(self.one(RunRows))
        elif self.one(RunRows).marked:
            self.one(RunRows).marked.clear()
            self.one(RunRows).refresh()
        else:
            self.say("There is nothing to leave here: these are all your runs.")

    # -- the list itself ---------------------------------------------------------------------------

    def widen(self) -> None:
        """The list over the whole width, or beside the verdict."""
        rows = self.one(RunRows)
        rows.wide = not rows.wide
        self.place.set_class(rows.wide, "-wide")
        if not rows.wide:
            self.one(ColumnList).display = False
        rows.refit()
        self.one(RunHead).refresh()
        self.focus(rows)

    def columns(self) -> None:
        """Choose columns, beside the wide list."""
        listed, rows = self.one(ColumnList), self.one(RunRows)
        if not rows.wide:
            self.widen()
        listed.display = not listed.display
        listed.show(dict(rows.widths))
        self.focus(listed if listed.display else rows)

    def keep_columns(self, message: ColumnsTaken) -> None:
        """Other columns: shown at once, kept for next time."""
        self.one(RunRows).show_columns(message.widths)
        self.one(RunHead).refresh()
        self.quarry.shelf.kept.put(COLUMNS, json.dumps(message.widths))

    def sort_on(self, by: int) -> None:
        """Sort by the next column that can be sorted by; after the last one by the end again."""
        names = [column.sorts for column, _ in self.one(RunRows).columns() if column.sorts]
        here = self.sort.lstrip("-")
        at = names.index(here) + by if here in names else 0
        self.sort = f"-{names[at]}" if 0 <= at < len(names) else ""
        self.read()

    def sort_by(self, name: str) -> None:
        """Sort by this column, the greatest first; a second time the least."""
        self.sort = name if self.sort == f"-{name}" else f"-{name}"
        self.read()

    def turn(self) -> None:
        """The other way round."""
        if not self.sort:
            self.sort = "-ended"
        self.sort = self.sort[1:] if self.sort.startswith("-") else f"-{self.sort}"
        self.read()
