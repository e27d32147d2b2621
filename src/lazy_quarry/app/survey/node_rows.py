"""The nodes of a site by queue, each with its cores in the colours of the strata; nodes that are alike share a row."""

from msgspec import Struct
from textual import events

from lazy_quarry.app.shared.cells import QUIET_SIGN, Pen, bar
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import OpenNode
from lazy_quarry.app.shared.theme import OWNERS
from lazy_quarry.core.site import Queue
from lazy_quarry.core.units import clock_time, fold_names, format_duration, format_size, plural
from lazy_quarry.site.node_use import alike
from lazy_quarry.views.board import Board, NodeView
from lazy_quarry.wording.sentences import LEAST_BUSY, closed_since, shut_words


class NodeEntry(Struct, frozen=True):
    """A row of the list: a queue's heading, or nodes that are alike and alike in use."""

    queue: Queue | None
    nodes: tuple[NodeView, ...] = ()


def entries(board: Board, fold: bool = True) -> list[NodeEntry]:
    """Queues with their nodes; idle or closed nodes that are alike stand in one row."""
    rows: list[NodeEntry] = []
    shown: set[str] = set()
    for queue in board.site.queues:
        rows.append(NodeEntry(queue))
        nodes = [node for node in board.nodes if queue.name in node.queues and node.name not in shown]
        rows += [NodeEntry(None, group) for group in (alike(nodes) if fold else ((node,) for node in nodes))]
        shown |= {node.name for node in nodes}
    return rows


class NodeRows(Rows):
    """The nodes by queue, each with its cores in the strata's colours."""

    DEFAULT_CSS = "NodeRows { width: 1fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="nodes")
        self.board: Board | None = None
        self.rows: list[NodeEntry] = []
        self.fold = True
        """Nodes that are alike, and alike in use, stand in one row."""
        self.wanted: frozenset[str] = frozenset()
        """Traits that are marked; nodes without them are dimmed."""

    def show(self, board: Board) -> None:
        """New figures; the cursor stays on the node it was on."""
        under = self.entry()
        self.board, self.rows = board, entries(board, self.fold)
        if under is not None:
            for number, row in enumerate(self.rows):
                named = {node.name for node in row.nodes}
                if (row.queue and row.queue == under.queue) or (under.nodes and under.nodes[0].name in named):
                    self.cursor = number
                    break
        self.refit()

    def dim_without(self, traits: frozenset[str]) -> None:
        """Dim the nodes that have not all of these traits."""
        if self.wanted != traits:
            self.wanted = traits
            self.refresh()

    def row_count(self) -> int:
        """Headings and nodes."""
        return len(self.rows)

    def entry(self) -> NodeEntry | None:
        """The entry under the cursor."""
        return self.rows[self.cursor] if self.cursor < len(self.rows) else None

    def queue(self) -> str:
        """The queue that the cursor is in."""
        for row in range(min(self.cursor, len(self.rows) - 1), -1, -1):
            if queue := self.rows[row].queue:
                return queue.name
        return ""

    def on_key(self, event: events.Key) -> None:
        """Open a node's hours."""
        entry = self.entry()
        if event.key == "enter" and entry and entry.nodes:
            self.post_message(OpenNode(entry.nodes[0].name))
        else:
            super().on_key(event)
            return
        event.stop()
        event.prevent_default()

    def turn_fold(self) -> None:
        """Nodes that are alike in one row, or each in a row of its own."""
        self.fold = not self.fold
        if self.board is not None:
            self.show(self.board)

    def clicked(self, row: int, column: int) -> None:
        """A click goes there; another one opens it."""
        same = self.has_focus and row == self.cursor
        self.move(row)
        entry = self.entry()
        if same and entry and entry.nodes:
            self.post_message(OpenNode(entry.nodes[0].name))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """A queue or some nodes."""
        entry = self.rows[row]
        if entry.queue is not None:
            self._draw_queue(entry.queue, pen)
        else:
            self._draw_nodes(entry.nodes, pen, current)

    def _draw_queue(self, queue: Queue, pen: Pen) -> None:
        assert self.board is not None
        nodes = [node for node in self.board.nodes if queue.name in node.queues]
        total = sum(node.cores for node in nodes)
        free = sum(node.cores - node.cores_used for node in nodes if not node.shut)
        pen.write(f" {queue.name.upper():<9}", bold=True)
        if not queue.open:
            pen.write(f" closed: {queue.note}", "rust")
            return
        pen.write(f" {free:,} of {plural(total, 'core')} free   ", "dim")
        pen.write(self._waits(queue.name), "river").write("   ")
        limit = f"limit {format_duration(queue.walltime_limit_s)}" if queue.walltime_limit_s else "no walltime limit"
        words = [f"{limit}, default {format_duration(queue.walltime_default_s)}"]
        words += [plural(queue.max_cores, "core") + " a job"] if queue.max_cores else []
        words += [queue.note] if queue.note else []
        pen.cell(", ".join(words), max(0, self.room - pen.at), "dim")

    def _waits(self, queue: str) -> str:
        """Number of jobs that wait there, and the wait from now of one that is placed."""
        assert self.board is not None
        waiting = [job for job in self.board.jobs if job.phase == "waiting" and queue in job.queue.split(", ")]
        if not waiting:
            return "nobody waits"
        waits = sorted(max(0, job.forecast_ms - self.board.now_ms) for job in waiting if job.forecast_ms is not None)
        middle = f", about {format_duration(waits[len(waits) // 2] / 1000, 1)} more" if waits else ""
        return f"{len(waiting)} waiting{middle}"

    def _draw_nodes(self, nodes: tuple[NodeView, ...], pen: Pen, current: bool) -> None:
        assert self.board is not None
        first, person, held = nodes[0], self.board.person, dict.fromkeys(OWNERS, 0.0)
        for occupant in first.occupants:
            held[person.owner(occupant.user, occupant.account)] += len(occupant.cores)
        pen.write(" ▪ " if held["mine"] else "   ", "ochre")
        fits = self.wanted <= set(first.traits)
        pen.cell(fold_names([node.name for node in nodes]), 12, "ink" if fits else "faint", bold=current)
        if not fits:
            pen.write(f"{' ' * 4}has no {' or '.join(sorted(self.wanted - set(first.traits)))}", "faint")
            return
        width = min(32, max(12, self.room - 62))
        parts = [(held[owner], "█", colour) for owner, colour in OWNERS.items()]
        rest = float(first.cores - first.cores_used)
        if first.quiet_since_ms is not None:
            parts = [(amount, QUIET_SIGN, colour) for amount, _, colour in parts]
            parts.append((rest, QUIET_SIGN, "rust"))
        else:
            parts.append((rest, "▚", "rust") if first.closed else (rest, "░", "faint"))
        bar(pen, parts, width, first.cores)
        if first.quiet_since_ms is not None:
            assert self.board is not None
            jobs = f"; {plural(len(first.occupants), 'job')} there" if first.occupants else ""
            pen.cell(
                f"  ✕ {shut_words(first, self.board.now_ms, self.quarry.zone)}{jobs}",
                max(0, self.room - pen.at),
                "rust",
            )
            return
        if first.closed:
            assert self.board is not None
            last = max((occupant.until_ms for occupant in first.occupants), default=0)
            until = clock_time(last, self.board.now_ms, self.quarry.zone) if last else ""
            closed = closed_since(first, self.board.now_ms, self.quarry.zone)
            pen.write(f"  ✕ draining, empty by {until}: " if last else f"  ✕ closed{closed}: ", "rust")
            pen.cell(first.closed, max(0, self.room - pen.at), "dim")
            return
        free = first.cores - first.cores_used
        pen.cell(f"{free}", 5, "ink" if free else "dim", right=True).write(f" of {first.cores:<4}", "dim")
        pen.cell(format_size(first.memory_mib - first.memory_used_mib), 9, "dim", right=True).write(" free", "dim")
        if first.gpus:
            pen.write(f"   {first.gpus - first.gpus_used} of {plural(first.gpus, 'GPU')}", "dim")
        if len(nodes) > 1:
            words, left = f"   {plural(len(nodes), 'node')} alike", max(0, self.room - pen.at)
            pen.write(words if len(words) <= left else f"   {len(nodes)} alike"[:left], "dim")
        else:
            names = ", ".join(dict.fromkeys(occupant.name for occupant in first.occupants))
            busy = self.board.others_on(first) if self.board else 0.0
            if busy >= LEAST_BUSY:
                told = (f"   others keep {busy:.1f} busy", f"   others {busy:.1f}")
                words = next((one for one in told if len(one) <= self.room - pen.at), "")
                pen.write(words, "rust" if first.cores_used + busy > first.cores else "dim")
            room = self.room - pen.at - 4
            if names and room > 6:
                pen.write("   ").cell(names, room, "dim")
