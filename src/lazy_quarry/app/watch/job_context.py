"""Below the lanes of Watch: the nodes that matter to the job under the cursor, or its use over time."""

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.axis import Axis
from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.ended_lines import FEW_NODES, draw_ended, ended_last
from lazy_quarry.app.shared.inside_lines import InsideLines
from lazy_quarry.app.shared.theme import OWNERS
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import clock_time, format_bytes, format_cpu, format_duration, format_size, plural
from lazy_quarry.views.board import Board, NodeView
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import copying_words, counts_words, failed_words, shut_words, spans_words, verdict

LEVELS = " ▁▂▃▄▅▆▇█"
Samples = list[tuple[int, float, int]]


class JobContext(Lines):
    """A few lines about one job, on the same time axis."""

    DEFAULT_CSS = "JobContext { height: 1fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="ground")
        self.board: Board | None = None
        self.view: JobView | None = None
        self.node: NodeView | None = None
        self.axis: Axis | None = None
        self.left = 66
        self.samples: Samples = []
        self.sampled = 0
        """The job whose samples these are."""

    def follow(self, axis: Axis, left: int) -> None:
        """Draw on this axis, which begins at this column."""
        self.axis, self.left = axis, left

    def show(self, board: Board | None, view: JobView | None, node: NodeView | None) -> None:
        """A job, or a node where there is no job."""
        self.board, self.view, self.node = board, view, node
        self.refresh()

    def show_samples(self, job: int, samples: Samples) -> None:
        """Show the measurements of a job."""
        self.sampled, self.samples = job, samples
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """One line of it."""
        view = self.view
        if row == 0:
            pen.write("─" * self.size.width, "faint")
            return
        if self.board is None:
            return
        if view is None:
            if self.node is not None:
                self._draw_of_node(row - 1, self.node, pen)
            return
        if row == 1:
            pen.write(f" {view.name.upper()}", bold=True)
            pen.write(f"   {view.user} · {view.account} · {view.queue} · {view.tier}   ", "dim")
            if view.rows:
                pen.write(plural(sum(count for _, count in view.counts), "task"), "dim")
                return
            shape = f"{plural(view.node_count, 'node')} × {plural(-(-view.ranks // max(1, view.node_count)), 'rank')}"
            pen.write(f"{shape} × {plural(view.threads, 'thread')}, {format_size(view.memory_mib)}", "dim")
        elif (below := row - self._content(view) - 1) >= 0 and self._small:
            draw_ended(below, [one for one in ended_last(self.board) if one.job != view.job], self.board, pen, self)
        elif view.rows:
            self._draw_array(row - 2, view, pen)
        elif view.phase is Phase.RUNNING:
            self._draw_running(row - 2, view, pen)
        elif view.phase.final:
            if row == 2:
                pen.write(f"   {verdict(view)}", self.palette.of_phase(view.phase))
            elif row == 3:
                pen.write(f"   time    {spans_words(view)}" if view.started_ms is not None else "", "dim")
            elif row == 4 and view.started_ms is not None:
                used = f"{format_cpu(view.use.cpu_ms)} of CPU on {plural(view.cores, 'core')}"
                memory = f"{format_size(view.memory_peak_mib)} of {format_size(view.memory_mib)} at most"
                pen.write(f"   used    {used}, {memory}", "dim")
            elif row == 5:
                pen.write(f"   output  {view.output}", "dim")
        else:
            self._draw_waiting(row - 2, view, pen)

    @property
    def _small(self) -> bool:
        return self.board is not None and 0 < len(self.board.nodes) <= FEW_NODES

    def _content(self, view: JobView) -> int:
        """Rows that are about the job itself, the rule and the heading among them."""
        if view.phase is Phase.RUNNING and not view.rows:
            return self.size.height
        return 6 if view.rows or view.phase.final else 3 + max(1, len(view.forecast_nodes))

    # -- an array, a node --------------------------------------------------------------------------

    def _draw_array(self, row: int, view: JobView, pen: Pen) -> None:
        if row == 0:
            tones = {"done": "moss", "running": "ochre", "waiting": "river", "held": "dim", "cancelled": "dim"}
            order = (
                "done",
                "running",
                "failed",
                "overtime",
                "overmemory",
                "lost",
                "skipped",
                "cancelled",
                "held",
                "waiting",
            )
            counts = dict(view.counts)
            parts = [(float(counts[word]), "█", tones.get(word, "rust")) for word in order if counts.get(word)]
            pen.write("   ")
            bar(pen, parts, max(10, self.size.width - 6), sum(amount for amount, _, _ in parts) or 1.0)
        elif row == 1:
            failed = failed_words(view)
            pen.write(f"   {failed or counts_words(view)}", "rust" if failed else "dim")
            pen.write(f"   {key_of('fold')} shows its tasks, 5 what they used", "dim")
        elif view.phase.final and row == 2:
            pen.write(f"   {spans_words(view)}; {format_duration(view.walltime_s)} requested each", "dim")
        elif view.phase.final and row == 3:
            pen.write(f"   output  {view.output}", "dim")
        elif view.phase is Phase.WAITING:
            self._draw_waiting(row - 2, view, pen)

    def _draw_of_node(self, row: int, node: NodeView, pen: Pen) -> None:
        if row == 0:
            pen.write(f" {node.name.upper()}", bold=True)
            memory = f"{format_size(node.memory_mib - node.memory_used_mib)} of {format_size(node.memory_mib)} free"
            gpus = f", {node.gpus - node.gpus_used} of {plural(node.gpus, 'GPU')}" if node.gpus else ""
            words = f"{node.cores - node.cores_used} of {plural(node.cores, 'core')} free, {memory}{gpus}"
            pen.write(f"   {', '.join(node.queues)}   {words}", "dim")
        elif node.shut and row == 1:
            assert self.board is not None
            pen.write(f"   {shut_words(node, self.board.now_ms, self.quarry.zone)}", "rust")
        elif 0 <= row - 1 - node.shut < len(node.occupants):
            occupant = node.occupants[row - 1 - node.shut]
            assert self.board is not None
            owner = self.board.person.owner(occupant.user, occupant.account)
            tone = OWNERS[owner] if owner != "others" else "dim"
            pen.write("   ").cell(f"{occupant.label}", 9, "dim", right=True).write("  ")
            pen.cell(f"{occupant.name} of {occupant.user}", 30, tone).write("  ")
            pen.write(f"{plural(len(occupant.cores), 'core')}, {format_size(occupant.memory_mib)}", "dim")

    # -- running -----------------------------------------------------------------------------------

    def _draw_running(self, row: int, view: JobView, pen: Pen) -> None:
        now = self.board.now_ms if self.board is not None else 0
        told = InsideLines(view.inside, view.started_ms or 0, now, self.size.width, self.size.height - 7)
        height = self.size.height - 2 - told.count
        tall = max(1, min(4, (height - 4) // 2))
        if row == 0:
            pen.write("   ").cell("walltime", 10, "dim")
            width = max(10, self.left - pen.at - 2)
            bar(
                pen,
                [(view.attempt_s, "█", "ochre"), (view.walltime_s - view.attempt_s, "░", "faint")],
                width,
                view.walltime_s,
            )
            pen.to(self.left).write(f"{format_duration(view.attempt_s)} of {format_duration(view.walltime_s)}", "dim")
            pen.write(f"   {view.warning}" if view.warning else "", "rust")
        elif row <= tall:
            busy = [sample[1] for sample in self._seen(view)]
            present = view.cores_busy if view.cores_busy is not None else 0.0
            self._graph(pen, row - 1, tall, "cores", busy, view.cores, f"{present:.1f} of {view.cores} busy now")
        elif row <= 2 * tall:
            used = [float(sample[2]) for sample in self._seen(view)]
            words = f"{format_size(used[-1] if used else view.use.memory_peak_mib)} now, "
            words += f"{format_size(view.use.memory_peak_mib)} at most, of {format_size(view.memory_mib)}"
            self._graph(pen, row - tall - 1, tall, "memory", used, view.memory_mib, words)
        elif row == 2 * tall + 1:
            moved = f"read {format_bytes(view.use.read_bytes)}, written {format_bytes(view.use.written_bytes)}"
            pen.write(f"   on {', '.join(view.nodes)}   ", "dim")
            copying = view.copying is not None
            pen.write(copying_words(view.copying) if view.copying is not None else moved, "ochre" if copying else "dim")
        elif row == 2 * tall + 2:
            pen.write(f"   output  {view.output}", "dim")
        elif row > 2 * tall + 2:
            told.draw(row - 2 * tall - 3, pen)

    def _seen(self, view: JobView) -> Samples:
        return self.samples if self.sampled == view.job else []

    def _graph(self, pen: Pen, line: int, tall: int, name: str, values: list[float], asked: float, words: str) -> None:
        """Its use as columns over the time it has run; the top of the box is the request."""
        pen.write("   ").cell(name if line == 0 else "", 10, "dim")
        width = max(10, self.left - pen.at - 2)
        for column in range(width):
            value = values[column * len(values) // width] if values else 0.0
            part = min(1.0, value / asked) if asked else 0.0
            filled = part * tall * 8 - (tall - 1 - line) * 8
            level = max(0, min(8, round(filled)))
            if line == tall - 1 and values:
                level = max(1, level)  # what is measured is seen, however little
            tone = "rust" if name == "memory" and part >= 0.92 else "ochre"
            pen.write(LEVELS[level] if level else "·" if not values or line == 0 else " ", tone if level else "faint")
        if line == 0:
            pen.to(self.left).write(words, "dim")

    # -- waiting -----------------------------------------------------------------------------------

    def _draw_waiting(self, row: int, view: JobView, pen: Pen) -> None:
        assert self.board is not None
        nodes = [node for node in self.board.nodes if node.name in view.forecast_nodes]
        if not nodes:
            if row == 0:
                told = "no place is planned for it"
                if view.forecast_ms is not None:
                    about = clock_time(view.forecast_ms, self.board.now_ms, self.quarry.zone)
                    told = f"it should start about {about}, if all goes well"
                pen.write(f"   {told}: {view.why}" if view.why else f"   {told}", "dim")
            return
        most = self.size.height - 3
        if row == most and len(nodes) > most + 1:
            pen.write(f"   and {plural(len(nodes) - most, 'node')} more", "dim")
        elif row < len(nodes) and row <= most:
            self._draw_node(nodes[row], view, pen)

    def _draw_node(self, node: NodeView, view: JobView, pen: Pen) -> None:
        """Who holds a node until when, one tone a job, and the outlined place that is expected on it."""
        assert self.axis is not None and self.board is not None
        axis, now, person = self.axis, self.axis.now_ms, self.board.person
        pen.write("   ").cell(node.name, 8)
        held = ", ".join(f"{occupant.label} {occupant.name}" for occupant in node.occupants) or "free now"
        pen.cell(
            f"{node.cores - node.cores_used:3d} of {node.cores} free  {held}", self.left - pen.at - 1, "dim"
        ).write(" ")
        width = self.size.width - self.left
        for column in range(width):
            at = axis.begin_ms + (column * axis.span_ms + axis.span_ms // 2) // width
            lasting = [occupant for occupant in node.occupants if occupant.until_ms > at]
            taken = sum(len(occupant.cores) for occupant in lasting)
            expected = view.forecast_ms is not None and view.forecast_ms <= at < (view.forecast_end_ms or 0)
            if column == axis.column(now, width):
                pen.write("│", "ink")
            elif at < now:
                pen.write(" ")
            elif expected:
                pen.write("░", "river")
            elif taken:
                widest = max(lasting, key=lambda occupant: len(occupant.cores))
                owner = person.owner(widest.user, widest.account)
                pen.write(LEVELS[1 + min(7, taken * 8 // max(1, node.cores + 1))], OWNERS[owner])
            else:
                pen.write("·", "faint")
