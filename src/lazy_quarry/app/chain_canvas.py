"""A chain's graph in characters: slabs from left to right, and lines between them by their conditions."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import pairwise

from lazy_quarry.app.theme import PHASE_ROLES
from lazy_quarry.core.chain.graph import layers
from lazy_quarry.core.units import clock_time
from lazy_quarry.site.chain_views import ChainView, PartView

WIDE, GUTTER, TALL = 20, 8, 3
_LEFT, _RIGHT, _UP, _DOWN = 1, 2, 4, 8
_CORNERS = {
    0: " ", 1: "─", 2: "─", 3: "─", 4: "│", 8: "│", 12: "│", 5: "╯", 6: "╰", 9: "╮", 10: "╭", 7: "┴", 11: "┬", 13: "┤",
    14: "├", 15: "┼",
}  # fmt: skip
LINES = {"succeeds": "─", "fails": "┄", "finishes": "═", "begins": "┈", "each-succeeds": "▬"}


@dataclass(slots=True)
class Cell:
    """A character, the role of its colour, whether it is on raised ground, and the job whose slab it is."""

    sign: str = " "
    colour: str = "faint"
    raised: bool = False
    bold: bool = False
    part: str = ""


@dataclass(slots=True)
class Canvas:
    """All cells, and where each slab is: its left column and its first row."""

    rows: list[list[Cell]] = field(default_factory=list)
    places: dict[str, tuple[int, int]] = field(default_factory=dict)


def canvas(view: ChainView, zone: object) -> Canvas:
    """The graph of a chain. Slabs stand on every third row, so the rows between them are free for lines."""
    waits = {one.name: tuple(each for each in one.after if not each[0].isdecimal()) for one in view.parts}
    found = layers(waits)
    tallest = max((len(layer) for layer in found), default=0)
    width = max(1, len(found)) * (WIDE + GUTTER)
    drawn = Canvas([[Cell() for _ in range(width)] for _ in range(tallest * TALL + 1)])
    for level, layer in enumerate(found):
        top = (tallest - len(layer)) // 2 * TALL + 1
        for at, name in enumerate(layer):
            drawn.places[name] = level * (WIDE + GUTTER), top + at * TALL
    by_name = {one.name: one for one in view.parts}
    _edges(drawn, waits, by_name)
    for one in view.parts:
        _slab(drawn, one, view, zone)
    return drawn


def _edges(drawn: Canvas, waits: dict[str, tuple[tuple[str, str], ...]], parts: dict[str, PartView]) -> None:
    marks: dict[tuple[int, int], int] = {}
    heavy: set[tuple[int, int]] = set()
    ends: list[tuple[int, int, str, bool]] = []
    for name, after in waits.items():
        for other, condition in after:
            (from_x, from_y), (x, y) = drawn.places[other], drawn.places[name]
            strong = parts[name].critical and parts[other].critical
            begin, last = from_x + WIDE, x - 4
            corners = [(begin, from_y), (last, from_y), (last, y), (x - 1, y)]
            if x - from_x > WIDE + GUTTER:  # past other layers, on a row that no slab stands on
                free = y - 1
                corners = [(begin, from_y), (begin + 2, from_y), (begin + 2, free), (last, free), (last, y), (x - 1, y)]
            _trace(corners, marks, heavy if strong else None)
            ends.append((x, y, LINES[condition], strong))
    for (x, y), mark in marks.items():
        cell = drawn.rows[y][x]
        cell.sign, cell.colour = _CORNERS[mark], "ochre" if (x, y) in heavy else "dim"
    for x, y, line, strong in ends:
        for step in (3, 2):
            drawn.rows[y][x - step].sign = line
        drawn.rows[y][x - 1].sign = "▸"
        for step in (3, 2, 1):
            drawn.rows[y][x - step].colour = "ochre" if strong else "dim"


def _trace(
    corners: list[tuple[int, int]], marks: dict[tuple[int, int], int], heavy: set[tuple[int, int]] | None
) -> None:
    for (x, y), (to_x, to_y) in pairwise(corners):
        step_x, step_y = (to_x > x) - (to_x < x), (to_y > y) - (to_y < y)
        ahead, behind = (_RIGHT, _LEFT) if step_x else (_DOWN, _UP) if step_y > 0 else (_UP, _DOWN)
        while (x, y) != (to_x, to_y):
            marks[x, y] = marks.get((x, y), 0) | ahead
            if heavy is not None:
                heavy.add((x, y))
            x, y = x + step_x, y + step_y
            marks[x, y] = marks.get((x, y), 0) | behind
            if heavy is not None:
                heavy.add((x, y))


def _slab(drawn: Canvas, one: PartView, view: ChainView, zone: object) -> None:
    x, y = drawn.places[one.name]
    colour = role(one)
    sign = one.phase.sign if one.phase else "▱" if one.ends_ms is not None else " "
    stack = "▤" if one.tasks else " "
    name = one.name if len(one.name) <= WIDE - 5 else one.name[: WIDE - 6] + "…"
    head = [(f" {sign} ", colour, False), (f"{name:<{WIDE - 5}}", "ink", True), (f"{stack} ", "dim", False)]
    told = f"   {words(one, view, zone):<{WIDE - 3}.{WIDE - 3}}"
    _write(drawn, x, y, head, one.name)
    _write(drawn, x, y + 1, [(told, colour if one.phase else "dim", False)], one.name)


def _write(drawn: Canvas, x: int, y: int, pieces: Iterable[tuple[str, str, bool]], part: str) -> None:
    for text, colour, bold in pieces:
        for sign in text:
            drawn.rows[y][x] = Cell(sign, colour, True, bold, part)
            x += 1


def role(one: PartView) -> str:
    """The colour of a job's state."""
    if one.phase is None:
        return "river" if one.ends_ms is not None else "dim"
    return PHASE_ROLES[one.phase]


def words(one: PartView, view: ChainView, zone: object) -> str:
    """How it stands, in a few words: a bar of its tasks, its state, or when it starts."""
    if one.tasks and one.phase is not None:
        done = one.done_tasks * 8 // max(1, one.tasks)
        return f"{'█' * done}{'░' * (8 - done)} {one.done_tasks}/{one.tasks}"
    if one.phase is not None and (one.phase.final or one.phase.value in ("running", "held")):
        return one.phase.value
    if one.starts_ms is not None:
        tasks = f"{one.tasks} tasks, " if one.tasks else ""
        return f"{tasks}{clock_time(one.starts_ms, view.now_ms, zone)}"  # type: ignore[arg-type]
    return "doesn't run" if one.phase is None else "no forecast"
