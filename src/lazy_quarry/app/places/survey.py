"""Survey: what is there, what is free, how much could start now, what may I use."""

from typing import TYPE_CHECKING

from textual import events, on, work
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Input

from lazy_quarry.app.messages import CursorMoved, OpenNode, Say
from lazy_quarry.app.pen import Pen, bar
from lazy_quarry.app.places.place import Key, Place
from lazy_quarry.app.widgets.drawn import Rows
from lazy_quarry.app.widgets.hours import NodeHours
from lazy_quarry.app.widgets.nodes import NodeRows
from lazy_quarry.app.widgets.room import RoomChosen, RoomGrid
from lazy_quarry.core.site import Software
from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration, format_size, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.views import Board, RoomView

if TYPE_CHECKING:
    from lazy_quarry.client import SiteClient

Piece = tuple[str, str, bool]


class TraitRows(Rows):
    """Each trait with the nodes and cores that have it; marked ones narrow the others."""

    DEFAULT_CSS = "TraitRows { height: auto; max-height: 9; width: 1fr; border-top: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="traits")
        self.board: Board | None = None
        self.traits: list[str] = []
        self.marked: set[str] = set()
        self.cursor = 1

    def show(self, board: Board) -> None:
        """New figures."""
        self.board = board
        traits = sorted({trait for node in board.nodes for trait in node.traits})
        if traits != self.traits:
            self.traits = traits
            self.marked &= set(traits)
            self.refresh(layout=True)
        self.display = bool(traits)
        self.refit()
        self.cursor = max(1, self.cursor)

    def get_content_height(self, container, viewport, width) -> int:  # type: ignore[no-untyped-def]
        """As many rows as there are traits, and the heading."""
        return self.row_count()

    def row_count(self) -> int:
        """A heading and the traits."""
        return 1 + len(self.traits)

    def move(self, to: int) -> None:
        """To another trait."""
        super().move(max(1, to))

    def cursor_changed(self) -> None:
        """Another trait."""
        self.post_message(CursorMoved())

    def on_focus(self) -> None:
        """The cursor shows."""
        self.refresh()

    def on_blur(self) -> None:
        """The cursor goes."""
        self.refresh()

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """The heading, or a trait."""
        if not (current and self.has_focus) or row == 0:
            pen.ground = "ground"
        if row == 0:
            words = (
                f"with {' and '.join(sorted(self.marked))}" if self.marked else "space marks one, to see what is left"
            )
            pen.write(" TRAITS", bold=True).write(f"   {words}", "dim")
            return
        assert self.board is not None
        trait = self.traits[row - 1]
        with_it = [node for node in self.board.nodes if self.marked | {trait} <= set(node.traits)]
        free = sum(node.cores - node.cores_used for node in with_it if not node.closed)
        cores = sum(node.cores for node in with_it)
        marked = trait in self.marked
        pen.write(" ◆ " if marked else " ◇ ", "ochre" if marked else "dim").cell(trait, 14, bold=marked)
        if not with_it:
            pen.write("on no node together with these", "rust")
            return
        names = fold_names([node.name for node in with_it])
        pen.write(f"{len(with_it):>5} nodes {cores:>7,} cores {free:>7,} free   ", "dim")
        pen.cell(names, max(0, min(40, self.room - pen.at)), "dim")

    def on_key(self, event: events.Key) -> None:
        """Mark and unmark."""
        if event.key in ("space", "enter"):
            self._mark(self.cursor)
            event.stop()
            event.prevent_default()
        else:
            super().on_key(event)

    def _mark(self, row: int) -> None:
        if 1 <= row <= len(self.traits):
            self.marked ^= {self.traits[row - 1]}
            self.refresh()
            self.post_message(CursorMoved())

    def clicked(self, row: int, column: int) -> None:
        """A click marks."""
        self.move(row)
        self._mark(row)


class Uses(Rows):
    """What the person may charge and ask for, what is ahead, where files may lie."""

    has_cursor = False
    DEFAULT_CSS = "Uses { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="may-use")
        self.lines: list[list[Piece]] = []
        self.board: Board | None = None
        self.bars: dict[int, tuple[float, float]] = {}

    def show(self, board: Board) -> None:
        """New figures."""
        self.board = board
        self.lines, self.bars = [[(" MAY USE", "ink", True)]], {}
        by_name = {line.account: line for line in board.accounts}
        for name in board.my_accounts:
            line = by_name.get(name)
            if line is None or line.budget_core_ms is None:
                self.lines.append([(f"   {name:<14}", "ink", False), ("no limit", "dim", False)])
                continue
            left = line.left_core_ms or 0
            self.bars[len(self.lines)] = (max(0, line.budget_core_ms - left), line.budget_core_ms)
            words = f"{format_core_hours(left)} of {format_core_hours(line.budget_core_ms)} left"
            self.lines.append([(f"   {name:<14}", "ink", False), (words, "dim", False)])
        mine = [job for job in board.jobs if job.user == board.user]
        running = sum(job.phase == "running" for job in mine)
        waiting = sum(job.phase in ("waiting", "held", "blocked") for job in mine)
        self.lines.append([(f"   yours now: {running} running, {waiting} waiting", "dim", False)])
        for tier in board.tiers:
            if not tier.users or board.user in tier.users:
                charge = f"charge ×{tier.charge_permille / 1000:g}"
                limit = f", at most {format_duration(tier.walltime_limit_s)}" if tier.walltime_limit_s else ""
                words = f"{charge}{limit}" + (f", {tier.note}" if tier.note else "")
                self.lines.append([(f"   tier {tier.name:<9}", "ink", False), (words, "dim", False)])
        self._ahead(board)
        if board.storage:
            self.lines += [[], [(" STORAGE", "ink", True), ("   seen from   kept   heavy work", "dim", False)]]
        for area in board.storage:
            seen = "every node" if area.shared else "one node"
            kept, heavy = "yes" if area.kept else "no", "yes" if area.heavy else "no"
            colour = "dim" if area.heavy else "ink"
            row: list[Piece] = [(f"   {area.path:<9}", "ink", False), (f"{seen:<12}{kept:<7}", "dim", False)]
            self.lines.append([*row, (f"{heavy:<5}", colour, False), (area.note, "dim", False)])
        for node in board.closed_to_jobs:
            self.lines.append(
                [(f"   {node.name:<9}", "ink", False), ("for logging in; no job runs there", "dim", False)]
            )
        self.lines.append([])
        told = [f"head {board.head}" if board.head else "", f"ask {board.contact}" if board.contact else ""]
        self.lines.append(
            [(f"   {board.site}: {', '.join(word for word in told if word)}" if any(told) else "", "dim", False)]
        )
        self.refit()

    def _ahead(self, board: Board) -> None:
        if board.windows:
            self.lines += [[], [(" AHEAD", "ink", True)]]
        for window in board.windows:
            begins, ends = (clock_time(at, board.now_ms, self.quarry.zone) for at in (window.begins_ms, window.ends_ms))
            names = fold_names(window.nodes)
            self.lines.append([(f"   {begins} – {ends} ", "river", False), (f"no jobs on {names}", "ink", False)])
            left = format_duration((window.begins_ms - board.now_ms) / 1000) if window.begins_ms > board.now_ms else ""
            self.lines.append([(f"   {window.reason}", "dim", False)])
            if left:
                self.lines.append([(f"   what asks for more than {left} waits until it is over", "dim", False)])

    def row_count(self) -> int:
        """All of them."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One of the lines; a budget has a bar."""
        pieces = self.lines[row]
        for number, (text, colour, bold) in enumerate(pieces):
            if number == 1 and row in self.bars:
                used, budget = self.bars[row]
                bar(pen, [(used, "━", "stone"), (budget - used, "━", "moss")], 12, budget)
                pen.write(" ")
            pen.cell(text, min(len(text), max(0, self.room - pen.at)), colour, bold=bold)


class SoftwareRows(Rows):
    """The modules that the search finds."""

    DEFAULT_CSS = "SoftwareRows { height: 1fr; width: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="software")
        self.found: list[Software] = []
        self.total = 0

    def show(self, software: tuple[Software, ...], search: str) -> None:
        """Those whose name, programs or note have all the words."""
        words = search.lower().split()
        self.total = len(software)
        self.found = [
            one
            for one in software
            if all(word in f"{one.name} {' '.join(one.programs)} {one.note}".lower() for word in words)
        ]
        self.refit()

    def row_count(self) -> int:
        """What was found."""
        return max(1, len(self.found))

    def chosen(self) -> Software | None:
        """What the cursor is on."""
        return self.found[self.cursor] if self.cursor < len(self.found) else None

    def cursor_changed(self) -> None:
        """Another module."""
        self.post_message(CursorMoved())

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A module, what it is, and its programs."""
        if not self.found:
            pen.ground = "ground"
            pen.write("   this site offers no modules" if not self.total else "   no module has these words", "dim")
            return
        one = self.found[row]
        pen.cell(f"   {one.name}", 16, "ink", bold=current).cell(one.note, max(0, self.room - 16), "dim")


class SurveyPlace(Place):
    """Nodes and traits on the left; room, what may be used, and software on the right."""

    DEFAULT_CSS = """
    SurveyPlace { padding-top: 1; }
    SurveyPlace #ground-side { width: 1fr; height: 1fr; }
    SurveyPlace #use-side { width: 62; height: 1fr; padding-left: 1; border-left: solid $faint; }
    SurveyPlace #search { border: none; height: 1; background: $raised; padding: 0 1; margin: 0 1 0 3; }
    SurveyPlace #software-box { height: 8; border-top: solid $faint; }
    SurveyPlace.-narrow #both { layout: vertical; }
    SurveyPlace.-narrow { padding-top: 0; }
    SurveyPlace.-narrow #use-side { width: 1fr; height: 8; layout: horizontal; border-left: none; border-top: solid $faint; }
    SurveyPlace.-narrow #use-side:focus-within { height: 10; }
    SurveyPlace.-narrow RoomGrid { width: 60; height: 7; }
    SurveyPlace.-narrow TraitRows { height: 1; border-top: none; }
    SurveyPlace.-narrow TraitRows:focus { height: auto; }
    SurveyPlace.-narrow #software-box { display: none; }
    """
    BINDINGS = [
        Binding("slash", "search", "search software"),
        Binding("r", "room", "room now"),
        Binding("t", "traits", "traits"),
        Binding("n", "nodes", "nodes"),
        Binding("escape", "nodes", "back to the nodes"),
    ]
    _asked: tuple[int, str] = (-1, "")

    def compose(self):  # type: ignore[no-untyped-def]
        """Both sides."""
        with Horizontal(id="both"):
            with Vertical(id="ground-side"):
                yield NodeRows()
                yield NodeHours()
                yield TraitRows()
            with Vertical(id="use-side"):
                yield RoomGrid()
                yield Uses()
                with Vertical(id="software-box"):
                    yield Input(id="search", placeholder="search software: / goes here")
                    yield SoftwareRows()

    def show(self, board: Board) -> None:
        """New figures everywhere."""
        super().show(board)
        self.query_one(NodeRows).show(board)
        self.query_one(TraitRows).show(board)
        self.query_one(Uses).show(board)
        self.query_one(SoftwareRows).show(board.software, self.query_one("#search", Input).value)
        hours = self.query_one(NodeHours)
        if hours.display:
            hours.show(board, hours.node)
        self._ask_room()

    def arrive(self) -> None:
        """Keys go to the nodes."""
        self.query_one(NodeRows).focus()

    # -- room --------------------------------------------------------------------------------------

    def _ask_room(self) -> None:
        """Ask for the room of the queue that the cursor is in, when it or the site has changed."""
        if self.board is None or self.quarry.client is None:
            return
        queue = self.query_one(NodeRows).queue()
        asked = (self.board.version, queue)
        if queue and asked != self._asked:
            self._asked = asked
            self._read_room(self.quarry.client, queue)

    @work(thread=True, exclusive=True, group="room")
    def _read_room(self, client: "SiteClient", queue: str) -> None:
        try:
            rooms = client.room(queue)
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.quarry.hand_over(self._show_room, queue, rooms)

    def _show_room(self, queue: str, rooms: list[RoomView]) -> None:
        if self.board is not None:
            total = sum(node.cores for node in self.board.nodes if queue in node.queues)
            names = tuple(one.name for one in self.board.queues)
            self.query_one(RoomGrid).show(queue, names, rooms, total)

    def on_room_chosen(self, message: RoomChosen) -> None:
        """Draft just that."""
        self.quarry.draft_room(message.room)

    # -- keys --------------------------------------------------------------------------------------

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Another queue has other room; marked traits dim the nodes without them."""
        rows, traits = self.query_one(NodeRows), self.query_one(TraitRows)
        if rows.wanted != frozenset(traits.marked):
            rows.wanted = frozenset(traits.marked)
            rows.refresh()
        self._ask_room()

    def on_open_node(self, message: OpenNode) -> None:
        """The hours of a node in place of the list."""
        if self.board is not None:
            hours = self.query_one(NodeHours)
            hours.show(self.board, message.node)
            hours.display, self.query_one(NodeRows).display = True, False
            hours.focus()
            self.post_message(CursorMoved())

    def action_nodes(self) -> None:
        """Back to the list of nodes."""
        rows = self.query_one(NodeRows)
        self.query_one(NodeHours).display, rows.display = False, True
        rows.focus()
        self.post_message(CursorMoved())

    def action_search(self) -> None:
        """To the search of software."""
        if not self.query_one("#software-box").display:
            self.post_message(Say("Make the terminal wider than 130 columns to search software here."))
            return
        self.query_one("#search", Input).focus()

    def action_room(self) -> None:
        """To what could start now."""
        self.query_one(RoomGrid).focus()
        self.post_message(CursorMoved())

    def action_traits(self) -> None:
        """To the traits."""
        self.query_one(TraitRows).focus()
        self.post_message(CursorMoved())

    @on(Input.Changed, "#search")
    def _searched(self, event: Input.Changed) -> None:
        if self.board is not None:
            self.query_one(SoftwareRows).show(self.board.software, event.value)

    @on(Input.Submitted, "#search")
    def _take_software(self) -> None:
        if chosen := self.query_one(SoftwareRows).chosen():
            self.quarry.draft_module(chosen.name)

    def on_key(self, event: events.Key) -> None:
        """Arrows in the search go through what was found; enter adds it to the draft."""
        rows = self.query_one(SoftwareRows)
        searching = self.query_one("#search", Input).has_focus
        if searching and event.key in ("down", "up"):
            rows.move(rows.cursor + (1 if event.key == "down" else -1))
            event.stop()
        elif rows.has_focus and event.key == "enter":
            self._take_software()
            event.stop()

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """What is under the cursor, and what follows from it."""
        if self.board is None:
            return ""
        if self.query_one(RoomGrid).has_focus:
            return self._room_words(self.query_one(RoomGrid).under_cursor())
        rows = self.query_one(SoftwareRows)
        if (rows.has_focus or self.query_one("#search", Input).has_focus) and (one := rows.chosen()):
            programs = f" It gives {', '.join(one.programs)}." if one.programs else ""
            return f"{one.name}: {one.note or 'a module'}.{programs} enter adds it to the draft."
        if self.query_one(NodeHours).display:
            return "Solid: runs, to its limit at most. Dashed: expected by the plan. Hatched: no jobs then."
        return self._node_words()

    @staticmethod
    def _room_words(room: RoomView | None) -> str:
        if room is None:
            return "Nothing of this kind could start now for so long; jobs that wait have their places first."
        gpus = f" with {plural(room.gpus, 'GPU')}" if room.gpus else ""
        where = f"{plural(room.cores, 'core')} on {plural(room.nodes, 'node')} of {room.queue}{gpus}"
        return f"{where} could start this minute for {format_duration(room.walltime_s)}, delaying nobody. enter drafts just that."

    def _node_words(self) -> str:
        """What runs on the node under the cursor, and when it comes free."""
        assert self.board is not None
        entry = self.query_one(NodeRows).entry()
        if entry is None:
            return ""
        if entry.queue is not None:
            users = f" Only {', '.join(entry.queue.users)} may use it." if entry.queue.users else ""
            tier = f" It serves tier {entry.queue.tier} only." if entry.queue.tier else ""
            return f"Queue {entry.queue.name}: {entry.queue.note or 'for every job'}.{tier}{users}"
        node = entry.nodes[0]
        name = fold_names([each.name for each in entry.nodes])
        words = f"{name}: {node.cores} cores, {format_size(node.memory_mib)}"
        words += f", scratch {format_size(node.scratch_mib)}" if node.scratch_mib else ""
        words += f", traits {', '.join(node.traits)}. " if node.traits else ". "
        if node.closed:
            words += f"Closed: {node.closed}. "
        if not node.shares:
            return words + "Nothing runs there."
        told = []
        for share in sorted(node.shares, key=lambda share: share.until_ms)[:4]:
            until = clock_time(share.until_ms, self.board.now_ms, self.quarry.zone)
            told.append(
                f"{share.job} {share.name} of {share.user} has {plural(len(share.cores), 'core')} until {until} at most"
            )
        more = len(node.shares) - len(told)
        return words + "; ".join(told) + (f"; and {more} more." if more else ".")

    def keys(self) -> list[Key]:
        """What can be done here."""
        if self.query_one(NodeHours).display:
            return [("esc", "back to the nodes", "app.place_action('nodes')")]
        return [
            ("↑↓", "node", ""),
            ("enter", "its hours", ""),
            ("o", "fold or unfold", ""),
            ("r", "room now", "app.place_action('room')"),
            ("t", "traits", "app.place_action('traits')"),
            ("/", "search software", "app.place_action('search')"),
            ("2", "draft a job", "app.go('draft')"),
            ("4", "watch jobs", "app.go('watch')"),
        ]
