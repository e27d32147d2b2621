"""Curves over a scale on a page, one plot below another."""

from typing import TYPE_CHECKING, Any

from lazy_quarry.draw.values import Curve, Plot, Plots, Scale

if TYPE_CHECKING:
    from lazy_quarry.draw.sheet import Sheet


def plots_on(page: "Sheet", panel: Plots, top: float, bottom: float) -> None:
    """Paint plots between these heights of a page; only the lowest has the words of the scale."""
    most = (page.right - page.left) * 0.25
    labels = [page.fitted(words, most, 0.9) for plot in panel.plots for _, words in plot.y.ticks]
    left = page.left + max([page.measure(words, 0.9) for words in labels], default=0.3) + 0.12
    foot = bottom - (2.1 if panel.x.label else 1.1) * page.line
    high = (foot - top) / max(1, len(panel.plots))
    for number, plot in enumerate(panel.plots):
        last = number == len(panel.plots) - 1
        begin = top + number * high
        axes = page.axes(left, begin + 1.7 * page.line, page.right, begin + high - 0.05)
        x = (
            panel.x
            if last
            else Scale(panel.x.low, panel.x.high, "", tuple((at, "") for at, _ in panel.x.ticks), panel.x.now)
        )
        page.scale(axes, x, left, page.right - left)
        axes.set_ylim(plot.y.low, max(plot.y.high, plot.y.low + 1e-9))
        inside = [(at, page.fitted(words, most, 0.9)) for at, words in plot.y.ticks if plot.y.low <= at <= plot.y.high]
        axes.set_yticks([at for at, _ in inside], [words for _, words in inside])
        for told in axes.get_yticklabels():
            told.set_parse_math(False)
        axes.grid(axis="y", color=page.ground.faint, linewidth=0.4)
        words = page.fitted(plot.y.label, page.right - page.left, 0.9, True)
        page.text(page.left, begin + 0.7 * page.line, words, part=0.9, fontweight="bold", color=page.ground.dim)
        for curve in plot.curves:
            _curve(page, axes, curve)
        _mark(page, axes, plot)


def curve_mark(page: "Sheet", axes: Any, role: str) -> None:
    """The line of a legend for a curve, named as ``curve-ROLE-SIGN-DASHES``."""
    _, tone, sign, dashes = role.split("-", 3)
    points = ((0.0, 0.0), (0.5, 0.0), (1.0, 0.0))
    colour = page.ground.tone(tone).colour
    axes.plot([x for x, _ in points], [y for _, y in points], color=colour, linewidth=1.2, linestyle=dashes)
    axes.plot([0.5], [0.0], color=colour, linestyle="none", marker=sign, markersize=4)


def _curve(page: "Sheet", axes: Any, curve: Curve) -> None:
    xs, ys = [x for x, _ in curve.points], [y for _, y in curve.points]
    colour = page.ground.tone(curve.role).colour
    if curve.drawn == "bars":
        wide = abs(xs[1] - xs[0]) * 0.9 if len(xs) > 1 else 0.8
        axes.bar(xs, ys, width=wide, **page.solid(curve.role))
        return
    if curve.drawn == "area":
        axes.fill_between(xs, ys, color=colour, alpha=0.35, linewidth=0, step=None)
    axes.plot(xs, ys, color=colour, linewidth=1.2, linestyle=curve.dashes or "solid", zorder=2)
    if curve.drawn == "marks":
        axes.plot(xs, ys, color=colour, linestyle="none", marker=curve.sign or "o", markersize=4, zorder=3)


def _mark(page: "Sheet", axes: Any, plot: Plot) -> None:
    """Draw what was asked for, as a line across."""
    if plot.mark is None or not plot.y.low <= plot.mark <= plot.y.high:
        return
    axes.axhline(plot.mark, color=page.ground.ink, linewidth=0.8, linestyle=(0, (4, 3)))
    spot = (axes.get_xlim()[1], plot.mark)
    words = page.fitted(plot.mark_words, (page.right - page.left) * 0.5, 0.8)
    axes.annotate(
        words, spot, xytext=(-2, -2), textcoords="offset points", ha="right", va="top",
        fontsize=page.points * 0.8, color=page.ground.dim, parse_math=False,
    )  # fmt: skip
