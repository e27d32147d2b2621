"""Survey: what the site has, what is free, how much could start now, what the person may use."""

from typing import TYPE_CHECKING

from textual import events, on, work
from textual.containers import Horizontal, Vertical
from textual.widget import Widget
from textual.widgets import Input

from lazy_quarry.app.shared.acts import bound, key_of
from lazy_quarry.app.shared.ended_lines import FEW_NODES, EndedLines
from lazy_quarry.app.shared.figure_catalogue import Offer, survey_figures
from lazy_quarry.app.shared.messages import CursorMoved, OpenNode, Say
from lazy_quarry.app.shared.place import Hint, Place
from lazy_quarry.app.shared.table_catalogue import Table, nodes_table, room_table
from lazy_quarry.app.survey.entitlements import Uses
from lazy_quarry.app.survey.node_hours import NodeHours
from lazy_quarry.app.survey.node_rows import NodeRows
from lazy_quarry.app.survey.room_grid import RoomChosen, RoomGrid
from lazy_quarry.app.survey.software_rows import SoftwareRows
from lazy_quarry.app.survey.trait_rows import TraitRows
from lazy_quarry.core.units import clock_time, fold_names, format_duration, format_size, plural
from lazy_quarry.errors import QuarryError
from lazy_quarry.views.board import Board
from lazy_quarry.views.outcomes import RoomView
from lazy_quarry.wording.sentences import host_words, shut_words

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient


class SurveyPlace(Place):
    """Nodes and traits on the left; room, what may be used, and software on the right."""

    DEFAULT_CSS = """
    SurveyPlace { padding-top: 1; }
    SurveyPlace #ground-side { width: 1fr; height: 1fr; }
    SurveyPlace #use-side { width: 62; height: 1fr; padding-left: 1; border-left: solid $faint; }
    SurveyPlace #search { border: none; height: 1; background: $raised; padding: 0 2 0 4; }
    SurveyPlace #software-box { height: 8; border-top: solid $faint; }
    SurveyPlace.-few NodeRows { height: auto; max-height: 12; }
    SurveyPlace.-few NodeHours { margin-top: 1; }
    SurveyPlace.-few EndedLines { display: block; }
    SurveyPlace.-narrow EndedLines { display: none; }
    SurveyPlace.-narrow #both { layout: vertical; }
    SurveyPlace.-narrow { padding-top: 0; }
    SurveyPlace.-narrow #use-side { width: 1fr; height: 8; layout: horizontal; border-left: none; border-top: solid $faint; }
    SurveyPlace.-narrow #use-side:focus-within { height: 10; }
    SurveyPlace.-narrow RoomGrid { width: 60; height: 7; }
    SurveyPlace.-narrow TraitRows { height: 1; border-top: none; }
    SurveyPlace.-narrow TraitRows:focus { height: auto; }
    SurveyPlace.-narrow #software-box { display: none; }
    """
    WHY_NOT = {"mark": "on a trait", "fold": "on the nodes"}
    BINDINGS = [
        bound("side", "side(1)", "from the nodes to room now, to the traits, to the software", priority=True),
        bound(
            "open",
            "open",
            "the hours of a node; a draft that asks for the room under the cursor; a module into the draft",
        ),
        bound("view", "room", "to what could start now, or back to the nodes"),
        bound("mark", "mark", "mark a trait, to see what is left with it"),
        bound("fold", "fold", "nodes that are alike and alike in use in one row, or each in its own"),
        bound("find", "search", "search the software"),
        bound("back", "nodes", "back to the nodes"),
    ]
    _asked = -1

    def compose(self):  # type: ignore[no-untyped-def]
        """Both sides."""
        with Horizontal(id="both"):
            with Vertical(id="ground-side"):
                yield NodeRows()
                yield NodeHours()
                yield EndedLines()
                yield TraitRows()
            with Vertical(id="use-side"):
                yield RoomGrid()
                yield Uses()
                with Vertical(id="software-box"):
                    yield Input(id="search", placeholder=f"search software: {key_of('find')} goes here")
                    yield SoftwareRows()

    def show(self, board: Board) -> None:
        """New figures everywhere."""
        super().show(board)
        self.query_one(NodeRows).show(board)
        self.query_one(TraitRows).show(board)
        self.query_one(Uses).show(board)
        self.query_one(SoftwareRows).show(board.site.software, self.query_one("#search", Input).value)
        self.query_one(EndedLines).show(board)
        self._fill(board)
        hours = self.query_one(NodeHours)
        if hours.display:
            hours.show(board, hours.node)
        self._ask_room()

    def _fill(self, board: Board) -> None:
        """Where there are few nodes, their hours and what ended last stand below them."""
        few = 0 < len(board.nodes) <= FEW_NODES
        if self.has_class("-few") != few:
            self.set_class(few, "-few")
            hours = self.query_one(NodeHours)
            hours.beside, hours.display = few, few
        if few:
            hours = self.query_one(NodeHours)
            hours.node = hours.node or board.nodes[0].name

    def arrive(self) -> None:
        """Keys go to the nodes."""
        self.query_one(NodeRows).focus()

    # -- room --------------------------------------------------------------------------------------

    def _ask_room(self) -> None:
        """Ask for the room of all queues, when the site has changed."""
        if self.board is not None and self.quarry.client is not None and self.board.version != self._asked:
            self._asked = self.board.version
            self._read_room(self.quarry.client, [one.name for one in self.board.site.queues if one.open])

    @work(thread=True, exclusive=True, group="room")
    def _read_room(self, client: "SiteClient", queues: list[str]) -> None:
        try:
            rooms = [room for queue in queues for room in client.room(queue)]
        except QuarryError as fault:
            self.post_message(Say(str(fault), bad=True))
            return
        self.quarry.hand_over(self._show_room, queues, rooms)

    def _show_room(self, queues: list[str], rooms: list[RoomView]) -> None:
        if self.board is not None:
            totals = {queue: sum(node.cores for node in self.board.nodes if queue in node.queues) for queue in queues}
            with_gpus = frozenset(queue for node in self.board.nodes if node.gpus for queue in node.queues)
            self.query_one(RoomGrid).show(rooms, totals, with_gpus)

    def on_room_chosen(self, message: RoomChosen) -> None:
        """Draft a request for this room."""
        self.quarry.draft_room(message.room)

    # -- keys --------------------------------------------------------------------------------------

    def on_cursor_moved(self, message: CursorMoved) -> None:
        """Marked traits dim the nodes without them."""
        self.query_one(NodeRows).dim_without(frozenset(self.query_one(TraitRows).marked))

    def on_open_node(self, message: OpenNode) -> None:
        """The hours of a node in place of the list."""
        if self.board is not None:
            hours = self.query_one(NodeHours)
            hours.show(self.board, message.node)
            hours.display, self.query_one(NodeRows).display = True, hours.beside
            hours.focus()
            self.post_message(CursorMoved())

    def action_nodes(self) -> None:
        """Back to the list of nodes."""
        rows = self.query_one(NodeRows)
        hours = self.query_one(NodeHours)
        if self.goes_to(rows):
            self._say("The keys are with the nodes already.")
        hours.display, rows.display = hours.beside, True
        rows.focus()
        self.post_message(CursorMoved())

    def action_search(self) -> None:
        """To the search of software."""
        if not self.query_one("#software-box").display:
            self.post_message(Say("Make the terminal wider than 130 columns to search software here."))
            return
        self.query_one("#search", Input).focus()

    def action_room(self) -> None:
        """To what could start now, or back to the nodes."""
        grid = self.query_one(RoomGrid)
        if self.goes_to(grid):
            self.action_nodes()
            return
        grid.focus()
        self.post_message(CursorMoved())

    def action_side(self, by: int) -> None:
        """From the nodes to what could start now, to the traits, to the software."""
        hours, traits = self.query_one(NodeHours), self.query_one(TraitRows)
        order: list[Widget] = [hours if hours.display and not hours.beside else self.query_one(NodeRows)]
        order.append(self.query_one(RoomGrid))
        order += [traits] if traits.display else []
        order += [self.query_one("#search", Input)] if self.query_one("#software-box").display else []
        at = next((place for place, widget in enumerate(order) if self.goes_to(widget)), 0)
        self.screen.set_focus(order[(at + by) % len(order)])
        self.post_message(CursorMoved())

    def action_open(self) -> None:
        """Nothing under the cursor opens: say what would."""
        self._say("enter opens the hours of a node, drafts what there is room for, and adds a module to the draft.")

    def action_mark(self) -> None:
        """Mark the trait under the cursor."""
        self.query_one(TraitRows).mark()

    def action_fold(self) -> None:
        """Fold nodes that are alike, or unfold them."""
        self.query_one(NodeRows).turn_fold()

    @on(Input.Changed, "#search")
    def _searched(self, event: Input.Changed) -> None:
        if self.board is not None:
            self.query_one(SoftwareRows).show(self.board.site.software, event.value)

    @on(Input.Submitted, "#search")
    def _take_software(self) -> None:
        if chosen := self.query_one(SoftwareRows).chosen():
            self.quarry.draft_module(chosen.name)

    def on_key(self, event: events.Key) -> None:
        """Arrows in the search go through what was found; enter adds it to the draft."""
        rows = self.query_one(SoftwareRows)
        searching = self.goes_to(self.query_one("#search", Input))
        if searching and event.key in ("down", "up"):
            rows.move(rows.cursor + (1 if event.key == "down" else -1))
            event.stop()
        elif self.goes_to(rows) and event.key == "enter":
            self._take_software()
            event.stop()

    # -- words -------------------------------------------------------------------------------------

    def note(self) -> str:
        """Describe what is under the cursor, and what follows from it."""
        if self.board is None:
            return ""
        if self.goes_to(self.query_one(RoomGrid)):
            return self._room_words(self.query_one(RoomGrid).under_cursor())
        rows = self.query_one(SoftwareRows)
        if (self.goes_to(rows) or self.goes_to(self.query_one("#search", Input))) and (one := rows.chosen()):
            programs = f" It gives {', '.join(one.programs)}." if one.programs else ""
            return f"{one.name}: {one.note or 'a module'}.{programs} enter adds it to the draft."
        if self._in_hours:
            return "Solid: runs, to its limit at most. Dashed: expected by the plan. Hatched: no jobs then."
        return self._node_words()

    @staticmethod
    def _room_words(room: RoomView | None) -> str:
        if room is None:
            return "Nothing of this kind could start now for so long; jobs that wait have their places first."
        gpus = f" with {plural(room.gpus, 'GPU')}" if room.gpus else ""
        where = f"{plural(room.cores, 'core')} on {plural(room.nodes, 'node')} of {room.queue}{gpus}"
        how_long = format_duration(room.walltime_s)
        return f"{where} could start this minute for {how_long}, delaying nobody. enter drafts this request."

    def _node_words(self) -> str:
        """Say what runs on the node under the cursor, and when it comes free."""
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
        words = f"{name}: {plural(node.cores, 'core')}, {format_size(node.memory_mib)}"
        words += f", scratch {format_size(node.scratch_mib)}" if node.scratch_mib else ""
        words += f", traits {', '.join(node.traits)}. " if node.traits else ". "
        if shut := shut_words(node, self.board.now_ms, self.quarry.zone):
            words += f"{shut[:1].upper()}{shut[1:]}. "
        if (host := self.board.host(node.name)) is not None:
            words += f"{host_words(host)}. "
        if not node.occupants:
            return words + "Nothing runs there."
        told = []
        for occupant in sorted(node.occupants, key=lambda occupant: occupant.until_ms)[:4]:
            until = clock_time(occupant.until_ms, self.board.now_ms, self.quarry.zone)
            told.append(
                f"{occupant.label} {occupant.name} of {occupant.user} has "
                f"{plural(len(occupant.cores), 'core')} until {until} at most"
            )
        more = len(node.occupants) - len(told)
        return words + "; ".join(told) + (f"; and {more} more." if more else ".")

    def figures(self) -> list[Offer]:
        """The nodes, and the hours of the one under the cursor."""
        hours, entry = self.query_one(NodeHours), self.query_one(NodeRows).entry()
        node = hours.node if hours.display else entry.nodes[0].name if entry and entry.nodes else ""
        return survey_figures(self.board, node, self.quarry.zone)

    @property
    def _in_hours(self) -> bool:
        """True when keys go to a node's hours."""
        hours = self.query_one(NodeHours)
        return hours.display and (self.goes_to(hours) or not hours.beside)

    def acts(self) -> list[Hint]:
        """The acts that can be done here."""
        if self._in_hours:
            return [("back", "back to the nodes"), "figure", "side"]
        if self.goes_to(self.query_one(TraitRows)):
            return ["mark", "side", ("back", "back to the nodes")]
        if self.goes_to(self.query_one(RoomGrid)):
            return [("open", "draft this request"), "side", ("back", "back to the nodes"), "table"]
        found: list[Hint] = [("↑↓", "node", ""), ("open", "its hours"), "fold", ("view", "room now"), "side"]
        found.append(("find", "search software"))
        goes: list[Hint] = [("2", "draft a job", "app.go('draft')"), ("4", "watch jobs", "app.go('watch')")]
        return [*found, *goes, "figure", "table"]

    def tables(self) -> list[Table]:
        """The nodes, and what could start now; first the one that has the keys."""
        if self.board is None:
            return []
        grid = self.query_one(RoomGrid)
        found = [nodes_table(self.board.nodes), room_table(list(grid.rooms.values()))]
        return found[::-1] if self.goes_to(grid) else found
