"""Draw which package imports which, from the code itself: ``python tools/draw_imports.py docs/imports.svg``."""

import re
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import grimp
import matplotlib

matplotlib.use("svg")
matplotlib.rcParams["svg.hashsalt"] = "imports"
matplotlib.rcParams["svg.fonttype"] = "none"
from matplotlib import pyplot  # noqa: E402

INK, QUIET, BOX = "#2b2a27", "#b8742a", "#f3efe6"
ROOT = "lazy_quarry"
ABREAST = 5
"""Boxes side by side."""
BY_ALL = ("errors", "units")
"""Nearly everything imports these; their lines would hide the others."""


def contracts() -> dict[str, list[list[str]]]:
    """The layers of every contract by its container, the uppermost first."""
    settings = tomllib.loads(Path("pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    found = {}
    for one in settings:
        if one["type"] == "layers":
            container = one.get("containers", [ROOT])[0]
            rows = [[f.strip().removeprefix(f"{ROOT}.") for f in re.split("[:|]", row)] for row in one["layers"]]
            found[container] = [part for row in rows for part in parted(row)]
    return found


def parted(row: list[str]) -> Iterator[list[str]]:
    """A layer in rows that are no wider than the page."""
    count = -(-len(row) // ABREAST)
    for first in range(count):
        yield row[first::count]


def draw_panel(axes, title: str, container: str, rows: list[list[str]], graph: grimp.ImportGraph) -> None:
    """One container: a box for each part, a line for each import between two parts, all of them downwards."""
    rows = [[name for name in row if name not in BY_ALL] for row in rows]
    places: dict[str, tuple[float, float]] = {}
    for depth, row in enumerate(rows):
        for at, name in enumerate(row):
            places[name] = ((at + 1) / (len(row) + 1) * 10 + (depth % 3 - 1) * 3 * (len(row) == 1), -depth * 1.15)
    modules = {name: {f"{container}.{name}"} | graph.find_descendants(f"{container}.{name}") for name in places}
    for upper, (x, y) in places.items():
        for lower, (to_x, to_y) in places.items():
            count = (
                sum(len(graph.find_modules_directly_imported_by(one) & modules[lower]) for one in modules[upper])
                if upper != lower
                else 0
            )
            if count:
                axes.annotate(
                    "",
                    (to_x, to_y + 0.3),
                    (x, y - 0.3),
                    arrowprops={
                        "arrowstyle": "-|>",
                        "color": QUIET,
                        "alpha": 0.75,
                        "lw": min(2.2, 0.5 + count / 12),
                        "connectionstyle": f"arc3,rad={0.12 if to_y < y - 1.2 else 0}",
                    },
                )
    for name, (x, y) in places.items():
        axes.text(
            x,
            y,
            name,
            ha="center",
            va="center",
            color=INK,
            fontsize=9,
            bbox={"boxstyle": "round,pad=0.35", "facecolor": BOX, "edgecolor": INK, "linewidth": 0.8},
        )
    axes.set_title(title, loc="left", color=INK, fontsize=11)
    axes.set_xlim(0, 10)
    axes.set_ylim(-len(rows) * 1.15 + 0.3, 0.9)
    axes.axis("off")


def main() -> None:
    """Draw four containers whose contracts are in pyproject.toml."""
    graph = grimp.build_graph(ROOT)
    found = contracts()
    panels = [
        ("the packages (all import errors)", ROOT),
        ("core (all import units)", f"{ROOT}.core"),
        ("site: one site in use", f"{ROOT}.site"),
        ("core/plan", f"{ROOT}.core.plan"),
    ]
    figure, axes = pyplot.subplots(2, 2, figsize=(13, 15))
    for (title, container), one in zip(panels, axes.flat, strict=True):
        draw_panel(one, title, container, found[container], graph)
    figure.tight_layout()
    figure.savefig(sys.argv[1], metadata={"Date": None}, facecolor="white")


main()
