"""A plot in braille signs: two columns and four rows of dots in a cell (Unicode 1.1, Braille Patterns)."""

from collections.abc import Sequence

_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
Points = Sequence[tuple[float, float]]


def braille(
    curves: Sequence[Points], width: int, height: int, x: tuple[float, float], y: tuple[float, float]
) -> list[list[tuple[str, int]]]:
    """Curves as lines between their points: rows of (sign, number of the curve) from the top; -1 where there is none."""
    cells = [[(0, -1)] * width for _ in range(height)]

    def dot(column: int, row: int, curve: int) -> None:
        if 0 <= column < 2 * width and 0 <= row < 4 * height:
            bits, _ = cells[row // 4][column // 2]
            cells[row // 4][column // 2] = bits | _DOTS[row % 4][column % 2], curve

    def place(point: tuple[float, float]) -> tuple[float, float]:
        across = (point[0] - x[0]) / (x[1] - x[0]) if x[1] > x[0] else 0.5
        up = (point[1] - y[0]) / (y[1] - y[0]) if y[1] > y[0] else 0.5
        return across * (2 * width - 1), (1 - up) * (4 * height - 1)

    for number, points in enumerate(curves):
        last: tuple[float, float] | None = None
        for point in points:
            here = place(point)
            steps = max(1, round(max(abs(here[0] - last[0]), abs(here[1] - last[1])))) if last else 1
            first = last or here
            for step in range(steps + 1):
                part = step / steps
                dot(
                    round(first[0] + (here[0] - first[0]) * part), round(first[1] + (here[1] - first[1]) * part), number
                )
            last = here
    return [[(chr(0x2800 + bits), curve) if bits else (" ", -1) for bits, curve in row] for row in cells]
