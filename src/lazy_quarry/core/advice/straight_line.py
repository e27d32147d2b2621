"""A straight line through points by least squares."""

from collections.abc import Sequence
from math import sqrt
from statistics import fmean, linear_regression

from msgspec import Struct


class StraightLine(Struct, frozen=True):
    """``mean`` + ``slope`` · (x - ``middle``).

    ``across`` tells how far its points lie apart along x, and ``rest`` how far from the line: sums of squares.
    """

    slope: float
    middle: float
    mean: float
    across: float
    rest: float
    count: int

    def at(self, x: float) -> float:
        """Its height."""
        return self.mean + self.slope * (x - self.middle)

    @property
    def error(self) -> float:
        """The standard error of the slope, of three points or more."""
        return sqrt(self.rest / (self.count - 2) / self.across)

    @property
    def alike(self) -> float:
        """Correlation of its points: from -1 to 1, and 0 where they are all of one height."""
        up = self.rest + self.slope**2 * self.across
        return self.slope * sqrt(self.across / up) if up > 0 else 0.0


def line_through(points: Sequence[tuple[float, float]]) -> StraightLine | None:
    """The line through points (x, y); None where they are of one x, or none."""
    xs, ys = [x for x, _ in points], [y for _, y in points]
    if len(set(xs)) < 2:
        return None
    middle, mean = fmean(xs), fmean(ys)
    slope = linear_regression(xs, ys).slope
    rest = sum((y - mean - slope * (x - middle)) ** 2 for x, y in points)
    return StraightLine(slope, middle, mean, sum((x - middle) ** 2 for x in xs), rest, len(points))
