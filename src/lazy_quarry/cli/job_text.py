"""Jobs as text for people: the table, one job, why it waits."""

from __future__ import annotations

import shlex
import time
from collections.abc import Iterator
from datetime import UTC, tzinfo
from typing import TYPE_CHECKING

from lazy_quarry.core.units import (
    clock_time,
    fold_names,
    format_bytes,
    format_core_hours,
    format_duration,
    format_size,
)
from lazy_quarry.errors import QuarryError
from lazy_quarry.site.sentences import ordinal, standing_words, state_words

if TYPE_CHECKING:
    from lazy_quarry.site.job_detail import JobDetail
    from lazy_quarry.site.job_view import JobView

COLUMNS = {
    "job": lambda view, zone: view.label,
    "name": lambda view, zone: view.name,
    "state": lambda view, zone: f"{view.phase.sign} {view.phase}",
    "words": lambda view, zone: state_words(view, int(time.time() * 1000), zone),
    "user": lambda view, zone: view.user,
    "account": lambda view, zone: view.account,
    "queue": lambda view, zone: view.queue,
    "tier": lambda view, zone: view.tier,
    "cores": lambda view, zone: str(view.cores),
    "nodes": lambda view, zone: fold_names(view.nodes),
    "memory": lambda view, zone: format_size(view.memory_mib),
    "walltime": lambda view, zone: format_duration(view.walltime_s),
    "elapsed": lambda view, zone: format_duration(view.elapsed_s),
    "submitted": lambda view, zone: clock_time(view.submitted_ms, int(time.time() * 1000), zone),
    "charge": lambda view, zone: format_core_hours(view.charge_core_ms),
    "exit": lambda view, zone: "" if view.exit is None else str(view.exit),
    "why": lambda view, zone: view.why,
    "output": lambda view, zone: view.output,
}
_RIGHT = {"job", "cores", "charge", "exit"}


def jobs_table(views: list[JobView], columns: str, zone: tzinfo = UTC) -> list[str]:
    """Lines of a table; nothing is cut. Raises :class:`QuarryError` for a column that isn't there."""
    chosen = [name.strip() for name in (columns or "job,name,state,words,cores,queue,nodes").split(",")]
    for name in chosen:
        if name not in COLUMNS:
            raise QuarryError(f'there is no column "{name}"; there are {", ".join(COLUMNS)}')
    if not views:
        return ["no jobs"]
    rows = [[COLUMNS[name](view, zone) for name in chosen] for view in views]
    widths = [max(len(name), *(len(row[at]) for row in rows)) for at, name in enumerate(chosen)]
    lines = []
    for row in [chosen, *rows]:
        cells = zip(chosen, row, widths, strict=True)
        padded = [cell.rjust(width) if name in _RIGHT else cell.ljust(width) for name, cell, width in cells]
        lines.append("  ".join(padded).rstrip())
    return lines


def show_lines(detail: JobDetail, zone: tzinfo = UTC) -> list[str]:
    """A job for people: verdict, what was asked and used, where it prints, its record."""
    view = detail.view
    now = int(time.time() * 1000)
    lines = [f"{view.label} {view.name}   {view.phase.sign} {view.phase}, {state_words(view, now, zone)}"]
    if detail.verdict:
        lines.append(detail.verdict)
    if view.why:
        lines.append(f"Waits: {view.why}")
    if detail.instead:
        lines.append(detail.instead)
    took = format_duration(view.elapsed_s)
    used = f"{view.use.cpu_ms / 1000:.1f}s of CPU"
    lines += [
        "",
        f"  account    {view.account}, queue {view.queue}, tier {view.tier}",
        f"  walltime   {took} of {format_duration(view.walltime_s)}",
        f"  cores      {view.cores} on {fold_names(view.nodes) or 'no node yet'}, {used}",
        f"  memory     {format_size(view.use.memory_peak_mib)} at most, of {format_size(view.memory_mib)}",
        f"  read       {format_bytes(view.use.read_bytes)}, written {format_bytes(view.use.written_bytes)}",
        f"  charge     {format_core_hours(view.charge_core_ms)} core-hours",
        f"  output     {view.output}",
    ]
    if view.errors != view.output:
        lines.append(f"  errors     {view.errors}")
    lines += ["", *(f"  {clock_time(record.at_ms, now, zone)}  {record.what}" for record in detail.record)]
    return lines


def why_lines(detail: JobDetail) -> Iterator[str]:
    """What a job waits for, its standing, who is ahead, and what would help."""
    view, told = detail.view, detail.explained
    yield f"{view.label} {view.name}: {view.why}"
    if told is None:
        return
    for change in told.changes:
        settings = " ".join(f"--set {key}={shlex.quote(value)}" for key, value in change.set)
        yield f"{change.words}  (lazy-quarry change {view.label} {settings})"
    if told.place is None:
        return
    yield f"{ordinal(told.place)} in the queue, standing {standing_words(told.parts)}"
    for one in told.ahead:
        yield f"  {one.words}"
