"""What the site says of a draft: request, placement, start, cost, checks."""

from dataclasses import dataclass

from textual.message import Message

from lazy_quarry.app.pen import Pen, wrap
from lazy_quarry.app.widgets.drawn import Rows
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.units import clock_time, format_core_hours, format_duration, format_size, plural
from lazy_quarry.views import DraftReport, PlacedNode, Rung

RANKS = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
SHOWN_NODES = 6


@dataclass
class CheckChosen(Message):
    """Go to the line of a check."""

    diagnostic: Diagnostic


@dataclass(frozen=True, slots=True)
class Line:
    """A drawn line: its pieces (text, colour, bold) and the check it stands for, if any."""

    pieces: tuple[tuple[str, str, bool], ...]
    check: Diagnostic | None = None


class ReportRows(Rows):
    """The right side of Draft."""

    DEFAULT_CSS = "ReportRows { width: 76; height: 1fr; border-left: solid $faint; }"

    def __init__(self) -> None:
        super().__init__(id="report")
        self.lines: list[Line] = []
        self.stale = False

    def row_count(self) -> int:
        """All its lines."""
        return len(self.lines)

    def check_under_cursor(self) -> Diagnostic | None:
        """The check that the cursor is on."""
        return self.lines[self.cursor].check if self.cursor < len(self.lines) else None

    def show(self, report: DraftReport) -> None:
        """Draw a report anew."""
        self.stale = False
        lines: list[Line] = []

        def put(*pieces: tuple[str, str] | tuple[str, str, bool], check: Diagnostic | None = None) -> None:
            full = tuple((piece[0], piece[1], len(piece) > 2 and bool(piece[2])) for piece in pieces)
            lines.append(Line(full, check))

        put((" REQUEST", "ink", True))
        if report.cores:
            self._request(report, put)
        else:
            put(("   the request cannot be made out yet; see the checks", "dim"))
        put()
        put((" PLACEMENT", "ink", True), ("   a character a core; each rank its own sign", "dim"))
        self._placement(report, put)
        put()
        put((" START", "ink", True), ("       if it asked for      it would start", "dim"))
        longest = max((rung.start_ms - report.now_ms for rung in report.ladder if rung.start_ms), default=0)
        for rung in report.ladder:
            self._rung(rung, report.now_ms, longest, put)
        put()
        put((" COST", "ink", True))
        self._cost(report, put)
        put()
        counts = {severity: sum(one.severity is severity for one in report.diagnostics) for severity in Severity}
        told = ", ".join(f"{count} {severity.words}" for severity, count in counts.items() if count)
        put((" CHECKS", "ink", True), (f"   {told or 'nothing to say'}", "dim" if told else "moss"))
        for one in report.diagnostics:
            self._check(one, put)
        self.lines = lines
        self.refit()

    def _request(self, report: DraftReport, put) -> None:  # type: ignore[no-untyped-def]
        each = -(-report.ranks // max(1, report.nodes))
        rows = (
            ("nodes", f"{report.nodes}", "kept for itself" if report.whole_nodes else "shared with others"),
            ("ranks", f"{report.ranks}", f"{each} on each node" if report.nodes > 1 else "all on one node"),
            ("threads", f"{report.threads}", f"{plural(report.cores, 'core')} in all"),
            (
                "memory",
                format_size(report.memory_mib),
                f"{format_size(report.memory_mib / max(1, report.nodes))} on each node",
            ),
            ("walltime", format_duration(report.walltime_s), f"in queue {report.queue}"),
            ("account", report.account, _left(report)),
        )
        for name, value, follows in rows:
            put((f"   {name:<10}", "dim"), (f"{value:<16}", "ink"), (follows, "dim"))

    def _placement(self, report: DraftReport, put) -> None:  # type: ignore[no-untyped-def]
        if not report.placement:
            put(("   no place", "dim"))
        rank = 0
        for node in report.placement[:SHOWN_NODES]:
            text = _cores(node, report.threads, rank)
            words = f"  ranks {rank}–{rank + node.ranks - 1}" if node.ranks > 1 else f"  rank {rank}"
            put((f"   {node.node:<7}", "ink"), *text, (words, "dim"))
            rank += node.ranks
        more = len(report.placement) - SHOWN_NODES
        if more > 0:
            put((f"   and {plural(more, 'more node')} of the same kind", "dim"))

    def _rung(self, rung: Rung, now_ms: int, longest_ms: int, put) -> None:  # type: ignore[no-untyped-def]
        mark = " ▸ " if rung.asked else "   "
        head = ((f"           {mark}", "ochre"), (f"{format_duration(rung.walltime_s):<17}", "ink", rung.asked))
        if rung.start_ms is None:
            put(*head, (rung.refused, "rust"))
        elif rung.start_ms <= now_ms:
            put(*head, ("now", "moss"))
        else:
            wait = rung.start_ms - now_ms
            bar = "▊" * max(1, round(18 * wait / max(1, longest_ms)))
            when = clock_time(rung.start_ms, now_ms, self.quarry.zone)
            put(*head, (bar, "river"), (f" {when}, in {format_duration(wait / 1000)}", "ink" if rung.asked else "dim"))

    def _cost(self, report: DraftReport, put) -> None:  # type: ignore[no-untyped-def]
        if not report.cores:
            put(("   not known yet", "dim"))
            return
        walltime = format_duration(report.walltime_s)
        most = format_core_hours(report.cost_core_ms)
        put((f"   {plural(report.cores, 'core')} × {walltime} = at most {most} core-hours", "ink"))
        if report.left_core_ms is not None:
            over = report.cost_core_ms > report.left_core_ms
            put((f"   {_left(report)}", "rust" if over else "dim"))

    def _check(self, one: Diagnostic, put) -> None:  # type: ignore[no-untyped-def]
        sign, colour = {
            Severity.ERROR: ("✕", "rust"),
            Severity.WARNING: ("·", "ochre"),
            Severity.HINT: ("·", "river"),
        }[one.severity]
        fix = f"   f9: {one.fix.label}" if one.fix else ""
        width = max(30, self.room - 12)
        told = wrap(one.message, width, 4)
        put((f"   {sign} ", colour, True), (f"{one.line:>4}  ", colour), (told[0], "ink"), check=one)
        for line in told[1:]:
            put((f"           {line}", "ink"), check=one)
        if fix:
            put((f"        {fix}", "ochre"), check=one)

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One of the lines."""
        line = self.lines[row]
        if not (self.has_focus and line.check):
            pen.ground = "ground"
        for text, colour, bold in line.pieces:
            pen.write(text, "dim" if self.stale and colour != "rust" else colour, bold=bold)

    def clicked(self, row: int, column: int) -> None:
        """A check that is clicked is gone to."""
        self.move(row)
        if one := self.lines[row].check:
            self.post_message(CheckChosen(one))


def _left(report: DraftReport) -> str:
    if report.left_core_ms is None:
        return "no limit"
    if report.cost_core_ms > report.left_core_ms:
        more = format_core_hours(report.cost_core_ms - report.left_core_ms)
        return f"{more} more than {report.account} has left"
    return f"{format_core_hours(report.left_core_ms)} core-hours left"


def _cores(node: PlacedNode, threads: int, first_rank: int) -> list[tuple[str, str]]:
    """A node's cores: each rank its own sign, repeated for its threads, in two tones; others' cores faint."""
    own = {core: number for number, core in enumerate(node.own)}
    taken = set(node.taken)
    pieces: list[tuple[str, str]] = []
    for core in range(min(node.cores, 64)):
        if core in own:
            place = own[core] // max(1, threads)
            rank = first_rank + min(place, max(0, node.ranks - 1))
            pieces.append((RANKS[rank % len(RANKS)], "ochre" if rank % 2 == 0 else "moss"))
        else:
            pieces.append(("▪" if core in taken else "·", "faint"))
    return pieces
