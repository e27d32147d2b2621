"""Laws held against runs by how likely they make them: all that fit, each with its weight, in place of the best one.

The logarithms of the times are taken to deviate from a law alike at all sizes, by an unknown deviation. Then a law with the sum of
squares R about n runs has the weight R to the power of -(n - 1)/2, and a further run lies about it as Student's t with n - 1
degrees of freedom (A. Gelman and others, *Bayesian Data Analysis*, 2013, section 14.2). Ranges so hold the error of the law's
numbers, and are wide where laws differ.
"""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Numbers = NDArray[np.float64]
EIGHT_IN_TEN = (0.1, 0.9)
"""Quantiles between which a value lies 8 times in 10."""
NEGLIGIBLE = 1e-5
"""A law that fits so much worse than the best says nothing of further runs."""
MEASURED = 0.008
"""Times are measured no better than to this part: standard deviation of a logarithm at least."""


class LawFits(Struct, frozen=True):
    """Laws with their weights; ``level``, ``deviation``: the logarithm that each adds, and how far runs lie from it."""

    weights: Numbers
    level: Numbers
    deviation: Numbers
    runs: int

    @property
    def best(self) -> int:
        """The place of the law that fits best."""
        return int(self.weights.argmax())

    def quantile(self, values: Numbers, share: float) -> float:
        """The value that a law's number stays below with this chance; ``values`` has it for each law."""
        order = np.argsort(values, kind="stable")
        so_far = np.cumsum(self.weights[order])
        return float(values[order][min(len(values) - 1, int(np.searchsorted(so_far, share)))])

    def further(self, logs: Numbers, share: float) -> float:
        """The logarithm of seconds that a further run stays below with this chance; ``logs`` is what each law says of it."""
        from scipy.special import stdtr

        kept = self.weights > NEGLIGIBLE * self.weights.max()
        weights = self.weights[kept] / self.weights[kept].sum()
        middles, spread = (logs + self.level)[kept], self.deviation[kept] * np.sqrt(1 + 1 / self.runs)
        low, high = float((middles - 40 * spread).min()), float((middles + 40 * spread).max())
        for _ in range(45):
            middle = (low + high) / 2
            below = float((weights * stdtr(self.runs - 1, (middle - middles) / spread)).sum())
            low, high = (middle, high) if below < share else (low, middle)
        return high


def fits_of(laws: Numbers, logs: Sequence[float], prior: Numbers | float = 1.0) -> LawFits:
    """Weigh laws by runs: ``laws`` has a row for each law, what it says of each run; ``logs`` are the logarithms of their seconds.

    ``prior`` is the weight of each before any run is known.
    """
    apart = np.asarray(logs) - laws
    level = apart.mean(axis=1)
    runs = len(logs)
    rest = ((apart - level[:, None]) ** 2).sum(axis=1) + (runs - 1) * MEASURED**2
    weight = prior * np.exp(-(runs - 1) / 2 * np.log(rest / rest.min()))
    return LawFits(weight / weight.sum(), level, np.sqrt(rest / (runs - 1)), runs)
