"""Lines about what to ask for next time: old and new side by side, and the reason."""

from lazy_quarry.app.shared.acts import key_of
from lazy_quarry.app.shared.cells import Pen, wrap
from lazy_quarry.core.units import exact_duration, exact_size, format_duration
from lazy_quarry.views.advice_view import Advised
from lazy_quarry.wording.advice_words import shorter_words

MOST_REASON, MOST_SHORTER = 8, 4


class NextLines:
    """The lines of advice in so many cells; none without any. ``failed``: it is of an array of which tasks failed."""

    def __init__(self, advised: Advised | None, width: int, failed: bool = False) -> None:
        self.advised = advised
        self.does = "runs what failed again with it" if failed else "drafts it"
        self.lines: list[tuple[str, str]] = []
        if advised is None:
            return
        for key, old, new in self._rows(advised):
            self.lines.append((f"   {key:<10}{old:>14}  →  {new}", "ink" if new != "as it is" else "dim"))
        words = advised.reason
        if advised.sooner_s:
            words += f" With it, it would start {format_duration(advised.sooner_s)} sooner."
        if advised.saved_core_hours >= 1:
            words += f" {advised.saved_core_hours:,.0f} core-hours were requested and not needed."
        for shorter in advised.shorter:
            said = shorter_words(shorter, advised.start_ms)
            self.lines += [(f"   {line}", "ink") for line in wrap(f"Or {said}", max(20, width - 4), MOST_SHORTER)]
        self.lines += [(f"   {line}", "dim") for line in wrap(words, max(20, width - 4), MOST_REASON)]

    @staticmethod
    def _rows(one: Advised) -> list[tuple[str, str, str]]:
        walltime = exact_duration(one.walltime_s) if one.walltime_s else "as it is"
        memory = f"{exact_size(one.memory_mib)}/core" if one.memory_mib else "as it is"
        rows = [("walltime", exact_duration(one.requested_s), walltime)]
        rows.append(("memory", f"{exact_size(one.requested_mib)}/core", memory))
        if one.cores > 1 and 0 < one.busy <= one.cores / 2:
            rows.append(("cores", str(one.cores), f"{one.busy:.1f} were busy at most"))
        return rows

    @property
    def count(self) -> int:
        """Number of lines."""
        return 1 + len(self.lines) if self.advised is not None else 0

    def draw(self, row: int, pen: Pen) -> None:
        """One of them."""
        assert self.advised is not None
        if row == 0:
            pen.write(" NEXT TIME", bold=True)
            runs = self.advised.runs
            pen.write(
                f"   from {runs:,} {'run' if runs == 1 else 'runs'}", "rust" if self.advised.promise is None else "dim"
            )
            if self.advised.settings:
                pen.write(f"   {key_of('next_time')} {self.does}", "ochre", hit="app.click('next_time')")
            return
        pen.write(*self.lines[row - 1])
