"""The application: it connects the places and passes them each new board."""

import asyncio
import os
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, tzinfo
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Container
from textual.css.query import NoMatches
from textual.filter import LineFilter
from textual.widgets import Input, TextArea

from lazy_quarry.app.acting import Acting
from lazy_quarry.app.found_by_words import found_by_words
from lazy_quarry.app.job_notices import Ring
from lazy_quarry.app.shared.acts import Bound, bound, key_of, shown
from lazy_quarry.app.shared.dialog import Dialog
from lazy_quarry.app.shared.draft_shelf import DraftShelf
from lazy_quarry.app.shared.finder import Finder
from lazy_quarry.app.shared.frame import PLACES, NoteBar, StrataLines, Trail
from lazy_quarry.app.shared.key_help import Help
from lazy_quarry.app.shared.key_hint import KeyHint
from lazy_quarry.app.shared.messages import CursorMoved, Say
from lazy_quarry.app.shared.place import Place
from lazy_quarry.app.shared.quarry import T
from lazy_quarry.app.shared.question import Question
from lazy_quarry.app.shared.theme import CHALK, DUSK, PALETTES, SIXTEEN
from lazy_quarry.app.shell import open_shell
from lazy_quarry.app.textual_fixes.alt_numbers import ASK_FOR_ESCAPE, EIGHT_BIT, PUT_BACK, teach_alt_numbers
from lazy_quarry.app.textual_fixes.keys_in_order import SCROLLING
from lazy_quarry.app.textual_fixes.light_strips import lighten_strips
from lazy_quarry.app.textual_fixes.no_colour import NoColour, rgb_of
from lazy_quarry.app.textual_fixes.plain_line import PlainLine
from lazy_quarry.app.textual_fixes.readings_in_order import BeginsInOrder, hand_over
from lazy_quarry.app.textual_fixes.sent_cells import SendingApp
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.units import plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.files.kinds import words_of
from lazy_quarry.views.board import Board
from lazy_quarry.views.board_mirror import BoardMirror
from lazy_quarry.views.draft_view import DraftReport

if TYPE_CHECKING:
    from lazy_quarry.app.shared.table_catalogue import Table
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.expanded import Expanded

REFRESH_S, IDLE_S = 1.0, 10.0
"""Between two looks, while something runs of which the use changes, and while there is only the clock."""
SAY_S = 8.0
NARROWEST, SHORTEST = 100, 30


class QuarryApp(BeginsInOrder, Acting, SendingApp):
    """One site in six places. ``connect`` makes the client; it is called from a worker."""

    TITLE = "lazy quarry"
    ENABLE_COMMAND_PALETTE = False
    CSS = """
    Screen { color: $ink; layout: vertical; }
    #_default { background: $ground; }
    #body { height: 1fr; }
    """
    BINDINGS = [
        *(Binding(f"alt+{number}", f"go('{place}')", place, priority=True) for number, place in enumerate(PLACES, 1)),
        *(Binding(str(number), f"go('{place}')", place) for number, place in enumerate(PLACES, 1)),
        bound("figure", "figure", "take what is drawn here along as SVG or PDF", priority=True),
        bound("table", "table", "save the table under the cursor as CSV; at once again, as JSON", priority=True),
        bound("ring", "ring", "tell me when the job under the cursor ends, or no longer"),
        bound("find_act", "find_action", "find anything that can be done, by its words", priority=True),
        bound("keys", "keys", "all keys of this place; f1 also while typing"),
        bound("pause", "stand", "stop the rehearsal's clock, or let it go on"),
        bound("step", "step", "to the next thing that happens in the rehearsal"),
        bound("faster", "faster(1)", "the rehearsal's clock faster"),
        bound("slower", "faster(-1)", "the rehearsal's clock slower"),
        bound("ground", "ground", "dark or light colours (dusk or chalk)", priority=True),
        bound("draw_again", "draw_again", "draw all again, if something else wrote on the terminal", priority=True),
        bound("leave", "quit", "leave; drafts are kept, jobs go on", priority=True),
    ]

    def __init__(
        self,
        connect: Callable[[], "SiteClient"],
        folder: Path,
        shelf: DraftShelf,
        zone: tzinfo = UTC,
        place: str = "survey",
        sites: tuple[str, ...] = (),
    ) -> None:
        super().__init__()
        teach_alt_numbers()
        lighten_strips()
        self.sites, self.next_site = sites, ""
        """Other sites that may be opened in place of this one, and the one that was chosen."""
        self.connect, self.folder, self.shelf, self.zone = connect, folder, shelf, zone
        self.client: SiteClient | None = None
        self.board: Board | None = None
        self.place = place
        self.looked_at: int | None = None
        """The job that the next visit to Watch begins at."""
        self.ring = Ring(shelf.kept, self._write_out)
        self.said_until = 0.0
        self._saved = ""
        """The table that was saved last."""
        self._seen: Place | None = None
        """The place in sight."""
        self._leaving = threading.Event()
        self._plain_line = PlainLine(os.environ.get("LQ_SIGNS") == "plain")
        self._no_colour = (
            NoColour(frozenset(rgb_of(tone) for one in PALETTES.values() for tone in (one.ground, one.raised)))
            if os.environ.get("NO_COLOR")
            else None
        )
        self._mirror, self._mirror_lock = BoardMirror(), threading.Lock()
        for palette in PALETTES.values():
            self.register_theme(palette.theme)
        self.theme = (SIXTEEN if self.console.color_system == "standard" else DUSK).name

    def compose(self) -> ComposeResult:
        """The frame; places are made when they are first gone to."""
        yield Trail()
        yield StrataLines()
        yield Container(id="body")
        yield NoteBar()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """While a dialog is open no key acts but its own, and the one that leaves; the list of keys gives way to more."""
        if isinstance(self.screen, Dialog):
            gives_way = isinstance(self.screen, Help) and action in ("go", "find_action")
            if not gives_way and action not in ("quit", "answer"):
                return False
        return super().check_action(action, parameters)

    def get_line_filters(self) -> Sequence[LineFilter]:
        """The filters that every line goes through before it is drawn."""
        if self._no_colour is not None:
            return [self._plain_line, self._no_colour]
        return [*super().get_line_filters(), self._plain_line]

    def on_mount(self) -> None:
        """Show the frame, then open the site."""
        self._write_out(ASK_FOR_ESCAPE)
        self.query_one(Trail).show_place(self.place)
        self.call_after_refresh(self._follow)

    def on_unmount(self) -> None:
        """Leave the site, and the terminal as it was."""
        self._write_out(PUT_BACK)
        self._leaving.set()
        if self.client is not None:
            self.client.close()

    # -- the present -------------------------------------------------------------------------------

    @work(thread=True, group="follow")
    def _follow(self) -> None:
        """Open the site, then read the present whenever it has changed, and the clock in between."""
        try:
            self.client = self.connect()
        except QuarryError as fault:
            self.hand_over(self._cannot_open, str(fault))
            return
        first, shown_at = True, 0.0
        while not self._leaving.is_set():
            try:
                board, settled, partial = self._look()
            except QuarryError as fault:
                if self._leaving.is_set():
                    return
                self.post_message(Say(str(fault), bad=True))
                self._leaving.wait(1.0)
                continue
            if self._leaving.is_set():
                return
            if first and partial:
                continue  # a part of it would say that there is no more
            if settled or first or time.monotonic() > shown_at + REFRESH_S:
                shown_at = time.monotonic()
                if self._seen is not None:
                    self._seen.prepare(board)
                self.hand_over(self._show, board)
            if first:
                first = False
                self.hand_over(self.call_later, self._arrive)
            if not settled:
                continue  # forecasts are still being worked out
            version = self.client.changes(board.version, self._patience_s(board))
            if version > board.version:
                self._leaving.wait(0.05)  # what changes together is drawn together

    def _look(self) -> tuple[Board, bool, bool]:
        """The present, whether all forecasts are there, and whether rows are missing or older."""
        assert self.client is not None
        sight: list[int] = []
        with suppress(NoMatches):  # its widgets are being made, or go one by one
            sight = self._seen.sight() if self._seen is not None else []
        with self._mirror_lock:
            change = self.client.look(self._mirror.mark, sight)
            return self._mirror.take(change), change.settled, change.partial

    @staticmethod
    def _patience_s(board: Board) -> float:
        """Seconds without a look at the site while nothing is told."""
        return REFRESH_S if any(view.phase is Phase.RUNNING for view in board.jobs) else IDLE_S

    def hand_over(self, then: Callable[..., object], *arguments: Any) -> None:
        """From a worker: have the interface do something with what was found, unless the person has left meanwhile, or what a
        later worker of its group found was shown.
        """
        if not self._leaving.is_set():
            with suppress(RuntimeError, NoMatches):  # the loop has ended, or widgets are going one by one
                hand_over(self, then, *arguments)

    def aside(self, work: Callable[[], T], then: Callable[[T], object], keys_wait: bool = True) -> None:
        """Do what reads or writes files, apart from the interface, then go on with what came of it; what is wrong is told."""

        def do() -> None:
            try:
                found = work()
            except QuarryError as fault:
                self.hand_over(self.post_message, Say(str(fault), bad=True))
            except OSError as fault:
                self.hand_over(self.post_message, Say(f"{fault.filename}: {words_of(fault)}", bad=True))
            except Exception as fault:  # a fault of ours is shown as one in the interface is
                self.hand_over(self._handle_exception, fault)
            else:
                self.hand_over(then, found)
            finally:
                if keys_wait:
                    self.hand_over(self.ends_reading)

        if keys_wait:
            self.begins_reading()
        self.shelf.kept.aside.do(do)

    async def action_quit(self) -> None:
        """Leave at once: drafts are kept, jobs go on."""
        for place in self.query(Place):
            if place.ready:
                place.leave()
        await asyncio.to_thread(self.shelf.kept.aside.finish)
        self._leaving.set()
        self.exit()

    async def open_site(self, name: str) -> None:
        """Leave this site, to open another."""
        self.next_site = name
        await self.action_quit()

    async def _arrive(self) -> None:
        if self.query(Trail):  # unless the person has left meanwhile
            await self.action_go(self.place)

    @work(thread=True, exclusive=True, group="board")
    def read_board(self) -> None:
        """Read the present now."""
        if self.client is not None:
            try:
                board, _, _ = self._look()
            except QuarryError:
                return
            if self._seen is not None:
                self._seen.prepare(board)
            self.hand_over(self._show, board)

    def _cannot_open(self, words: str) -> None:
        self.query_one(NoteBar).say(f"The site cannot be opened: {words}", bad=True)
        self.said_until = float("inf")

    def _show(self, board: Board) -> None:
        if self.board is not None and (board.version, board.now_ms) < (self.board.version, self.board.now_ms):
            return  # two workers look, and the later one was first
        self.board = board
        for words in self.ring.look(board.jobs):
            self.post_message(Say(words))
        self.query_one(Trail).show(board)
        self.query_one(StrataLines).show(board)
        if place := self.place_in_sight():
            place.show(board)
        self.tell()

    def tell(self) -> None:
        """The note and the keys, for what the cursor is on now."""
        bar = self.query_one(NoteBar)
        place = self.place_in_sight()
        if time.monotonic() >= self.said_until:
            notices = self.board.notices if self.board else ()
            bar.say(notices[0] if notices else place.note() if place else "", bad=bool(notices))
        typing = isinstance(self.screen.focused, (Input, TextArea))
        small = self.size.width < NARROWEST or self.size.height < SHORTEST
        size = f"{self.size.width}×{self.size.height}"
        lacks: list[KeyHint] = [(size, f"of {NARROWEST}×{SHORTEST}", "")] if small else []
        bar.show_keys([*lacks, *(place.keys() if place else []), ("f1" if typing else "?", "all keys", "app.keys")])

    def on_say(self, message: Say) -> None:
        """A sentence that stands for a while; it is of what came of the last key, and goes with the next one that moves."""
        self.moving = False
        self.said_until = time.monotonic() + SAY_S
        self.query_one(NoteBar).say(message.text, message.bad)

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """The cursor is on something else; once the person moved it there, what was said of the other goes."""
        if self.moving and self.said_until != float("inf"):
            self.said_until = 0.0
        self.tell()

    async def on_key(self, event: events.Key) -> None:
        """Do what a key is bound to. One that nothing takes may be alt and a digit; else it is said that it does nothing here."""
        event.prevent_default()  # the framework would look for bindings once more
        if self.said_until != float("inf"):
            self.said_until = min(self.said_until, time.monotonic() + 3.0)
        if await self._check_bindings(event.key):
            return
        place = self.place_in_sight()
        if (number := EIGHT_BIT.get(event.character or "")) and not isinstance(self.screen, Question):
            await self.action_go(PLACES[number - 1])
        elif place is not None and self.screen is place.screen and event.key not in SCROLLING:
            self.say_unused(event.key, event.character, place)

    def weekday_time(self, at_ms: int) -> str:
        """``Mon 09:42``."""
        return f"{datetime.fromtimestamp(at_ms / 1000, self.zone):%a %H:%M}"

    # -- places ------------------------------------------------------------------------------------

    def place_in_sight(self) -> Place | None:
        """The place that is shown and ready; None before there is one."""
        return next((place for place in self.query(Place) if place.display and place.ready), None)

    def _make(self, name: str) -> Place:
        """A place, imported when it is first gone to."""
        module = import_module(f"lazy_quarry.app.{name}.{name}")
        place: Place = getattr(module, f"{name.capitalize()}Place")(id=f"place-{name}")
        return place

    async def action_go(self, name: str) -> Place:
        """Go to a place; the list of keys gives way."""
        if isinstance(self.screen, Help):
            self.screen.finish()
        place = next((each for each in self.query(Place) if each.id == f"place-{name}"), None)
        if place is None:
            place = self._make(name)
            await self.query_one("#body").mount(place)
            place.ready = True
        while not place.ready:  # somebody else is making it
            await asyncio.sleep(0.01)
        focused = self.screen_stack[0].focused
        for other in self.query(Place):
            if other is not place and other.display and focused is not None and other in focused.ancestors:
                other.had = focused
            other.display = other is place
        self.place = name
        self._seen = place
        self.query_one(Trail).show_place(name)
        if self.board is not None:
            place.show(self.board)
        place.arrive()
        if place.keeps_focus and place.had is not None and place.had.focusable and not isinstance(place.had, Input):
            self.screen_stack[0].set_focus(place.had)
        if self.said_until != float("inf"):
            self.said_until = 0.0
        self.tell()
        return place

    async def action_place_action(self, action: str) -> None:
        """Do what a key of the present place does, from a click."""
        place = self.place_in_sight()
        if place is not None:
            await self.run_action(action, place)

    def open_shell(self, report: DraftReport | None) -> None:
        """Give the terminal to a shell on cores of this machine until it ends."""
        if problem := open_shell(self, self.client, self.folder, report):
            self.post_message(Say(problem, bad=True))
        self.refresh()

    def ask(self, question: str, then: Callable[[], object], *, yes: str, no: str) -> None:
        """Do something only when the person says so."""

        def answered(agreed: bool | None) -> None:
            if agreed:
                then()

        self.push_screen(Question(question, yes=yes, no=no), answered)

    # -- being told ---------------------------------------------------------------------------------

    def _write_out(self, sequence: str) -> None:
        """Give the terminal a control sequence of its own."""
        if self._driver is not None:
            self._driver.write(sequence)
            self._driver.flush()

    def action_ring(self) -> None:
        """Tell, or no longer, when the job under the cursor ends."""
        place = self.place_in_sight()
        view = place.job_in_sight() if place is not None else None
        self.post_message(Say(self.ring.mark(view) if view is not None else "There is no job under the cursor."))

    def action_turn_ring(self) -> None:
        """The next way of being told."""
        self.post_message(Say(f"When a job ends that is marked with B, you are told by: {self.ring.turn()}."))

    # -- the frame's own keys ----------------------------------------------------------------------

    def action_keys(self) -> None:
        """All keys of the place."""
        if isinstance(self.screen, Dialog):
            return  # it has its keys in a line of its own
        place = self.place_in_sight()
        whole = [(shown(one.key), one.tooltip) for one in self.BINDINGS if isinstance(one, Bound)]
        self.push_screen(Help(self.place, place.all_keys() if place else [], whole))

    def action_figure(self) -> None:
        """Draw what is seen, for taking along."""
        from lazy_quarry.app.shared.figure_pane import FigurePane

        place: Any = self.screen if hasattr(self.screen, "figures") else self.place_in_sight()
        offers = place.figures() if place else []
        if not offers:
            self.post_message(Say("There is nothing to draw here now."))
        elif not isinstance(self.screen, Dialog):
            self.push_screen(FigurePane(offers, self.folder), self._taken_along)

    def action_table(self) -> None:
        """Save the table under the cursor as CSV, under a name that is free; at once again, the same as JSON."""
        place: Any = self.screen if hasattr(self.screen, "tables") else self.place_in_sight()
        if isinstance(self.screen, Dialog):
            return  # it has its keys in a line of its own
        found = place.tables() if place else []
        if not found:
            self.post_message(Say("There is no table here now."))
            return
        again = self._saved == found[0].name and time.monotonic() < self.said_until
        self._saved = "" if again else found[0].name
        self._save_table(place, found[0], "json" if again else "csv")

    @work(thread=True, group="table")
    def _save_table(self, place: Any, table: "Table", form: str) -> None:
        from lazy_quarry.app.shared.table_catalogue import save

        try:
            path, rows = save(table, self.folder, form)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        more = f" {key_of('table')} again saves it as JSON." if form == "csv" else ""
        words = f"{path} was written: {plural(rows, 'row')}.{more}"
        self.hand_over(place.said_of_table if hasattr(place, "said_of_table") else self._taken_along, words)

    def show_expansion(self, expanded: "Expanded") -> None:
        """Show the tasks of an array."""
        from lazy_quarry.app.shared.expansion_screen import ExpansionScreen

        self.push_screen(ExpansionScreen(expanded, self.folder))

    def _taken_along(self, told: str | None) -> None:
        if told:
            self.post_message(Say(told))

    def action_ground(self) -> None:
        """Change between the dark and the light colours."""
        if self.theme == SIXTEEN.name:
            self.post_message(Say("This terminal has sixteen colours, and they are in use."))
            return
        self.theme = CHALK.name if self.theme == DUSK.name else DUSK.name
        for editor in self.query("Editor, OverridesEdit").results():
            editor.dress()  # type: ignore[attr-defined]
        self.refresh(layout=True)
        for widget in self.query("*"):
            widget.refresh()

    def action_faster(self, steps: int) -> None:
        """The rehearsal's clock."""
        self._turn("faster", steps)

    def action_stand(self) -> None:
        """Pause the rehearsal's clock, or let it go on."""
        if self.board is not None:
            self._turn("set_clock", None, not self.board.clock.paused)

    def action_step(self) -> None:
        """The next thing that happens."""
        self._turn("step")

    @work(thread=True, group="clock")
    def _turn(self, what: str, *arguments: Any) -> None:
        turn = getattr(self.client, what, None)
        if turn is None:
            self.post_message(Say("This site's clock is the real one; only a rehearsal's can be changed."))
            return
        turn(*arguments)
        self.hand_over(self.read_board)

    def action_find_action(self) -> None:
        """Any action by its words; a dialog is answered first, but for the list of keys, whose place this takes."""
        if isinstance(self.screen, Help):
            self.screen.finish()
            self.call_later(self.action_find_action)
            return
        if isinstance(self.screen, Dialog):
            return

        def do(run: Callable[[], Any] | None) -> None:
            if run is not None:
                run()

        self.push_screen(Finder(found_by_words(self, self.place_in_sight())), do)
