"""The columns of jobs that there is room for in Watch."""

from collections.abc import Mapping

from lazy_quarry.wording.job_columns import JOB_COLUMNS, JobColumn

COLUMNS = {column.title: column for column in JOB_COLUMNS if column.cells}
STATE_CELLS, LEAST_LANE = 26, 40
NUMBER_CELLS = 9


def shown_columns(widths: Mapping[str, int], width: int, scope: str) -> list[tuple[JobColumn, int]]:
    """The columns that there is room for beside the lanes, with their widths, in the order chosen."""
    chosen = dict(widths) or {"name": 18, **({"user": 7} if scope != "mine" and width >= 130 else {}), "cores": 6}
    found, used = [], NUMBER_CELLS + 3 + STATE_CELLS
    for name, cells in chosen.items():
        if name not in COLUMNS:
            continue
        cells = min(cells, 14 if width >= 100 else 12) if width < 130 and name == "name" else cells
        least = 8 if name == "name" else LEAST_LANE  # a row without its name says little, whatever its lane shows
        if used + cells + 2 > width - least:
            break
        found.append((COLUMNS[name], cells))
        used += cells + 2
    return found
