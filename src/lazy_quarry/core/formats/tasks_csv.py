"""The tasks of a sweep as CSV."""

from collections.abc import Iterator

from lazy_quarry.core.formats.csv_rows import csv_pieces
from lazy_quarry.core.job.expansion import Expansion


def tasks_csv(found: Expansion, first: int = 0, most: int | None = None) -> Iterator[str]:
    """A piece at a time: task, parameters, command, output, errors, other files; in the present order."""

    def rows() -> Iterator[list[object]]:
        yield ["task", *found.names, "command", "output", "errors", "writes"]
        for task in found.rows(first, most):
            values = [value for _, value in task.parameters]
            yield [task.number, *values, task.command, task.output, task.errors, " ".join(task.writes)]

    return csv_pieces(rows())
