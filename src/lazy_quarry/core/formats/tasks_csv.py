"""The tasks of a sweep as CSV (RFC 4180)."""

import csv
import io
from collections.abc import Iterator

from lazy_quarry.core.job.expansion import Expansion


def tasks_csv(found: Expansion, first: int = 0, most: int | None = None) -> Iterator[str]:
    """A piece at a time: task, parameters, command, output, errors, other files; in the present order."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["task", *found.names, "command", "output", "errors", "writes"])
    for task in found.rows(first, most):
        values = [value for _, value in task.parameters]
        writer.writerow([task.number, *values, task.command, task.output, task.errors, " ".join(task.writes)])
        if out.tell() > 1 << 16:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()
