"""A scale of amounts beside columns: round steps, each the same number of rows."""

from math import ceil, floor, log10

from msgspec import Struct

from lazy_quarry.core.units import HOUR_MS


class AmountScale(Struct, frozen=True):
    """``step`` core-ms are ``rows`` rows. Rows count from 1 at the bottom."""

    step: float
    rows: int
    steps: int

    @classmethod
    def of(cls, most: float, tall: int) -> "AmountScale":
        """The scale for amounts up to ``most`` core-ms in ``tall`` rows: a round step of which four, or five, reach it."""
        hours = max(most / 4 / HOUR_MS, 1e-3)
        unit = 10.0 ** floor(log10(hours))
        step = next(unit * part for part in (1, 2, 2.5, 5, 10) if unit * part >= hours * 0.999) * HOUR_MS
        while (steps := max(1, ceil(most / step * 0.999))) > tall:
            step *= 2
        return cls(step, max(1, tall // steps), steps)

    def edge(self, row: int) -> float:
        """Core-ms at the upper edge of a row."""
        return row * self.step / self.rows

    def mark(self, row: int) -> float | None:
        """The round amount at the upper edge of a row; None where there is none."""
        number, rest = divmod(row, self.rows)
        return number * self.step if rest == 0 and number <= self.steps else None
