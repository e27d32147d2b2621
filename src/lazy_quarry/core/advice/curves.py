"""Results against parameters: which parameter goes along the axis, and which runs make one curve."""

from collections.abc import Sequence

from msgspec import Struct

from lazy_quarry.core.advice.found_value import number_in

Parameters = tuple[tuple[str, str], ...]
MOST_CURVES = 8


class Point(Struct, frozen=True):
    """A run with its parameters and its value."""

    label: str
    parameters: Parameters
    value: float


class ResultCurve(Struct, frozen=True):
    """Points along one parameter, in its order; ``name`` tells the values of the others."""

    name: str
    points: tuple[tuple[float, float], ...]


class Results(Struct, frozen=True):
    """Curves over ``axis``; ``names`` say what stands at 0, 1, 2 … where it has no numbers. ``left_out``: so many more curves."""

    axis: str
    names: tuple[str, ...]
    curves: tuple[ResultCurve, ...]
    left_out: int = 0


def result_curves(points: Sequence[Point]) -> Results | None:
    """Arrange results as curves; None for fewer than two."""
    if len(points) < 2:
        return None
    values: dict[str, dict[str, None]] = {}
    for point in points:
        for name, value in point.parameters:
            values.setdefault(name, {})[value] = None
    differing = {name: list(some) for name, some in values.items() if len(some) > 1}
    if not differing:
        places = tuple((float(at), point.value) for at, point in enumerate(points))
        return Results("run", tuple(point.label for point in points), (ResultCurve("", places),))
    axis = max(
        differing,
        key=lambda name: (all(number_in(value) is not None for value in differing[name]), len(differing[name])),
    )
    numbers = [number_in(value) for value in differing[axis]]
    by_name = any(number is None for number in numbers)
    where = [float(at) if by_name else number or 0.0 for at, number in enumerate(numbers)]
    place = dict(zip(differing[axis], where, strict=True))
    groups: dict[str, list[tuple[float, float]]] = {}
    for point in points:
        own = dict(point.parameters)
        if axis in own:
            rest = ", ".join(
                f"{name}={value}" for name, value in point.parameters if name in differing and name != axis
            )
            groups.setdefault(rest, []).append((place[own[axis]], point.value))
    curves = [ResultCurve(name, tuple(sorted(some))) for name, some in groups.items()]
    return Results(
        axis, tuple(differing[axis]) if by_name else (), tuple(curves[:MOST_CURVES]), max(0, len(curves) - MOST_CURVES)
    )
