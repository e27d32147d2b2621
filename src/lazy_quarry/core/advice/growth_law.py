"""Growth of a computation's time with a size: a set-up time, and a part that grows as a power of the size."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from lazy_quarry.core.advice.law_fits import EIGHT_IN_TEN, LawFits, Numbers, fits_of

POWERS = np.arange(0.1, 3.601, 0.04)
"""Powers of the size that are held against the runs."""
_PARTS = 1 / (1 + np.exp(-np.linspace(-3.0, 6.0, 60)))
SET_UPS = np.concatenate((-_PARTS[_PARTS < 0.8][::-1], [0.0], _PARTS))
"""Parts that the set-up has of the time at the smallest size. A negative one is for times that grow ever less steeply than a power,
as size × log(size) does. That there is none is as likely beforehand as that there is one."""
_PRIOR = np.tile(np.where(SET_UPS == 0, len(SET_UPS) - 1.0, 1.0), len(POWERS))
CLEAR = 0.05
"""A set-up time is told where its part of the time at the smallest size is greater with a chance of nine in ten."""


class GrowthLaw(Struct, frozen=True):
    """Seconds are ``set_up_s`` and about ``factor`` × size to the ``power``, by the law that fits best; from so many runs.

    ``power_low`` and ``power_high``: between them the power lies 8 times in 10.
    """

    set_up_s: float
    factor: float
    power: float
    power_low: float
    power_high: float
    runs: int
    smallest: float
    largest: float
    fits: LawFits

    def at(self, size: float) -> tuple[float, float, float]:
        """Seconds for a size: the middle, and between which two a further run lies 8 times in 10, over all laws that fit."""
        logs = _laws(np.array([size / self.smallest]))[:, 0]
        low, high = (float(np.exp(self.fits.further(logs, share))) for share in EIGHT_IN_TEN)
        return low, float(np.exp(self.fits.further(logs, 0.5))), high

    @property
    def has_set_up(self) -> bool:
        """True when the runs show that there is a time which does not grow."""
        shares = np.tile(SET_UPS, len(POWERS))
        return self.fits.quantile(shares, EIGHT_IN_TEN[0]) > CLEAR


def growth_law(runs: Sequence[tuple[float, float]]) -> GrowthLaw | None:
    """The growth of seconds with size, from runs as (size, seconds); None for fewer than three, or of fewer than two sizes."""
    known = [(size, seconds) for size, seconds in runs if size > 0 and seconds > 0]
    sizes = [size for size, _ in known]
    if len(known) < 3 or len(set(sizes)) < 2:
        return None
    smallest = min(sizes)
    fits = fits_of(_laws(np.array(sizes) / smallest), [float(np.log(seconds)) for _, seconds in known], _PRIOR)
    powers, best = np.repeat(POWERS, len(SET_UPS)), fits.best
    share, power = float(SET_UPS[best % len(SET_UPS)]), float(powers[best])
    first = float(np.exp(fits.level[best]))
    low, high = (fits.quantile(powers, one) for one in EIGHT_IN_TEN)
    factor = first * (1 - share) / smallest**power
    return GrowthLaw(max(0.0, first * share), factor, power, low, high, len(known), smallest, max(sizes), fits)


def _laws(sizes: Numbers) -> Numbers:
    """The logarithm of the time at sizes, in times of that at size 1: a row for each power with each set-up."""
    grown = sizes[None, :] ** POWERS[:, None]
    times: Numbers = SET_UPS[None, :, None] + (1 - SET_UPS)[None, :, None] * grown[:, None, :]
    laws: Numbers = np.log(times).reshape(-1, len(sizes))
    return laws
