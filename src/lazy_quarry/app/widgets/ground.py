"""The ground under Watch: for the job under the cursor, the nodes that matter to it, or what it uses."""

from lazy_quarry.app.pen import Pen, bar
from lazy_quarry.app.widgets.drawn import Lines
from lazy_quarry.app.widgets.lanes import Axis, lane_begin
from lazy_quarry.core.job import Phase
from lazy_quarry.core.units import format_bytes, format_duration, format_size, plural
from lazy_quarry.views import Board, JobView, NodeView
from lazy_quarry.words import verdict


class Ground(Lines):
    """A few lines about one job, on the same time axis."""

    DEFAULT_CSS = "Ground { height: 1fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="ground")
        self.board: Board | None = None
        self.view: JobView | None = None
        self.axis: Axis | None = None

    def draw(self, row: int, pen: Pen) -> None:
        """One line of it."""
        view = self.view
        if view is None or self.board is None:
            return
        if row == 0:
            pen.write("─" * self.size.width, "faint")
        elif row == 1:
            pen.write(f" {view.name.upper()}", bold=True)
            pen.write(f"   {view.user} · {view.account} · {view.queue} · {view.tier}   ", "dim")
            shape = f"{plural(view.node_count, 'node')} × {plural(-(-view.ranks // max(1, view.node_count)), 'rank')}"
            pen.write(f"{shape} × {plural(view.threads, 'thread')}, {format_size(view.memory_mib)}", "dim")
        elif view.phase is Phase.RUNNING:
            self._draw_running(row - 2, view, pen)
        elif view.phase.final:
            if row == 2:
                pen.write(f"   {verdict(view)}", self.palette.of_phase(view.phase))
            elif row == 3:
                pen.write(f"   output  {view.output}", "dim")
        else:
            self._draw_waiting(row - 2, view, pen)

    def _draw_running(self, row: int, view: JobView, pen: Pen) -> None:
        busy = view.cores_busy if view.cores_busy is not None else 0.0
        peak = view.use.memory_peak_mib
        if row == 0:
            self._draw_pair(pen, "walltime", view.elapsed_s, view.walltime_s, "ochre")
            pen.write(f"  {format_duration(view.elapsed_s)} of {format_duration(view.walltime_s)}", "dim")
        elif row == 1:
            idle = view.cores > 1 and busy < view.cores / 2
            self._draw_pair(pen, "cores", busy, view.cores, "rust" if idle else "ochre")
            pen.write(f"  {busy:.1f} of {view.cores} busy", "dim")
            if idle and view.elapsed_s > 600:
                pen.write("   more than half of them stand idle", "rust")
        elif row == 2:
            tight = peak > view.memory_mib * 0.92
            self._draw_pair(pen, "memory", peak, view.memory_mib, "rust" if tight else "ochre")
            pen.write(f"  {format_size(peak)} at most, of {format_size(view.memory_mib)}", "dim")
            if tight:
                pen.write("   near its limit", "rust")
        elif row == 3:
            moved = f"read {format_bytes(view.use.read_bytes)}, written {format_bytes(view.use.written_bytes)}"
            pen.write(f"   on {', '.join(view.nodes)}   {moved}", "dim")
        elif row == 4:
            pen.write(f"   output  {view.output}", "dim")

    def _draw_pair(self, pen: Pen, name: str, used: float, asked: float, colour: str) -> None:
        pen.write("   ").cell(name, 10, "dim")
        width = max(10, min(40, self.size.width // 3))
        share = min(used, asked)
        bar(pen, [(share, "█", colour), (asked - share, "░", "faint")], width, asked)

    def _draw_waiting(self, row: int, view: JobView, pen: Pen) -> None:
        assert self.board is not None
        nodes = [node for node in self.board.nodes if node.name in view.forecast_nodes]
        if not nodes:
            if row == 0:
                pen.write("   no place is planned for it", "dim")
            return
        if row < len(nodes) and row < self.size.height - 2:
            self._draw_node(nodes[row], view, pen)

    def _draw_node(self, node: NodeView, view: JobView, pen: Pen) -> None:
        assert self.axis is not None
        axis, now = self.axis, self.axis.now_ms
        left = lane_begin(self.size.width)
        pen.write("   ").cell(node.name, 8)
        held = ", ".join(f"{share.job} {share.name}" for share in node.shares) or "free now"
        pen.cell(f"{node.cores - node.cores_used:3d} of {node.cores} free  {held}", left - pen.at - 1, "dim").write(" ")
        width = self.size.width - left
        for column in range(width):
            at = axis.begin_ms + (column * axis.span_ms + axis.span_ms // 2) // width
            taken = sum(len(share.cores) for share in node.shares if share.until_ms > at)
            expected = view.forecast_ms is not None and view.forecast_ms <= at < (view.forecast_end_ms or 0)
            if column == axis.column(now, width):
                pen.write("│", "ink")
            elif at < now:
                pen.write(" ")
            elif expected:
                pen.write("░", "river")
            else:
                level = "▁▂▃▄▅▆▇█"[min(7, taken * 8 // max(1, node.cores + 1))] if taken else "·"
                pen.write(level, "stone" if taken else "faint")
