"""A graph of slabs and edges on a page."""

from typing import TYPE_CHECKING

from lazy_quarry.draw.values import Graph

if TYPE_CHECKING:
    from lazy_quarry.draw.sheet import Sheet


def graph_on(page: "Sheet", panel: Graph, top: float, bottom: float) -> None:
    """Paint slabs and edges between these heights of a page."""
    from matplotlib.patches import FancyBboxPatch, Rectangle

    room, high = page.right - page.left, bottom - top
    each = min(room / max(panel.width, 1e-9), high / max(panel.height, 1e-9))
    wide, tall = panel.width * each, panel.height * each
    left, head = page.left + (room - wide) / 2, top + (high - tall) / 2
    axes = page.axes(left, head, left + wide, head + tall)
    axes.axis("off")
    axes.set_xlim(0, panel.width)
    axes.set_ylim(panel.height, 0)
    for edge in panel.edges:
        page.line_of(axes, edge.points, edge.line, edge.strong)
    for slab in panel.slabs:
        tone = page.ground.tone(slab.role)
        x, y = slab.x - slab.width / 2, slab.y - slab.height / 2
        for behind in range(min(slab.stack, 3) - 1, -1, -1):
            shift = behind * slab.height * 0.09
            box = FancyBboxPatch(
                (x + shift, y - shift), slab.width, slab.height, boxstyle=f"round,pad=0,rounding_size={slab.height * 0.08}",
                facecolor=page.ground.tone("slab").colour, edgecolor=tone.colour, linewidth=1.6 if slab.strong else 0.8,
            )  # fmt: skip
            axes.add_patch(box)
        if slab.part > 0:
            spot, done = (x, y + slab.height * 0.86), slab.width * min(1.0, slab.part)
            axes.add_patch(Rectangle(spot, done, slab.height * 0.14, facecolor=tone.colour))
        size = min(1.0, slab.height * each / (page.line * (len(slab.words) + 0.6)))
        for number, words in enumerate(slab.words):
            told = page.fitted(words, slab.width * each - 0.08, size, number == 0)
            middle = head + (slab.y * each) + (number - (len(slab.words) - 1) / 2) * page.line * size
            weight = "bold" if number == 0 else "normal"
            colour = page.ground.ink if number == 0 else page.ground.dim
            page.text(left + slab.x * each, middle, told, part=size, ha="center", fontweight=weight, color=colour)
