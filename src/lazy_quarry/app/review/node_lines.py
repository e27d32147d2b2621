"""Lines about a run on several nodes: what each did of what it was given, the idlest first."""

from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.core.units import format_bytes, format_size, plural
from lazy_quarry.views.job_view import JobView

MOST = 8
"""Nodes with a line of their own; of more the idlest and the busiest have one."""
BEFORE, AFTER, MOVED = 13, 23, 18
"""Cells of the name, of the figures behind the bar, and of what was moved, where there is room for that too."""


class NodeLines:
    """The lines of one run in so many cells; none where it had one node, or where nothing is known by node."""

    def __init__(self, view: JobView, width: int) -> None:
        self.view, self.width = view, width
        self.parts = sorted(view.parts, key=lambda one: (one.use.cpu_ms, one.node))
        self.left_out = max(0, len(self.parts) - MOST)
        self.rows = [*self.parts[: MOST // 2], *self.parts[-MOST // 2 :]] if self.left_out else self.parts

    @property
    def count(self) -> int:
        """Number of lines."""
        return len(self.rows) + 1 if self.rows else 0

    def draw(self, row: int, pen: Pen) -> None:
        """One of them."""
        if row == 0:
            left = f", without {plural(self.left_out, 'node')} in between" if self.left_out else ""
            pen.write(" BY NODE", bold=True).write(f"   cores busy, memory; the idlest first{left}", "dim")
            return
        one = self.rows[row - 1]
        cores = len(self.view.cores_by_node.get(one.node, ())) or self.view.cores // max(1, len(self.view.nodes))
        busy = min(cores, one.use.cpu_ms / max(1, self.view.attempt_ms))
        room = self.width - BEFORE - AFTER - MOVED
        moved = room >= MOVED
        pen.cell(f"   {one.node}", BEFORE, "dim")
        bar(pen, [(busy, "█", "ochre"), (cores - busy, "░", "faint")], max(8, room if moved else room + MOVED), cores)
        pen.write(f" {busy:.1f}").write(f" of {cores}".ljust(13 - len(f" {busy:.1f}")), "dim")
        pen.cell(format_size(one.use.memory_peak_mib), 10)
        if moved:
            pen.write(f"{format_bytes(one.use.read_bytes + one.use.written_bytes)} moved", "dim")
