"""Charges over a period, as stacked columns, and where they went."""

from math import ceil

from rich.cells import cell_len

from lazy_quarry.app.ledger.amount_scale import AmountScale
from lazy_quarry.app.shared.acts import click, click_of
from lazy_quarry.app.shared.cells import Pen, bar
from lazy_quarry.app.shared.drawing import Lines
from lazy_quarry.core.ledger.report import OverTime, Report
from lazy_quarry.core.units import core_hours_cell, format_core_hours, plural
from lazy_quarry.wording.book_words import waits_words

TONES = (("█", "ochre"), ("▒", "river"), ("▓", "moss"), ("▚", "ink"), ("░", "stone"))
"""The keys that were charged most, each by a sign and a colour of its own; the rest is together in the last."""
SCALE = 9
"""Cells of the scale on the left."""


def shown_of(found: OverTime) -> list[tuple[str, tuple[int, ...]]]:
    """The keys that have a tone, the last of them for all others."""
    most = len(TONES) - 1
    shown = list(zip(found.keys[:most], found.charged[:most], strict=True))
    rest = found.charged[most:]
    if len(rest) == 1:
        shown.append((found.keys[most], rest[0]))
    elif rest:
        shown.append((plural(len(rest), "other"), tuple(map(sum, zip(*rest, strict=True)))))
    return shown


class UseColumns(Lines):
    """Stacked columns, one for each day, week or month."""

    DEFAULT_CSS = "UseColumns { height: 1fr; min-height: 6; }"

    def __init__(self) -> None:
        super().__init__(id="use-columns")
        self.found: OverTime | None = None

    def show(self, found: OverTime) -> None:
        """Other columns."""
        self.found = found
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """The heading, the columns, their names, and what the tones mean."""
        found, height = self.found, self.size.height
        if row == 0:
            pen.write(" USE", bold=True)
            if found is not None:
                pen.write(f"   core-hours charged, by {found.split}", "dim")
            return
        if found is None or height < 6:
            return
        if not found.keys:
            pen.write("   nothing was charged in this time" if row == 2 else "", "dim")
            return
        shown = shown_of(found)
        tall = height - 4
        if row == height - 1:
            # All are named: where there is no room for it the longest names are cut.
            lengths = [cell_len(name) for name, _ in shown]
            room = self.size.width - 3 * len(shown)
            begin = SCALE if sum(lengths) <= room - SCALE else 1
            pen.write(" " * begin)
            for (sign, tone), (name, _), wide in zip(TONES, shown, fitted(lengths, room - begin), strict=False):
                pen.write(f"{sign} ", tone).cell(name, wide, "dim").write(" ")
        elif row == height - 2:
            self._names(pen, found)
        elif 1 <= row <= tall:
            self._columns(pen, found, shown, row - 1, tall)

    def _edges(self, found: OverTime) -> list[int]:
        """Where each column begins, and the last one ends: all of the width is used, up to nine cells a column."""
        count = max(1, len(found.parts))
        room = min(max(count, self.size.width - SCALE - 1), 9 * count)
        return [SCALE + place * room // count for place in range(count + 1)]

    def _columns(
        self, pen: Pen, found: OverTime, shown: list[tuple[str, tuple[int, ...]]], line: int, tall: int
    ) -> None:
        totals = [sum(charged[place] for _, charged in shown) for place in range(len(found.parts))]
        scale, row = AmountScale.of(max(*totals, 1), tall), tall - line
        mark, low, high = scale.mark(row), scale.edge(row - 1), scale.edge(row)
        pen.cell(f"{format_core_hours(round(mark))} " if mark else "", SCALE, "dim", right=True)
        edges = self._edges(found)
        for place in range(len(found.parts)):
            hit = click_of("period", "show_column", place)
            middle, below, wide = (low + high) / 2, 0, edges[place + 1] - edges[place]
            sign, tone = ("┈", "faint") if mark else (" ", "faint")
            for (its_sign, its_tone), (_, charged) in zip(TONES, shown, strict=False):
                if below <= middle < below + charged[place] or (low == 0 and below == 0 < charged[place]):
                    sign, tone = its_sign, its_tone
                below += charged[place]
            gap = 1 if wide > 2 else 0
            pen.write(sign * (wide - gap), tone, hit=hit).write(("┈" if mark else " ") * gap, "faint")

    def _names(self, pen: Pen, found: OverTime) -> None:
        edges, long = self._edges(found), found.parts[0].days
        pen.write(" " * SCALE)
        names = [f"{part.first:%b %Y}" if long > 7 else f"{part.first.day} {part.first:%b}" for part in found.parts]
        step = ceil((max(map(len, names)) + 2) * len(names) / (edges[-1] - SCALE))  # columns from one name to the next
        for place in range(0, len(names), step):
            if edges[place] + len(names[place]) < self.size.width:
                pen.to(edges[place]).write(names[place], "dim")


def fitted(lengths: list[int], room: int) -> list[int]:
    """Lengths of which the longest are cut until all together are no more than the room; each keeps two cells."""
    most = max(lengths, default=0)
    while most > 2 and sum(min(most, one) for one in lengths) > room:
        most -= 1
    return [min(most, one) for one in lengths]


class WentLines(Lines):
    """Where it went: used, held idle, lost, waited for; beside the period before."""

    DEFAULT_CSS = "WentLines { height: 7; }"

    def __init__(self) -> None:
        super().__init__(id="went")
        self.found: Report | None = None
        self.waits: Report | None = None
        """The newest report of the same period whose waits were read."""

    def show(self, found: Report, waits: bool) -> None:
        """Another period; its waits may be read later, and until then those of before are shown if they are of the same."""
        if waits:
            self.waits = found
        elif self.waits is not None and (self.waits.period, self.waits.where) != (found.period, found.where):
            self.waits = None
        self.found = found
        self.refresh()

    def draw(self, row: int, pen: Pen) -> None:
        """Its lines."""
        found = self.found
        if row == 1:
            pen.write(" WHERE IT WENT", bold=True)
        if found is None:
            return
        sums = found.total.sums
        held = sums.used_core_ms + sums.idle_core_ms + sums.lost_core_ms
        if row == 1:
            pen.write(f"   of {format_core_hours(sums.held_core_ms)} core-hours held", "dim")
        elif row in (2, 3, 4):
            name, amount, tone, before = (
                ("used", sums.used_core_ms, "moss", lambda one: one.used_core_ms),
                ("held idle", sums.idle_core_ms, "stone", lambda one: one.idle_core_ms),
                ("lost", sums.lost_core_ms, "rust", lambda one: one.lost_core_ms),
            )[row - 2]
            opens = click("behind", name.split()[-1])
            pen.write("   ").cell(name, 10, "dim", hit=opens).cell(core_hours_cell(amount), 9, right=True).write(" ")
            long = max(4, min(14, self.size.width - 40))
            bar(pen, [(float(amount), "█", tone), (float(held - amount), "░", "faint")], long, float(max(1, held)))
            pen.cell(f" {amount / held:.0%}" if held else "", 6)
            if found.before is not None and found.before.sums.held_core_ms:
                then = found.before.sums
                all_then = max(1, then.used_core_ms + then.idle_core_ms + then.lost_core_ms)
                pen.write(f"{before(then) / all_then:.0%} before", "dim")
        elif row == 5:
            total = (self.waits or found).total
            waited = "nobody waited" if self.waits is not None else "…"
            if total.wait_median_s is not None and total.wait_p95_s is not None:
                waited = waits_words(total.wait_median_s, total.wait_p95_s)
            waited = waited.removesuffix(" waited")  # its label says so
            pen.write("   ").cell("waited", 10, "dim").write(waited, hit=click("behind", "waited"))
        elif row == 6 and sums.failed:
            words = f"{sums.failed:,} of {plural(sums.jobs, 'job')}"
            pen.write("   ").cell("not done", 10, "dim").write(words, hit=click("behind", "failed"))
