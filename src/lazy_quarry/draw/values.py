"""Figures as plain values: what is drawn, in which words, on which axis. They know no drawing library and no screen.

A *role* says what a mark means (``mine``, ``expected``, ``closed``); its colour and hatching on each ground are in
:mod:`lazy_quarry.draw.grounds`.
"""

from msgspec import Struct, field


class Scale(Struct, frozen=True):
    """An axis from ``low`` to ``high`` in its own unit, with its label and marks as (place, words)."""

    low: float
    high: float
    label: str = ""
    ticks: tuple[tuple[float, str], ...] = ()
    now: float | None = None
    """Where the present is, on an axis of time."""


class Bar(Struct, frozen=True):
    """From and until on the scale. ``base`` and ``height`` are parts of the lane, from 0 at its foot to 1."""

    begin: float
    end: float
    role: str
    base: float = 0.15
    height: float = 0.7
    words: str = ""
    """Written inside where there is room for it."""


class Lane(Struct, frozen=True):
    """A row: its label, its bars from back to front, and a word after the last one."""

    label: str
    bars: tuple[Bar, ...] = ()
    note: str = ""
    strong: bool = False
    """Labelled heavier: the one that it is about."""
    heading: bool = False


class Lanes(Struct, frozen=True):
    """Rows on one scale, from top to bottom."""

    scale: Scale
    lanes: tuple[Lane, ...]


class Cell(Struct, frozen=True):
    """A place in a field, by row and column from 0."""

    row: int
    column: int
    role: str
    words: str = ""
    strength: float = 1.0
    """Part of the role's colour that it has; the rest is the paper's."""


class Field(Struct, frozen=True):
    """Cells in rows and columns, with labels on both sides and what these are."""

    rows: tuple[str, ...]
    columns: tuple[str, ...]
    cells: tuple[Cell, ...]
    rows_are: str = ""
    columns_are: str = ""


class Slab(Struct, frozen=True):
    """A box of a graph, its middle at ``x``, ``y``; several behind one another for an array. Lines of words inside."""

    x: float
    y: float
    width: float
    height: float
    role: str
    words: tuple[str, ...]
    stack: int = 1
    part: float = 0.0
    """Part of it that is done, drawn along its foot."""
    strong: bool = False


class Edge(Struct, frozen=True):
    """A line from slab to slab through these points; ``line`` is its condition: solid, broken, double, dotted, ribbon."""

    points: tuple[tuple[float, float], ...]
    line: str = "solid"
    strong: bool = False


class Graph(Struct, frozen=True):
    """Slabs and edges; ``width`` and ``height`` hold all of them. y goes down."""

    width: float
    height: float
    slabs: tuple[Slab, ...]
    edges: tuple[Edge, ...]


class Curve(Struct, frozen=True):
    """Points in the order of x, drawn as a ``line``, an ``area``, with ``marks``, or as ``bars``; the role is its colour's."""

    points: tuple[tuple[float, float], ...]
    role: str
    drawn: str = "line"
    sign: str = ""
    """The mark of a point, and how the line is broken, in Matplotlib's words: curves differ in more than their colour."""
    dashes: str = ""


class Plot(Struct, frozen=True):
    """Curves on one scale upwards, whose label stands above; ``mark`` is a line across with its words."""

    y: Scale
    curves: tuple[Curve, ...]
    mark: float | None = None
    mark_words: str = ""


class Plots(Struct, frozen=True):
    """Plots one below another, on one scale along their foot."""

    x: Scale
    plots: tuple[Plot, ...]


class Figure(Struct, frozen=True, kw_only=True):
    """A drawing with all its words. ``source`` says what it is of and when; ``legend`` is (role, words), in order."""

    name: str
    """Its name in a word: part of the file's name."""
    title: str
    panel: Lanes | Field | Graph | Plots
    source: str
    note: str = ""
    """A sentence below the title."""
    legend: tuple[tuple[str, str], ...] = field(default=())
