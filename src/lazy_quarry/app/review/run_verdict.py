"""A run's verdict: a sentence, its use beside its request, and its record."""

from collections.abc import Callable
from typing import Any

from lazy_quarry.app.review.next_lines import NextLines
from lazy_quarry.app.review.node_lines import NodeLines
from lazy_quarry.app.review.usage_lines import UsageLines
from lazy_quarry.app.shared.cells import Pen, bar, wrap
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.app.shared.inside_lines import InsideLines
from lazy_quarry.core.job.curve import Sample
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.units import (
    clock_time,
    fold_names,
    format_bytes,
    format_core_hours,
    format_duration,
    format_size,
)
from lazy_quarry.run.node.file_kinds import FileFound
from lazy_quarry.views.advice_view import Advised
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.sentences import PHRASES, spans_words, state_words

Piece = tuple[str, str, bool]


class VerdictLines(Lines):
    """Lines about one run."""

    DEFAULT_CSS = "VerdictLines { height: 1fr; }"

    def __init__(self) -> None:
        super().__init__(id="verdict")
        self.detail: JobDetail | None = None
        self.now_ms = 0
        self.samples: list[Sample] = []
        self.advised: Advised | None = None

    def show(self, detail: JobDetail, samples: list[Sample], advised: Advised | None = None) -> None:
        """Another run, and what to ask for next time; the samples are those of one that runs still."""
        self.detail, self.advised = detail, advised
        self.samples = detail.view.curve.samples if detail.view.curve else samples
        self.refresh()

    def clear(self) -> None:
        """There is no run to tell of."""
        self.detail = self.advised = None
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """One line."""
        if self.detail is None:
            return
        view, width = self.detail.view, self.size.width
        colour = self.palette.of_phase(view.phase)
        sentence = self.detail.verdict or state_words(view, self.now_ms, self.quarry.zone)
        told = wrap(sentence, width - 3, 5)
        if row == 0:
            pen.write(f" {view.name.upper()} {view.label}", bold=True)
            phrase = f": {PHRASES[view.phase]}" if view.phase in PHRASES and view.phase is not Phase.DONE else ""
            room = width - pen.at - 4 - (16 if self.detail.silent else 0)
            word = f"   {view.phase.sign} {view.phase}"
            pen.write(word + (phrase if len(word) + len(phrase) <= room else ""), colour)
            pen.write("  ! look at it" if self.detail.silent else "", "rust", bold=True)
            return
        row -= 1
        if row < len(told):
            pen.write(
                f" {told[row]}", colour if view.phase is not Phase.DONE else "rust" if self.detail.silent else "ink"
            )
            return
        row -= len(told) + 1
        facts = self._facts(self.detail)
        if row == 0:
            pen.write(" REQUESTED AND USED", bold=True)
            if self.detail.told:
                pen.write(f"   each task, of {self.detail.told.ran:,} that ran", "dim")
        elif 1 <= row <= 3:
            self._compared(row, self.detail, pen)
        elif 5 <= row < 5 + len(facts):
            self._fact(pen, *facts[row - 5])
        else:
            self._further(row - 6 - len(facts), self.detail, pen)

    def _further(self, row: int, detail: JobDetail, pen: Pen) -> None:
        """Below the facts: its parts and spread tasks, then its record."""
        view, width = detail.view, self.size.width
        advice = NextLines(self.advised, width, bool(view.failed_tasks))
        if row < advice.count:
            if row >= 0:
                advice.draw(row, pen)
            return
        row -= advice.count + bool(advice.count)
        usage = UsageLines(view, self.samples, self.now_ms, width, self.quarry.zone)
        if row < usage.count:
            if row >= 0:
                usage.draw(row, pen)
            return
        row -= usage.count + bool(usage.count)
        nodes = NodeLines(view, width)
        if row < nodes.count:
            if row >= 0:
                nodes.draw(row, pen)
            return
        row -= nodes.count + bool(nodes.count)
        inside = InsideLines(
            view.inside, view.started_ms or 0, view.ended_ms or self.now_ms, width, 99, view.phase.final
        )
        if row < inside.count:
            if row >= 0:
                inside.draw(row, pen)
            return
        row -= inside.count + bool(inside.count)
        if row == 0:
            pen.write(" RECORD", bold=True)
        elif 1 <= row <= len(detail.record):
            record = detail.record[row - 1]
            at = clock_time(record.at_ms, self.now_ms, self.quarry.zone)
            pen.cell(f"   {at}", 14, "dim").cell(record.what, width - 15)

    def _compared(self, row: int, detail: JobDetail, pen: Pen) -> None:
        """Walltime, cores or memory: used of asked. Of an array the median of its tasks, and in a mark the most."""
        view, told = detail.view, detail.told
        if row == 1:
            used = told.took_s if told else (view.attempt_s,) * 3
            self._pair(pen, "walltime", used, told.walltime_s if told else view.walltime_s, format_duration)
        elif row == 2:
            busy = view.use.cpu_ms / 1000 / view.attempt_s if view.attempt_s else 0.0
            self._pair(pen, "cores", told.busy if told else (busy,) * 3, told.cores if told else view.cores, _figure)
        else:
            peaks = told.memory_mib if told else (view.memory_peak_mib,) * 3
            self._pair(pen, "memory", peaks, told.asked_mib if told else view.memory_mib, format_size)

    def _facts(self, detail: JobDetail) -> list[tuple[str, str]]:
        view, told = detail.view, detail.told
        cpu_ms = told.cpu_ms if told else view.use.cpu_ms
        read, written = (told.read_bytes, told.written_bytes) if told else (view.use.read_bytes, view.use.written_bytes)
        facts = [("promised", _file_words(one)) for one in (detail.evidence.files if detail.evidence else ())]
        facts.append(("time", spans_words(view) or "it has not started"))
        if view.curve and view.memory_peak_mib and not told:
            peak = clock_time(view.curve.peak_ms, self.now_ms, self.quarry.zone)
            facts.append(("peak", f"{format_size(view.memory_peak_mib)} at {peak}"))
        facts.append(("CPU time", format_duration(cpu_ms / 1000)))
        facts.append(("moved", f"{format_bytes(read)} read, {format_bytes(written)} written"))
        if view.scratch_mib or view.use.scratch_mib:
            asked = f" of {format_size(view.scratch_mib)}" if view.scratch_mib else ""
            facts.append(("scratch", f"{format_size(view.use.scratch_mib)} at its end{asked}"))
        if view.gpus:
            facts.append(("GPUs", f"{view.gpus} held; what they did is not measured"))
        facts.append(("ran on", fold_names(told.nodes if told else view.nodes) or "no node"))
        facts.append(("charge", f"{format_core_hours(view.charge_core_ms)} core-hours to {view.account}"))
        facts += [("failed", words) for words in told.failed] if told else []
        facts += [("output", view.output)] if told else []
        return facts

    def _pair(
        self,
        pen: Pen,
        name: str,
        used: tuple[float, ...],
        asked: float,
        show: Callable[[Any], str],
    ) -> None:
        """A bar of what was used of what was asked; of several the median, and beside it the most."""
        _, middle, most = used
        pen.cell(f"   {name}", 13, "dim")
        scale = max(most, asked, 1e-9)
        words = _from_to(show(middle), show(most))
        width = max(8, self.size.width - 13 - 22)
        parts = [(min(middle, asked), "█", "ochre"), (max(0.0, middle - asked), "█", "rust")]
        parts += [
            (max(0.0, min(most, asked) - middle), "▒", "ochre"),
            (max(0.0, most - max(asked, middle)), "▒", "rust"),
        ]
        bar(pen, [*parts, (max(0.0, asked - most), "░", "faint")], width, scale)
        pen.write(f" {words}", "rust" if most > asked else "ink").write(f" of {show(asked)}", "dim")

    def _fact(self, pen: Pen, name: str, words: str) -> None:
        bad = name == "promised" and words.startswith("✕")
        pen.cell(f"   {name}", 13, "dim").cell(words, max(0, self.size.width - 14), "rust" if bad else "ink")


def _file_words(one: FileFound) -> str:
    """A promised file: its name, its size and kind, or what is wrong with it."""
    name = one.path.rpartition("/")[2]
    if one.problem:
        return f"✕ {name}: {one.problem}"
    return f"{name}: {format_bytes(one.size)}{f', {one.kind}' if one.kind else ''}"


def _from_to(low: str, high: str) -> str:
    """``29–35 MiB``: two figures, the unit said once where it is the same."""
    figure, _, unit = low.partition(" ")
    if low == high:
        return high
    return f"{figure if unit and high.endswith(f' {unit}') else low}–{high}"


def _figure(value: float) -> str:
    return f"{value:.1f}".removesuffix(".0")
