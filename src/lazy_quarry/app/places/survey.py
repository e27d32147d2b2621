"""Survey: what is there, what is free, what may I use."""

from dataclasses import dataclass

from textual.containers import Horizontal

from lazy_quarry.app.messages import CursorMoved
from lazy_quarry.app.pen import Pen, bar
from lazy_quarry.app.places.place import Key, Place
from lazy_quarry.app.widgets.drawn import Rows
from lazy_quarry.core.site import Queue
from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration, format_size, plural
from lazy_quarry.views import Board, NodeView

OWNERS = {"mine": "ochre", "accounts": "moss", "others": "stone"}


@dataclass(frozen=True, slots=True)
class Entry:
    """A row of the list: a queue's heading, or nodes that are alike and alike in use."""

    queue: Queue | None
    nodes: tuple[NodeView, ...] = ()


def entries(board: Board) -> list[Entry]:
    """Queues with their nodes; idle or closed nodes that are alike stand in one row."""
    rows: list[Entry] = []
    shown: set[str] = set()
    for queue in board.queues:
        rows.append(Entry(queue))
        group: list[NodeView] = []
        for node in (node for node in board.nodes if queue.name in node.queues and node.name not in shown):
            if group and _alike(group[-1], node):
                group.append(node)
                continue
            if group:
                rows.append(Entry(None, tuple(group)))
            group = [node]
        if group:
            rows.append(Entry(None, tuple(group)))
        shown |= {node.name for node in board.nodes if queue.name in node.queues}
    return rows


def _alike(one: NodeView, other: NodeView) -> bool:
    same = (one.cores, one.memory_mib, one.gpus, one.traits, one.closed)
    if same != (other.cores, other.memory_mib, other.gpus, other.traits, other.closed):
        return False
    return [(share.job, len(share.cores)) for share in one.shares] == [
        (share.job, len(share.cores)) for share in other.shares
    ]


class NodeRows(Rows):
    """The nodes by queue, each with its cores in the strata's colours."""

    DEFAULT_CSS = "NodeRows { width: 2fr; height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="nodes")
        self.board: Board | None = None
        self.rows: list[Entry] = []

    def show(self, board: Board) -> None:
        """New figures; the cursor stays on the node it was on."""
        under = self.entry()
        self.board, self.rows = board, entries(board)
        if under is not None:
            for number, row in enumerate(self.rows):
                named = {node.name for node in row.nodes}
                if (row.queue and row.queue == under.queue) or (under.nodes and under.nodes[0].name in named):
                    self.cursor = number
                    break
        self.refit()

    def row_count(self) -> int:
        """Headings and nodes."""
        return len(self.rows)

    def entry(self) -> Entry | None:
        """What the cursor is on."""
        return self.rows[self.cursor] if self.cursor < len(self.rows) else None

    def cursor_changed(self) -> None:
        """Another node."""
        self.post_message(CursorMoved())

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
        free = sum(node.cores - node.cores_used for node in nodes if not node.closed)
        waiting = sum(1 for job in self.board.jobs if job.phase == "waiting" and queue.name in job.queue.split(", "))
        pen.write(f" {queue.name.upper()}", bold=True)
        limit = f"at most {format_duration(queue.walltime_limit_s)}" if queue.walltime_limit_s else "no walltime limit"
        pen.write(f"   {free:,} of {total:,} cores free   {waiting} waiting   {limit}", "dim")
        pen.write(f", {format_duration(queue.walltime_default_s)} if not said", "dim")
        if not queue.open:
            pen.write("   closed", "rust")
        elif queue.note and self.room - pen.at > len(queue.note) + 4:
            pen.write(f"   {queue.note}", "dim")

    def _draw_nodes(self, nodes: tuple[NodeView, ...], pen: Pen, current: bool) -> None:
        first = nodes[0]
        mine = any(share.owner == "mine" for share in first.shares)
        pen.write(" ▪ " if mine else "   ", "ochre")
        pen.cell(fold_names([node.name for node in nodes]), 12, "ink", bold=current)
        width = min(32, max(12, self.room - 62))
        parts = [
            (float(sum(len(share.cores) for share in first.shares if share.owner == owner)), "█", colour)
            for owner, colour in OWNERS.items()
        ]
        rest = float(first.cores - first.cores_used)
        parts.append((rest, "▚", "rust") if first.closed else (rest, "░", "faint"))
        bar(pen, parts, width, first.cores)
        free = 0 if first.closed else first.cores - first.cores_used
        pen.cell(f"{free}", 5, "ink" if free else "dim", right=True).write(f" of {first.cores:<4}", "dim")
        pen.cell(format_size(first.memory_mib - first.memory_used_mib), 9, "dim", right=True).write(" free", "dim")
        if first.gpus:
            pen.write(f"   {first.gpus - first.gpus_used} of {plural(first.gpus, 'GPU')}", "dim")
        if first.closed:
            pen.write("   ✕ closed", "rust")
        elif len(nodes) > 1:
            pen.write(f"   each of {len(nodes)}", "dim")
        else:
            names = ", ".join(dict.fromkeys(share.name for share in first.shares))
            room = self.room - pen.at - 4
            if names and room > 6:
                pen.write("   ").cell(names, room, "dim")


class MayUse(Rows):
    """What the person may charge, ask for and load."""

    has_cursor = False
    DEFAULT_CSS = "MayUse { width: 1fr; height: 1fr; padding-left: 1; }"

    def __init__(self) -> None:
        super().__init__(id="may-use")
        self.lines: list[list[tuple[str, str, bool]]] = []

    def show(self, board: Board) -> None:
        """New figures."""
        lines: list[list[tuple[str, str, bool]]] = [[(" MAY CHARGE", "ink", True)]]
        by_name = {line.account: line for line in board.accounts}
        for name in board.my_accounts:
            line = by_name.get(name)
            left = line.left_core_ms if line else None
            words = "no limit" if left is None else f"{format_core_hours(left)} core-hours left"
            lines.append([(f"   {name:<14}", "ink", False), (words, "dim", False)])
        lines += [[], [(" TIERS", "ink", True)]]
        for tier in board.tiers:
            if not tier.users or board.user in tier.users:
                charge = f"×{tier.charge_permille / 1000:g} charge"
                lines.append([(f"   {tier.name:<14}", "ink", False), (f"{charge:<12} {tier.note}", "dim", False)])
        if board.windows:
            lines += [[], [(" AHEAD", "ink", True)]]
            for window in board.windows:
                begins = clock_time(window.begins_ms, board.now_ms, self.quarry.zone)
                ends = clock_time(window.ends_ms, board.now_ms, self.quarry.zone)
                lines.append([(f"   {begins} – {ends}", "river", False)])
                lines.append([(f"   {window.reason}", "ink", False)])
                lines.append([(f"   no jobs then on {fold_names(window.nodes)}", "dim", False)])
        traits = sorted({trait for node in board.nodes for trait in node.traits})
        if traits:
            lines += [[], [(" TRAITS", "ink", True), ("         nodes   cores    free now", "dim", False)]]
            for trait in traits:
                having = [node for node in board.nodes if trait in node.traits]
                free = sum(node.cores - node.cores_used for node in having if not node.closed)
                cores = sum(node.cores for node in having)
                lines.append(
                    [(f"   {trait:<14}", "ink", False), (f"{len(having):>4} {cores:>7,} {free:>11,}", "dim", False)]
                )
        if board.modules:
            lines += [[], [(" SOFTWARE", "ink", True)]]
            for at in range(0, len(board.modules), 4):
                lines.append([("   " + "  ".join(board.modules[at : at + 4]), "dim", False)])
        self.lines = lines
        self.refit()

    def row_count(self) -> int:
        """All of them."""
        return len(self.lines)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One of the lines."""
        for text, colour, bold in self.lines[row]:
            pen.write(text, colour, bold=bold)


class SurveyPlace(Place):
    """Nodes on the left, what may be used on the right."""

    DEFAULT_CSS = """
    SurveyPlace { padding-top: 1; }
    SurveyPlace.-narrow #both { layout: vertical; }
    SurveyPlace.-narrow NodeRows { width: 1fr; height: 3fr; }
    SurveyPlace.-narrow MayUse { width: 1fr; height: 1fr; }
    """

    def compose(self):  # type: ignore[no-untyped-def]
        """Both sides."""
        with Horizontal(id="both"):
            yield NodeRows()
            yield MayUse()

    def show(self, board: Board) -> None:
        """New figures on both sides."""
        super().show(board)
        self.query_one(NodeRows).show(board)
        self.query_one(MayUse).show(board)

    def arrive(self) -> None:
        """Keys go to the nodes."""
        self.query_one(NodeRows).focus()

    def note(self) -> str:
        """What runs on the node under the cursor, and when it comes free."""
        entry = self.query_one(NodeRows).entry()
        if entry is None or self.board is None:
            return ""
        if entry.queue is not None:
            users = f" Only {', '.join(entry.queue.users)} may use it." if entry.queue.users else ""
            return f"Queue {entry.queue.name}: {entry.queue.note or 'for every job'}.{users}"
        node = entry.nodes[0]
        name = fold_names([each.name for each in entry.nodes])
        words = f"{name}: {node.cores} cores, {format_size(node.memory_mib)}"
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
        return [("↑↓", "node", ""), ("2", "draft a job", "app.go('draft')"), ("4", "watch jobs", "app.go('watch')")]
