"""A chain's graph in characters: slabs from left to right, and lines between them by their conditions."""

from collections.abc import Iterable, Mapping
from itertools import pairwise
from types import MappingProxyType

from msgspec import Struct, field

from lazy_quarry.app.shared.theme import PHASE_ROLES
from lazy_quarry.core.chain.graph import layers, twins
from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.units import clock_time, plural
from lazy_quarry.core.values import replace
from lazy_quarry.views.chain_views import ChainView, PartView

SIZES = ((20, 8), (16, 7), (12, 6))
"""Cells of a slab, and of the gutter behind it: the widest with which all fits is taken."""
TALL = 3
_LEFT, _RIGHT, _UP, _DOWN = 1, 2, 4, 8
_CORNERS = {
    0: " ", 1: "─", 2: "─", 3: "─", 4: "│", 8: "│", 12: "│", 5: "╯", 6: "╰", 9: "╮", 10: "╭", 7: "┴", 11: "┬", 13: "┤",
    14: "├", 15: "┼",
}  # fmt: skip
LINES = {"succeeds": "─", "fails": "┄", "finishes": "═", "begins": "┈", "each-succeeds": "▬"}

_WORST = (*FAILING, Phase.RUNNING, Phase.HELD, Phase.WAITING, Phase.BLOCKED, Phase.CANCELLED, Phase.SKIPPED, Phase.DONE)
"""States by how bad they are: the worst stands for jobs that share a slab."""


class Cell(Struct):
    """A character, the role of its colour, whether it is on raised ground, and the job whose slab it is."""

    sign: str = " "
    colour: str = "faint"
    raised: bool = False
    bold: bool = False
    part: str = ""
    edge: tuple[str, str] | None = None
    """The job that waits and the one it waits for, where this is the end of their line."""


class Canvas(Struct):
    """All cells, how wide a slab is, and where each job's is: its left column and its first row.

    ``folded``: the jobs that share a slab, by its name.
    """

    rows: list[list[Cell]] = field(default_factory=list)
    places: dict[str, tuple[int, int]] = field(default_factory=dict)
    wide: int = SIZES[0][0]
    gutter: int = SIZES[0][1]
    folded: dict[str, tuple[str, ...]] = field(default_factory=dict)


def canvas(
    view: ChainView,
    zone: object,
    room: tuple[int, int] | None = None,
    fold: bool = True,
    supposed: Mapping[str, str] = MappingProxyType({}),
) -> Canvas:
    """The graph of a chain. Slabs stand on every third row, so the rows between them are free for lines.

    With a ``room`` of so many cells and rows slabs are as narrow as it takes, and where it is too low for all, jobs that
    wait for the same and are waited for by the same share a slab. ``supposed``: what is supposed of jobs, which their slabs say.
    """
    parts, folded = view.parts, dict[str, tuple[str, ...]]()
    found = layers(_inside(parts))
    if room is not None and fold and max(map(len, found), default=0) * TALL + 1 > room[1]:
        parts, folded = _folded(view)
        found = layers(_inside(parts))
    tallest = max((len(layer) for layer in found), default=0)
    levels = max(1, len(found))
    wide, gutter = next((size for size in SIZES if room is None or levels * sum(size) <= room[0]), SIZES[-1])
    drawn = Canvas(
        [[Cell() for _ in range(levels * (wide + gutter))] for _ in range(tallest * TALL + 1)], {}, wide, gutter, folded
    )
    for level, layer in enumerate(found):
        top = (tallest - len(layer)) // 2 * TALL + 1
        for at, name in enumerate(layer):
            drawn.places[name] = level * (wide + gutter), top + at * TALL
    by_name = {one.name: one for one in parts}
    _edges(drawn, _inside(parts), by_name)
    for one in parts:
        _slab(drawn, one, view, zone, supposed.get(one.name, ""))
    drawn.places |= {name: drawn.places[slab] for slab, names in folded.items() for name in names}
    return drawn


def _inside(parts: Iterable[PartView]) -> dict[str, tuple[tuple[str, str], ...]]:
    return {one.name: tuple(each for each in one.after if not each[0].isdecimal()) for one in parts}


def _folded(view: ChainView) -> tuple[tuple[PartView, ...], dict[str, tuple[str, ...]]]:
    """The parts with twins as one, and which these are. Lines go to and from the one that stands for all."""
    by_name, folded, gone = {one.name: one for one in view.parts}, dict[str, tuple[str, ...]](), set[str]()
    stands: dict[str, PartView] = {}
    for group in twins(_inside(view.parts)):
        members = [by_name[name] for name in group]
        phases = [one.phase for one in members]
        phase = next((one for one in _WORST if one in phases), phases[0])
        begins = [one.starts_ms for one in members if one.starts_ms is not None]
        ends = [one.ends_ms for one in members if one.ends_ms is not None]
        folded[group[0]] = group
        gone |= set(group[1:])
        stands[group[0]] = replace(
            members[0],
            phase=phase,
            starts_ms=min(begins, default=None),
            ends_ms=max(ends, default=None),
            critical=any(one.critical for one in members),
            tasks=len(group),
            done_tasks=phases.count(Phase.DONE),
        )
    kept = [stands.get(one.name, one) for one in view.parts if one.name not in gone]
    parts = [replace(one, after=tuple(each for each in one.after if each[0] not in gone)) for one in kept]
    return tuple(parts), folded


def _edges(drawn: Canvas, waits: dict[str, tuple[tuple[str, str], ...]], parts: dict[str, PartView]) -> None:
    marks: dict[tuple[int, int], int] = {}
    heavy: set[tuple[int, int]] = set()
    ends: list[tuple[int, int, str, bool, tuple[str, str]]] = []
    for name, after in waits.items():
        for other, condition in after:
            (from_x, from_y), (x, y) = drawn.places[other], drawn.places[name]
            strong = parts[name].critical and parts[other].critical
            begin, last = from_x + drawn.wide, x - 4
            corners = [(begin, from_y), (last, from_y), (last, y), (x - 1, y)]
            if x - from_x > drawn.wide + drawn.gutter:  # past other layers, on a row that no slab stands on
                free = y - 1
                corners = [(begin, from_y), (begin + 2, from_y), (begin + 2, free), (last, free), (last, y), (x - 1, y)]
            _trace(corners, marks, heavy if strong else None)
            ends.append((x, y, LINES[condition], strong, (name, other)))
    for (x, y), mark in marks.items():
        cell = drawn.rows[y][x]
        cell.sign, cell.colour = _CORNERS[mark], "ochre" if (x, y) in heavy else "dim"
    for x, y, line, strong, edge in ends:
        for step, sign in ((3, line), (2, line), (1, "▸")):
            cell = drawn.rows[y][x - step]
            cell.sign, cell.colour, cell.edge = sign, "ochre" if strong else "dim", edge


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


def _slab(drawn: Canvas, one: PartView, view: ChainView, zone: object, supposed: str) -> None:
    x, y = drawn.places[one.name]
    wide, twins_ = drawn.wide, drawn.folded.get(one.name)
    colour = role(one)
    sign = one.phase.sign if one.phase else "▱" if one.ends_ms is not None else " "
    stack = "▤" if one.tasks else " "
    name = (
        plural(len(twins_), "job")
        if twins_ and wide < SIZES[0][0]
        else f"{one.name} +{len(twins_) - 1}"
        if twins_
        else one.name
    )
    name = name if len(name) <= wide - 5 else name[: wide - 6] + "…"
    head = [(f" {sign} ", colour, False), (f"{name:<{wide - 5}}", "ink", True), (f"{stack} ", "dim", False)]
    told = f"   {supposed or words(one, view, zone, wide - 4):<{wide - 3}.{wide - 3}}"
    _write(drawn, x, y, head, one.name)
    _write(drawn, x, y + 1, [(told, "rust" if supposed else colour if one.phase else "dim", False)], one.name)


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


def words(one: PartView, view: ChainView, zone: object, room: int = 16) -> str:
    """Its state in a few words: a bar of its tasks, its state, or when it starts."""
    if one.tasks and one.phase is not None:
        told = f"{one.done_tasks}/{one.tasks}"
        cells = max(0, min(8, room - len(told) - 1))
        done = one.done_tasks * cells // max(1, one.tasks)
        return f"{'█' * done}{'░' * (cells - done)} {told}" if cells > 1 else told
    if one.phase is not None and (one.phase.final or one.phase.value in ("running", "held")):
        return one.phase.value
    if one.starts_ms is not None:
        tasks = f"{plural(one.tasks, 'task')}, " if one.tasks and room > 15 else ""
        return f"{tasks}{clock_time(one.starts_ms, view.now_ms, zone)}"  # type: ignore[arg-type]
    never = "doesn't run" if room > 11 else "not run"
    return never if one.phase is None else "no forecast" if room > 11 else ""
