"""A run's verdict: a sentence, its use beside its request, and its record."""

from lazy_quarry.app.cells import Pen, bar, wrap
from lazy_quarry.app.widgets.drawing import Lines
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import (
    clock_time,
    fold_names,
    format_bytes,
    format_core_hours,
    format_duration,
    format_size,
)
from lazy_quarry.site.job_detail import JobDetail
from lazy_quarry.site.sentences import state_words

Piece = tuple[str, str, bool]


class VerdictLines(Lines):
    """Lines about one run."""

    DEFAULT_CSS = "VerdictLines { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="verdict")
        self.detail: JobDetail | None = None
        self.now_ms = 0

    def show(self, detail: JobDetail) -> None:
        """Another run."""
        self.detail = detail
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        if self.detail is None:
            return
        view, width = self.detail.view, self.size.width
        colour = self.palette.of_phase(view.phase)
        sentence = self.detail.verdict or state_words(view, self.now_ms, self.quarry.zone)
        told = wrap(sentence, width - 3, 3)
        if row == 0:
            pen.write(f" {view.name.upper()} {view.job}", bold=True).write(f"   {view.phase.sign} {view.phase}", colour)
            return
        row -= 1
        if row < len(told):
            pen.write(f" {told[row]}", colour if view.phase is not Phase.DONE else "ink")
            return
        row -= len(told) + 1
        if row == 0:
            pen.write(" ASKED AND USED", bold=True)
        elif row == 1:
            used, asked = view.elapsed_s, view.walltime_s
            self._pair(pen, "walltime", used, asked, format_duration(used), format_duration(asked))
        elif row == 2:
            busy = view.use.cpu_ms / 1000 / view.elapsed_s if view.elapsed_s else 0.0
            self._pair(pen, "cores", busy, view.cores, f"{busy:.1f}", f"{view.cores}")
        elif row == 3:
            used, asked = view.memory_peak_mib, view.memory_mib
            self._pair(pen, "memory", used, asked, format_size(used), format_size(asked))
        elif row == 5:
            self._fact(
                pen, "CPU time", f"{format_duration(view.use.cpu_ms / 1000)} in {format_duration(view.elapsed_s)}"
            )
        elif row == 6:
            moved = f"{format_bytes(view.use.read_bytes)} read, {format_bytes(view.use.written_bytes)} written"
            self._fact(pen, "moved", moved)
        elif row == 7:
            self._fact(pen, "ran on", fold_names(view.nodes) or "no node")
        elif row == 8:
            charge = f"{format_core_hours(view.charge_core_ms)} core-hours to {view.account}"
            self._fact(pen, "charge", charge)
        elif row == 10:
            pen.write(" RECORD", bold=True)
        elif 11 <= row < 11 + len(self.detail.record):
            record = self.detail.record[row - 11]
            at = clock_time(record.at_ms, self.now_ms, self.quarry.zone)
            pen.cell(f"   {at}", 14, "dim").cell(record.what, width - 15)

    def _pair(self, pen: Pen, name: str, used: float, asked: float, used_words: str, asked_words: str) -> None:
        pen.cell(f"   {name}", 13, "dim")
        over = used > asked
        scale = max(used, asked, 1e-9)
        width = max(8, self.size.width - 13 - 20)
        parts = [(min(used, asked), "█", "ochre"), (max(0.0, used - asked), "█", "rust")]
        bar(pen, [*parts, (max(0.0, asked - used), "░", "faint")], width, scale)
        pen.write(f" {used_words}", "rust" if over else "ink").write(f" of {asked_words}", "dim")

    def _fact(self, pen: Pen, name: str, words: str) -> None:
        pen.cell(f"   {name}", 13, "dim").cell(words, max(0, self.size.width - 14))
