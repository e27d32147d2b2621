"""Draws lanes. A job's lane shows its waiting, running, remaining walltime and forecast; a node's lane shows its use."""

from collections.abc import Sequence

from lazy_quarry.app.shared.axis import Axis
from lazy_quarry.app.shared.cells import QUIET_SIGN, Pen
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import range_now

LEVELS = "▁▂▃▄▅▆▇█"


def draw_node_lane(
    pen: Pen,
    held: list[tuple[int, int, int, str]],
    cores: int,
    axis: Axis,
    width: int,
    *,
    closed: bool = False,
    quiet_since_ms: int | None = None,
) -> None:
    """Draw how many of a node's cores were, are and will be taken, in the colour of who has most of them.

    What is free of a closed node from now on is hatched. Since a node doesn't answer nobody knows what goes on there: from then
    on all of it is drawn in strokes, those of its jobs in their colours.
    """
    if width <= 0:
        return
    ticks = {column for column, _ in axis.ticks(width)}
    now = axis.column(axis.now_ms, width)
    quiet = width if quiet_since_ms is None else axis.column(quiet_since_ms, width)
    step = axis.span_ms / width
    tones = {"mine": "ochre", "accounts": "moss", "others": "stone", "expected": "river"}
    sums: list[dict[str, int]] = [{} for _ in range(width)]
    for begin, end, amount, owner in held:
        first, last = max(0, axis.column(begin, width)), min(width, int((end - axis.begin_ms) / step) + 1)
        for column in range(first, last):
            at = axis.begin_ms + (column + 0.5) * step
            if begin <= at < end:
                sums[column][owner] = sums[column].get(owner, 0) + amount
    for column, owners in enumerate(sums):
        taken = sum(owners.values())
        if column == now:
            pen.write("│", "ink")
        elif column >= quiet:
            pen.write(QUIET_SIGN, tones[max(owners, key=lambda owner: owners[owner])] if taken else "rust")
        elif taken and set(owners) == {"expected"}:
            pen.write("░", "river")
        elif taken:
            level = LEVELS[max(0, min(7, taken * 8 // max(1, cores) - (taken * 8 % max(1, cores) == 0)))]
            pen.write(level, tones[max(owners, key=lambda owner: owners[owner])])
        elif closed and column > now:
            pen.write("▚", "rust")
        else:
            pen.write("┊" if column in ticks else "·", "faint")


def draw_lane(pen: Pen, view: JobView, axis: Axis, width: int, own: str) -> None:
    """One job on the axis: waited thin, ran solid, may still run shaded, expected outlined, end sign.

    ``own`` is the colour of whose it is.
    """
    _write(pen, _lane(pen, view, axis, width, own))


_WEAKEST_FIRST = " ┊╌·░▸│╱▒█"
"""Signs by strength: of several at one place the strongest is shown; the sign of an end is stronger than all."""


def draw_lanes(pen: Pen, views: Sequence[JobView], axis: Axis, width: int, own: str) -> None:
    """Several jobs on one lane: at each place what is most of it."""
    cells = [(" ", "faint")] * width
    for view in views:
        for column, cell in enumerate(_lane(pen, view, axis, width, own)):
            if _strength(cell[0]) > _strength(cells[column][0]):
                cells[column] = cell
    _write(pen, cells)


def _strength(sign: str) -> int:
    return _WEAKEST_FIRST.find(sign) % 100


def _lane(pen: Pen, view: JobView, axis: Axis, width: int, own: str) -> list[tuple[str, str]]:
    cells = [(" ", "faint")] * width
    for column, _ in axis.ticks(width):
        if 0 <= column < width:
            cells[column] = ("┊", "faint")

    def fill(begin_ms: int, end_ms: int, sign: str, colour: str) -> None:
        begin, end = axis.column(begin_ms, width), axis.column(end_ms, width)
        for column in range(max(0, begin), min(width, max(end, begin + 1))):
            cells[column] = (sign, colour)

    now = axis.now_ms
    ends = view.started_ms or view.ended_ms or now
    fill(view.submitted_ms, min(ends, now), "╌", "dim")
    if view.started_ms is not None:
        if view.phase is Phase.RUNNING:
            limit = view.started_ms + view.walltime_s * 1000
            if view.rows and view.forecast_ms is not None and view.forecast_end_ms is not None:
                limit = view.forecast_ms  # of an array: when what runs of it must be over, and then the rest
                if view.forecast_end_ms > limit:
                    fill(limit, view.forecast_end_ms, "░", "river")
            fill(view.started_ms, now, "█", own)
            fill(now, max(limit, now), "▒", own)
            if view.quiet_since_ms is not None:
                fill(max(view.started_ms, view.quiet_since_ms), max(limit, now), QUIET_SIGN, own)
        elif view.ended_ms is not None:
            fill(view.started_ms, view.ended_ms, "█", "stone")
    elif view.forecast_ms is not None and view.forecast_end_ms is not None:
        fill(now, view.forecast_ms, "╌", "faint")
        ranged = range_now(view.range, now)
        if ranged is not None:
            fill(ranged.early_ms, ranged.late_ms, "·", "river")
        fill(view.forecast_ms, view.forecast_end_ms - view.grace_s * 1000, "░", "river")
        if ranged is not None:
            fill(ranged.likely_ms, ranged.likely_ms, "▸", "river")
    line = axis.column(now, width)
    if 0 <= line < width and cells[line][0] not in "█▒╱":
        cells[line] = ("│", "ink")
    if view.ended_ms is not None:
        at = axis.column(view.ended_ms, width)
        if 0 <= at < width:
            cells[at] = (view.phase.sign, pen.palette.of_phase(view.phase))
    return cells


def _write(pen: Pen, cells: list[tuple[str, str]]) -> None:
    begin, width = 0, len(cells)
    for column in range(1, width + 1):  # neighbours alike are written at once
        if column == width or cells[column] != cells[begin]:
            sign, colour = cells[begin]
            pen.write(sign * (column - begin), colour)
            begin = column
