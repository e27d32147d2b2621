"""The person's accounts and limits, closures ahead, places for files."""

from lazy_quarry.app.shared.cells import Pen, bar, wrap
from lazy_quarry.app.shared.drawing import Rows
from lazy_quarry.core.units import clock_time, fold_names, format_core_hours, format_duration
from lazy_quarry.views.board import Board
from lazy_quarry.wording.sentences import site_words

Piece = tuple[str, str, bool]


MOST_PATH = 24


def _shown(path: str) -> str:
    """A path with its beginning left out where it is long."""
    return path if len(path) <= MOST_PATH else f"…{path[1 - MOST_PATH :]}"


class Uses(Rows):
    """The person's accounts and limits, closures ahead, places for files."""

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
        for name in board.person.accounts:
            line = by_name.get(name)
            if line is None or line.budget_core_ms is None:
                self.lines.append([(f"   {name:<14}", "ink", False), ("no limit", "dim", False)])
                continue
            if line.adding_up:
                self.lines.append([(f"   {name:<14}", "ink", False), ("being added up …", "dim", False)])
                continue
            left = line.left_core_ms or 0
            self.bars[len(self.lines)] = (max(0, line.budget_core_ms - left), line.budget_core_ms)
            words = f"{format_core_hours(left)} of {format_core_hours(line.budget_core_ms)} left"
            self.lines.append([(f"   {name:<14}", "ink", False), (words, "dim", False)])
        mine = [job for job in board.jobs if job.user == board.person.user]
        running = sum(job.phase == "running" and not job.rows for job in mine)
        waiting = sum(job.phase in ("waiting", "held", "blocked") for job in mine if job.parent is None)
        if not any(bound.kind == "user" for bound in board.person.limits):
            self.lines.append([(f"   yours now: {running} running, {waiting} waiting", "dim", False)])
        for bound in board.person.limits:
            full = bound.in_use >= bound.most
            whose = "you" if bound.kind == "user" else f"{bound.kind} {bound.name}"
            words = f"{bound.in_use:,} of {bound.most:,} {bound.measure}"
            self.lines.append([(f"   {whose:<17}", "ink", False), (words, "rust" if full else "dim", False)])
        for tier in board.site.tiers:
            if not tier.users or board.person.user in tier.users:
                charge = f"charge ×{tier.charge_permille / 1000:g}"
                limit = f", at most {format_duration(tier.walltime_limit_s)}" if tier.walltime_limit_s else ""
                words = f"{charge}{limit}" + (f", {tier.note}" if tier.note else "")
                self.lines.append([(f"   tier {tier.name:<9}", "ink", False), (words, "dim", False)])
        self._ahead(board)
        widest = max((len(_shown(area.path)) for area in board.site.storage), default=0)
        if board.site.storage:
            heading = f"{'':<{max(0, widest - 4)}}seen from   kept   heavy work"
            self.lines += [[], [(" STORAGE", "ink", True), (heading, "dim", False)]]
        for area in board.site.storage:
            seen = "every node" if area.shared else "one node"
            kept, heavy = "yes" if area.kept else "no", "yes" if area.heavy else "no"
            colour = "dim" if area.heavy else "ink"
            path = f"   {_shown(area.path):<{widest}} "
            row: list[Piece] = [(path, "ink", False), (f"{seen:<12}{kept:<7}", "dim", False)]
            self.lines.append([*row, (f"{heavy:<5}", colour, False), (area.note, "dim", False)])
        for node in board.site.login_nodes:
            self.lines.append(
                [(f"   {node.name:<9}", "ink", False), ("for logging in; no job runs there", "dim", False)]
            )
        self.lines.append([])
        for words in wrap(site_words(board.site, board.now_ms, self.quarry.zone), max(20, self.room - 4), 2):
            self.lines.append([(f"   {words}", "dim", False)])
        self.refit()

    def _ahead(self, board: Board) -> None:
        if board.site.windows:
            self.lines += [[], [(" AHEAD", "ink", True)]]
        for window in board.site.windows:
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
