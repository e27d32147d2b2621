"""The site's report on a draft: placement, start, cost, checks."""

from dataclasses import dataclass

from msgspec import Struct
from textual import events
from textual.message import Message

from lazy_quarry.app.draft.header_dials import HeaderEdit
from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.cells import Pen, Piece, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.app.shared.messages import Say
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.units import (
    clock_time,
    exact_duration,
    format_core_hours,
    format_duration,
    parse_duration,
    plural,
)
from lazy_quarry.errors import BadValue
from lazy_quarry.views.draft_view import DraftReport, FinishRung, PlacedNode, Rung
from lazy_quarry.wording.book_words import amounts_of, cost_words
from lazy_quarry.wording.sentences import range_words

RANKS = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
SHOWN_NODES = 8
SIGNS = {Severity.ERROR: ("✕", "rust"), Severity.WARNING: ("·", "ochre"), Severity.HINT: ("·", "river")}
BAR = 20


@dataclass
class CheckChosen(Message):
    """Go to the line of a check."""

    diagnostic: Diagnostic


@dataclass
class RungChosen(Message):
    """Ask for what stands on a rung of the ladder."""

    change: HeaderEdit


class ReportLine(Struct, frozen=True):
    """A drawn line: its pieces (text, colour, bold), and what it stands for, if anything."""

    pieces: tuple[tuple[str, str, bool], ...]
    check: Diagnostic | None = None
    change: HeaderEdit = ()
    opens: bool = False

    @property
    def stands_for_something(self) -> bool:
        """True for lines that the cursor may be on."""
        return self.check is not None or bool(self.change) or self.opens


class ReportRows(Rows):
    """The lower right side of Draft."""

    DEFAULT_CSS = "ReportRows { width: 1fr; height: 1fr; padding-top: 1; }"

    def __init__(self) -> None:
        super().__init__(id="report")
        self.lines: list[ReportLine] = []
        self.report: DraftReport | None = None
        self.tried: list[tuple[Piece, ...]] = []
        self.tried_changes: list[HeaderEdit] = []
        self.stale = False
        self.resting = False
        """True when the keys came here only to let numbers go to places; a move of the cursor ends it."""
        self.typing: str | None = None
        """Text typed so far of another value for the row under the cursor."""
        self.open = False
        """True while all nodes of a large placement are drawn."""

    def row_count(self) -> int:
        """All its lines."""
        return len(self.lines)

    def under_cursor(self) -> ReportLine | None:
        """The line that the cursor is on."""
        return self.lines[self.cursor] if self.cursor < len(self.lines) else None

    def check_under_cursor(self) -> Diagnostic | None:
        """The check that the cursor is on."""
        line = self.under_cursor()
        return line.check if line else None

    def move(self, to: int) -> None:
        """To the next line that stands for something, in the direction of the move."""
        step = 1 if to >= self.cursor else -1
        while 0 <= to < len(self.lines) and not self.lines[to].stands_for_something:
            to += step
        if 0 <= to < len(self.lines):
            super().move(to)
        elif step < 0:
            self.scroll_to(y=0, animate=False)

    def begin(self) -> None:
        """The cursor to the first line, for another script."""
        self.cursor = 0
        self.scroll_to(y=0, animate=False)

    def rest(self) -> None:
        """Have the keys, but leave numbers to the places until the cursor is moved."""
        self.focus()
        self.resting = True

    def on_blur(self) -> None:
        """Leave what was being typed."""
        self.typing, self.resting = None, False
        self.refresh()

    def _typed_key(self) -> str:
        """The header key that a number typed in the row under the cursor is for; empty for none."""
        line = self.under_cursor()
        key = line.change[0][0] if line is not None and line.change else ""
        return key if key in ("walltime", "nodes", "array.at-once") else ""

    def on_key(self, event: events.Key) -> None:
        """Type another value in START; all else as in every list."""
        if self.typing is None:
            if self.resting or not self._typed_key() or not (event.character or "").isdecimal():
                self.resting = self.resting and event.key not in ("up", "down", "pageup", "pagedown", "home", "end")
                super().on_key(event)
                return
            self.typing = event.character or ""
        elif event.key == "escape":
            self.typing = None
        elif event.key == "enter":
            self._set_typed()
        elif event.key == "backspace":
            self.typing = self.typing[:-1]
        elif event.key in ("up", "down"):
            self.typing = None
            super().on_key(event)
            return
        elif event.character and event.is_printable:
            self.typing += event.character
        else:
            super().on_key(event)
            return
        event.stop()
        event.prevent_default()
        self.refresh()

    def _set_typed(self) -> None:
        """Ask for what was typed; what is no such value is said."""
        key, text = self._typed_key(), (self.typing or "").strip()
        try:
            value: object = exact_duration(parse_duration(text)) if key == "walltime" else _whole(text)
        except BadValue as fault:
            self.post_message(Say(f"{key}: {fault}", bad=True))
            return
        self.typing = None
        self.post_message(RungChosen(((key, value),)))

    def first(self) -> None:
        """The cursor to the first check, else the first line that stands for something."""
        places = [number for number, line in enumerate(self.lines) if line.stands_for_something]
        checks = [number for number in places if self.lines[number].check]
        if places and (self.cursor not in places):
            super().move((checks or places)[0])

    # -- lines -------------------------------------------------------------------------------------

    def put(
        self, *pieces: Piece, check: Diagnostic | None = None, change: HeaderEdit = (), opens: bool = False
    ) -> None:
        """Add a line."""
        full = tuple((piece[0], piece[1], len(piece) > 2 and bool(piece[2])) for piece in pieces)
        self.lines.append(ReportLine(full, check, change, opens))

    def grow_stale(self) -> None:
        """The draft has changed, so what is shown may be wrong until the next report."""
        self.stale = True

    def show(self, report: DraftReport) -> None:
        """Draw a report anew; what must change comes before anything else."""
        self.report, self.stale = report, False
        under = self.under_cursor()
        self.lines = []
        if self.tried:
            self._tried()
        if report.refused:
            self._checks(report)
        self._placement(report)
        self._start(report)
        self._cost(report)
        if not report.refused:
            self._checks(report)
        same = [number for number, line in enumerate(self.lines) if under and _same(line, under)]
        if same:
            self.cursor = same[0]
        self.refit()

    def show_trial(self, tried: list[tuple[Piece, ...]], changes: list[HeaderEdit]) -> None:
        """Show what has become of a trial, and what it advises to ask for."""
        if tried != self.tried:
            self.tried, self.tried_changes = tried, changes
            self.redraw()

    def redraw(self) -> None:
        """Draw what is known anew."""
        if self.report is not None:
            self.show(self.report)

    def _tried(self) -> None:
        for pieces, change in zip(self.tried, self.tried_changes, strict=True):
            self.put(*pieces, change=change)
        self.put()

    def _placement(self, report: DraftReport) -> None:
        self.put((" PLACEMENT", "ink", True), (f"   {self._placement_words(report)}", "dim"))
        if report.instead:
            words = f"as it stands it can never run; the nearest that can: {', '.join(report.instead)}"
            for line in wrap(words, max(20, self.room - 6), 3):
                self.put((f"   {line}", "ochre"))
        if not report.place.nodes:
            words = "   no place" if report.shape.cores else "   the request cannot be read yet; see the checks"
            self.put((words, "dim"))
        ranks = []
        rank = 0
        for node in report.place.nodes:
            ranks.append(rank)
            rank += node.ranks
        shown = list(zip(report.place.nodes, ranks, strict=True))
        more = report.place.node_count - min(len(shown), SHOWN_NODES)
        if more > 0 and not self.open:
            shown = shown[:SHOWN_NODES]
        width = max((len(node.node) for node, _ in shown), default=6) + 1
        for node, first in shown:
            words = f"  ranks {first}–{first + node.ranks - 1}" if node.ranks > 1 else f"  rank {first}"
            self.put((f"   {node.node:<{width}}", "ink"), *_cores(node, report.shape.threads, first), (words, "dim"))
        if more > 0:
            beyond = report.place.node_count - len(report.place.nodes)
            words = f"   and {plural(more, 'more node')}; enter draws them"
            if self.open:
                words = "   enter folds them"
                if beyond > 0:
                    words = f"   and {plural(beyond, 'more node')}, {plural(report.shape.ranks - rank, 'rank')}; enter folds them"
            self.put((words, "ochre"), opens=True)
        self.put()

    @staticmethod
    def _placement_words(report: DraftReport) -> str:
        if not report.place.nodes:
            return ""
        where = (
            f"{plural(report.shape.ranks, 'rank')} on {plural(report.place.node_count, 'node')} of {report.place.queue}"
        )
        return f"{where}; a sign a core, one for each rank"

    def _start(self, report: DraftReport) -> None:
        self.put((" START", "ink", True), ("    if it asked for        by the plan it starts; enter sets it", "dim"))
        rungs = [*report.starts.ladder, *report.starts.fewer]
        longest = max((rung.start_ms - report.now_ms for rung in rungs if rung.start_ms), default=0)
        for rung in report.starts.ladder:
            self._rung(rung, report, longest)
        for rung in report.starts.fewer:
            self._rung(rung, report, longest)
        ranged = range_words(report.range, report.place.start_ms, report.now_ms, self.quarry.zone)
        told = f"As it is, it starts {ranged}." if ranged else ""
        if report.place.obstacle:
            told = f"As it is, it would not start: {report.place.obstacle}."
        for line in wrap(told, max(30, self.room - 12), 4) if told else ():
            self.put((f"         {line}", "rust" if report.place.obstacle else "ink"))
        if report.starts.finish:
            self.put((f"          at once, of {plural(report.shape.tasks, 'task')}    all would be done by", "dim"))
            latest = max((one.last_ms - report.now_ms for one in report.starts.finish if one.last_ms), default=0)
            for each in report.starts.finish:
                self._through(each, report, latest)
        self.put()

    def _rung(self, rung: Rung, report: DraftReport, longest_ms: int) -> None:
        mark = " ▸ " if rung.asked else "   "
        words = format_duration(rung.walltime_s)
        change: HeaderEdit = (("walltime", exact_duration(rung.walltime_s)),)
        if rung.nodes:
            words = plural(rung.nodes, "node")
            change = (("nodes", rung.nodes),)
            if rung.ranks != report.shape.ranks:
                words += f", {plural(rung.ranks, 'rank')}"
                change = (*change, ("ranks-per-node", None), ("ranks", rung.ranks))
        head: tuple[Piece, ...] = ((f"         {mark}", "ochre"), (f"{words:<19}", "ink", rung.asked))
        if rung.asked:
            change = ()
        now = report.now_ms
        if rung.start_ms is None:
            self.put(*head, (rung.refused, "rust"))
        elif rung.start_ms <= now:
            self.put(*head, ("now", "moss"), change=change)
        else:
            wait = rung.start_ms - now
            bar = "▊" * max(1, round(self._bar() * wait / max(1, longest_ms)))
            when = f" {clock_time(rung.start_ms, now, self.quarry.zone)}, in {format_duration(wait / 1000)}"
            self.put(*head, (bar, "river"), (when, "ink" if rung.asked else "dim"), change=change)

    def _bar(self) -> int:
        """The longest bar that leaves room for the words beside it."""
        return BAR if self.room >= 70 else 4

    def _through(self, one: FinishRung, report: DraftReport, latest_ms: int) -> None:
        mark = " ▸ " if one.asked else "   "
        words = "as many as fit" if one.at_once is None else f"{one.at_once:,} at once"
        head: tuple[Piece, ...] = ((f"         {mark}", "ochre"), (f"{words:<19}", "ink", one.asked))
        change: HeaderEdit = () if one.asked else (("array.at-once", one.at_once),)
        if one.last_ms is None:
            self.put(*head, ("never", "rust"))
            return
        lasts = one.last_ms - report.now_ms
        bar = "▊" * max(1, round(self._bar() * lasts / max(1, latest_ms)))
        about = "about " if one.estimated else ""
        when = f" {about}{clock_time(one.last_ms, report.now_ms, self.quarry.zone)}, in {format_duration(lasts / 1000)}"
        self.put(*head, (bar, "river"), (when, "ink" if one.asked else "dim"), change=change)

    def _cost(self, report: DraftReport) -> None:
        self.put((" COST", "ink", True))
        if not report.shape.cores:
            self.put(("   not known yet", "dim"))
        else:
            self.put((f"   {cost_words(report)}", "ink"))
            if report.cost.left_core_ms is not None:
                over = report.cost.most_core_ms > report.cost.left_core_ms
                self.put((f"   {_left(report)}", "rust" if over else "dim"))
        self.put()

    def _checks(self, report: DraftReport) -> None:
        counts = {severity: sum(one.severity is severity for one in report.diagnostics) for severity in Severity}
        told = ", ".join(severity.counted(count) for severity, count in counts.items() if count)
        self.put((" CHECKS", "ink", True), (f"   {told or 'nothing to say'}", "dim" if told else "moss"))
        for one in report.diagnostics:
            self._check(one)
        if report.refused:
            self.put()

    def _check(self, one: Diagnostic) -> None:
        sign, colour = SIGNS[one.severity]
        width = max(30, self.room - 12)
        told = wrap(one.message, width, 4)
        self.put((f"   {sign} ", colour, True), (f"{one.line:>4}  ", colour), (told[0], "ink"), check=one)
        for line in told[1:]:
            self.put((f"           {line}", "ink"))
        if one.fix:
            self.put((f"           {key_of('fix')}: {one.fix.label}", "ochre"))

    def draw_row(self, row: int, pen: Pen, current: bool) -> None:
        """One of the lines."""
        line = self.lines[row]
        if not (self.has_focus and line.stands_for_something):
            pen.ground = "ground"
        if current and self.has_focus and self.typing is not None:
            pen.write(f"            {self.typing}▏", "ochre", bold=True).write("   enter sets it, esc leaves it", "dim")
            return
        for text, colour, bold in line.pieces:
            pen.write(text, "dim" if self.stale and colour in ("ink", "river", "moss") else colour, bold=bold)

    def choose(self) -> None:
        """Do what the line under the cursor stands for."""
        line = self.under_cursor()
        if line is None:
            return
        if line.check:
            self.post_message(CheckChosen(line.check))
        elif line.change:
            self.post_message(RungChosen(line.change))
        elif line.opens:
            self.open = not self.open
            self.redraw()

    def on_focus(self) -> None:
        """The cursor shows."""
        self.first()
        self.refresh()

    def clicked(self, row: int, column: int) -> None:
        """Do what is clicked."""
        if self.lines[row].stands_for_something:
            self.move(row)
            self.choose()


def _same(one: ReportLine, other: ReportLine) -> bool:
    if one.check and other.check:
        return (one.check.code, one.check.message) == (other.check.code, other.check.message)
    return bool(one.change) and one.change == other.change


def _whole(text: str) -> int:
    if not text.isdecimal() or not int(text):
        raise BadValue(f'"{text}" is no whole number above 0')
    return int(text)


def _left(report: DraftReport) -> str:
    if report.cost.left_core_ms is None:
        return "no limit"
    if report.cost.most_core_ms > report.cost.left_core_ms:
        more = format_core_hours(report.cost.most_core_ms - report.cost.left_core_ms)
        return f"{more} more than {report.cost.account} has left"
    return f"{report.cost.account} has {amounts_of(report)[1]} left"


def _cores(node: PlacedNode, threads: int, first_rank: int) -> list[tuple[str, str]]:
    """A node's cores: each rank its own sign, repeated for its threads, in two tones; others' cores faint."""
    own = {core: number for number, core in enumerate(node.own)}
    taken = set(node.taken)
    used = node.ranks * max(1, threads)
    pieces: list[tuple[str, str]] = []
    for core in range(min(node.cores, 64)):
        if core in own and own[core] < used:
            rank = first_rank + own[core] // max(1, threads)
            pieces.append((RANKS[rank % len(RANKS)], "ochre" if rank % 2 == 0 else "moss"))
        elif core in own:
            pieces.append(("-", "ochre"))
        else:
            pieces.append(("▪" if core in taken else "·", "faint"))
    return pieces
