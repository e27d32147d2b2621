"""A sweep as a field: a cell a task, its parameters along both sides."""

from collections.abc import Iterable, Mapping
from datetime import UTC, tzinfo
from itertools import product
from math import prod

from lazy_quarry.core.job.expansion import Expansion
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.core.job.sweep import Array, Parameter
from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import plural
from lazy_quarry.draw.time_scale import source_words
from lazy_quarry.draw.values import Cell, Field, Figure
from lazy_quarry.views.job_view import JobView

MOST_ROWS, MOST_COLUMNS = 60, 60
STATES = (
    ("done", "done"),
    ("mine", "running"),
    ("failed", "failed"),
    ("held", "cancelled or skipped"),
    ("expected", "not started"),
    ("clash", "writes a file that another one writes"),
)


def expansion_figure(
    found: Expansion, site: str, now_ms: int, zone: tzinfo = UTC, states: Mapping[int, str] | None = None
) -> Figure:
    """The tasks of an array. ``states`` are roles by task number, of one that was submitted; the others haven't started."""
    array = found.array
    rows, columns, across = _sides(array)
    clashing = found.clashing() if states is None else set[int]()
    cells = []
    for row in range(min(rows, MOST_ROWS)):
        for column in range(min(columns, MOST_COLUMNS)):
            place = row * columns + column
            if place >= array.count:
                break
            number = array.number(place)
            role = "clash" if number in clashing else (states or {}).get(number, "expected")
            cells.append(Cell(row, column, role, str(number)))
    used = {cell.role for cell in cells}
    note = plural(array.count, "task")
    if rows > MOST_ROWS or columns > MOST_COLUMNS:
        note += f"; the first {min(rows, MOST_ROWS)} rows and {min(columns, MOST_COLUMNS)} columns"
    if across:
        left, right = array.groups[:-1], array.groups[-1:]
        row_labels, column_labels = _labels(left, MOST_ROWS), _labels(right, MOST_COLUMNS)
        sides = _names(left), _names(right)
    else:
        row_labels = [f"{array.number(row * columns)}" for row in range(min(rows, MOST_ROWS))]
        column_labels, sides = ["" for _ in range(columns)], ("first task", "tasks in turn")
        if len(array.groups) == 1:
            row_labels = [values_words(list(array.values(row).items())) for row in range(min(rows, MOST_ROWS))]
            sides = (_names(array.groups), "")
    return Figure(
        name=f"tasks-{found.request.name}",
        title=f"The tasks of {found.request.name}",
        note=note,
        panel=Field(tuple(row_labels), tuple(column_labels), tuple(cells), *sides),
        source=source_words(site, now_ms, zone),
        legend=tuple((role, words) for role, words in STATES if role in used),
    )


_ROLES = {Phase.DONE: "done", Phase.RUNNING: "mine", Phase.CANCELLED: "held", Phase.SKIPPED: "held"}


def states_of(tasks: Iterable[JobView]) -> dict[int, str]:
    """The roles of tasks that have started or ended, by their numbers."""
    return {
        one.task: _ROLES.get(one.phase, "failed" if one.phase.final else "expected")
        for one in tasks
        if one.task is not None
    }


def _sides(array: Array) -> tuple[int, int, bool]:
    """Rows, columns, and whether the last group of parameters goes across."""
    if len(array.groups) > 1:
        columns = len(array.groups[-1][0].values)
        return prod(len(group[0].values) for group in array.groups[:-1]), columns, True
    if array.groups:
        return array.count, 1, False
    columns = next((most for most in (10, 20, 50) if array.count <= most * 20), 50)
    return -(-array.count // columns), min(columns, array.count), False


def _names(groups: tuple[tuple[Parameter, ...], ...]) -> str:
    return ", ".join(one.name for group in groups for one in group)


def _labels(groups: tuple[tuple[Parameter, ...], ...], most: int) -> list[str]:
    """The values of crossed groups, the last one fastest."""
    labels: list[str] = []
    for places in product(*(range(len(group[0].values)) for group in groups)):
        if len(labels) == most:
            break
        labels.append(", ".join(one.values[at] for group, at in zip(groups, places, strict=True) for one in group))
    return labels
