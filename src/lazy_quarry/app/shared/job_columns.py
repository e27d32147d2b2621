"""The columns that jobs may have in Watch."""

import shlex
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import tzinfo

from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import clock_time, core_hours_cell, fold_names, format_duration, format_size
from lazy_quarry.views.job_view import JobView


@dataclass(frozen=True, slots=True)
class Column:
    """A column that may stand between a job's number and its state: its heading, its width, what it says."""

    name: str
    width: int
    right: bool
    says: Callable[[JobView, int, tzinfo], str]
    """What it says of a job, at an instant in a zone."""
    sorts: str = ""
    """The field of a search by which it can be sorted."""


def _time(at_ms: int | None, now_ms: int, zone: tzinfo) -> str:
    return "" if at_ms is None else clock_time(at_ms, now_ms, zone)


def _waited(view: JobView, now_ms: int) -> str:
    return format_duration(view.waited_ms(now_ms) / 1000)


def _peak(view: JobView) -> str:
    return format_size(view.memory_peak_mib) if view.memory_peak_mib else ""


COLUMNS = {
    column.name: column
    for column in (
        Column("name", 18, False, lambda view, now, zone: view.name, "name"),
        Column("user", 7, False, lambda view, now, zone: view.user, "user"),
        Column("account", 11, False, lambda view, now, zone: view.account, "account"),
        Column("queue", 8, False, lambda view, now, zone: view.queue, "queue"),
        Column("tier", 7, False, lambda view, now, zone: view.tier, "tier"),
        Column("cores", 6, True, lambda view, now, zone: f"{view.cores:,}", "cores"),
        Column("memory", 9, True, lambda view, now, zone: format_size(view.memory_mib), "requested-memory"),
        Column("walltime", 8, True, lambda view, now, zone: format_duration(view.walltime_s), "walltime"),
        Column("nodes", 12, False, lambda view, now, zone: fold_names(view.nodes or view.forecast_nodes)),
        Column("submitted", 12, False, lambda view, now, zone: _time(view.submitted_ms, now, zone), "submitted"),
        Column("started", 12, False, lambda view, now, zone: _time(view.started_ms, now, zone), "started"),
        Column("ended", 12, False, lambda view, now, zone: _time(view.ended_ms, now, zone), "ended"),
        Column("waited", 8, True, lambda view, now, zone: _waited(view, now), "waited"),
        Column("took", 9, True, lambda view, now, zone: format_duration(view.elapsed_s), "took"),
        Column("peak", 9, True, lambda view, now, zone: _peak(view), "memory"),
        Column("CPU", 9, True, lambda view, now, zone: format_duration(view.use.cpu_ms / 1000), "cpu"),
        Column("exit", 5, True, lambda view, now, zone: "" if view.exit is None else str(view.exit), "exit"),
        Column("parameters", 20, False, lambda view, now, zone: values_words(view.parameters)),
        Column("arguments", 20, False, lambda view, now, zone: shlex.join(view.arguments)),
        Column("charged", 9, True, lambda view, now, zone: core_hours_cell(view.charge_core_ms), "charge"),
    )
}
STATE_CELLS, LEAST_LANE = 26, 40
NUMBER_CELLS = 9


def shown_columns(widths: Mapping[str, int], width: int, scope: str) -> list[tuple[Column, int]]:
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
