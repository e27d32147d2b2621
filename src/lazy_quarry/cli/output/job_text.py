"""Jobs as text for people: the table, one job, why it waits."""

from __future__ import annotations

import shlex
import time
from collections.abc import Iterator
from datetime import UTC, tzinfo
from itertools import islice
from typing import TYPE_CHECKING

from lazy_quarry.core.units import (
    clock_time,
    fold_names,
    format_bytes,
    format_core_hours,
    format_cpu,
    format_duration,
    format_size,
    plural,
)
from lazy_quarry.errors import QuarryError
from lazy_quarry.wording.job_columns import JOB_COLUMNS
from lazy_quarry.wording.sentences import (
    copying_words,
    now_words,
    ordinal,
    outlier_words,
    sooner_words,
    spans_words,
    spread_told,
    spread_words,
    standing_words,
    start_words,
    state_words,
    took_words,
)

if TYPE_CHECKING:
    from lazy_quarry.views.job_detail import JobDetail, TasksTold
    from lazy_quarry.views.job_view import JobView

COLUMNS = {column.name: column for column in JOB_COLUMNS if column.name}


def jobs_table(views: list[JobView], columns: str, zone: tzinfo = UTC) -> list[str]:
    """Lines of a table; nothing is cut. Raises :class:`QuarryError` for a column that isn't there."""
    chosen = [name.strip() for name in (columns or "job,name,state,words,cores,queue,nodes").split(",")]
    for name in chosen:
        if name not in COLUMNS:
            raise QuarryError(f'there is no column "{name}"; there are {", ".join(COLUMNS)}')
    if not views:
        return ["no jobs"]
    now_ms, columns_of = int(time.time() * 1000), [COLUMNS[name] for name in chosen]
    rows = [[(one.lists or one.says)(view, now_ms, zone) for one in columns_of] for view in views]
    widths = [max(len(name), *(len(row[at]) for row in rows)) for at, name in enumerate(chosen)]
    lines = []
    for row in [chosen, *rows]:
        cells = zip(chosen, row, widths, strict=True)
        padded = [cell.rjust(width) if COLUMNS[name].figure else cell.ljust(width) for name, cell, width in cells]
        lines.append("  ".join(padded).rstrip())
    return lines


def show_lines(detail: JobDetail, zone: tzinfo = UTC) -> list[str]:
    """A job for people: verdict, what was asked and used, where it prints, its record."""
    view = detail.view
    now = int(time.time() * 1000)
    words = state_words(view, now, zone)
    state = words if words.startswith(view.phase.value) else f"{view.phase}, {words}"
    lines = [f"{view.label} {view.name}   {view.phase.sign} {state}"]
    if detail.verdict:
        lines.append(detail.verdict)
    if view.copying is not None:
        words = copying_words(view.copying)
        lines.append(f"{words[:1].upper()}{words[1:]}.")
    if view.why:
        lines.append(f"Waits: {view.why}")
    if view.range is not None and (start := start_words(view, now, zone)):
        lines.append(f"Likely starts {start}.")
    changes = detail.explained.changes if detail.explained else ()
    lines += [words for _, words in islice(sooner_words(view, changes, now, zone), 2)]
    lines += ["", f"  account    {view.account}, queue {view.queue}, tier {view.tier}"]
    if view.arguments:
        lines.append(f"  arguments  {shlex.join(view.arguments)}")
    if view.replaces:
        lines.append(f"  again      it runs {view.replaces.label} again")
    if view.replaced_by:
        lines.append(f"  again      it ran again as {view.replaced_by.label}")
    if detail.again:
        lines.append(f"  now        {now_words(detail)}")
    if spans := spans_words(view):
        lines.append(f"  time       {spans}")
    lines += _used_by_tasks(detail.told) if detail.told else _used(view)
    lines += [f"  charge     {format_core_hours(view.charge_core_ms)} core-hours", f"  output     {view.output}"]
    if view.errors != view.output:
        lines.append(f"  errors     {view.errors}")
    lines += _told(view)
    if detail.host is not None:
        lines.append(f"  host       {detail.host.words}")
    for one in detail.evidence.files if detail.evidence else ():
        lines.append(f"  promised   {one.path}: {one.problem or f'{format_bytes(one.size)}, {one.kind}'}")
    for line in detail.evidence.errors if detail.evidence else ():
        lines.append(f"  printed    {line[:160]}")
    lines += ["", *(f"  {clock_time(record.at_ms, now, zone)}  {record.what}" for record in detail.record)]
    return lines


def _told(view: JobView) -> Iterator[str]:
    """Its parts, and the tasks that it spread, as it told of them."""
    inside = view.inside
    for part in inside.parts if inside is not None else ():
        how = "under way" if not part.over else part.signal or f"exit {part.exit}"
        above = f", in {inside.parts[part.above].name}" if inside is not None and part.above >= 0 else ""
        used = f", {format_cpu(part.cpu_ms)} of CPU, {format_size(part.memory_peak_mib)}" if part.over else ""
        yield f"  {part.kind:<9}  {part.name}: {how}, {took_words(part.took_ms)}{used}{above}"
    if inside is not None and inside.spread is not None:
        yield f"  spread     {spread_told(inside.spread)}"


def _used(view: JobView) -> Iterator[str]:
    if view.rows:
        asked = f"{format_duration(view.walltime_s)}, {plural(view.cores, 'core')}, {format_size(view.memory_mib)}"
        yield f"  asked      {asked} for each task"
        return
    yield f"  walltime   {format_duration(view.attempt_s)} of {format_duration(view.walltime_s)}"
    where = fold_names(view.nodes) or ("no node" if view.phase.final else "no node yet")
    yield f"  cores      {view.cores} on {where}, {format_cpu(view.use.cpu_ms)} of CPU"
    yield f"  memory     {format_size(view.use.memory_peak_mib)} at most, of {format_size(view.memory_mib)}"
    if view.scratch_mib or view.use.scratch_mib:
        asked = f", of {format_size(view.scratch_mib)}" if view.scratch_mib else ""
        yield f"  scratch    {format_size(view.use.scratch_mib)} at its end{asked}"
    yield f"  read       {format_bytes(view.use.read_bytes)}, written {format_bytes(view.use.written_bytes)}"
    for one in view.parts:
        cpu, memory = format_cpu(one.use.cpu_ms), format_size(one.use.memory_peak_mib)
        moved = f"{format_bytes(one.use.read_bytes)} read, {format_bytes(one.use.written_bytes)} written"
        yield f"  {one.node:<9}  {cpu} of CPU, {memory} at most, {moved}"


def _used_by_tasks(told: TasksTold) -> Iterator[str]:
    """Lines about the use of tasks, each of what one asked for."""
    yield f"  each task  of the {told.ran:,} that ran, against what one asks for:"
    yield f"  walltime   {spread_words(told.took_s, format_duration)}; of {format_duration(told.walltime_s)}"
    yield f"  cores      {spread_words(told.busy, '{:.1f}'.format)} busy; of {told.cores}, on {fold_names(told.nodes)}"
    yield f"  memory     {spread_words(told.memory_mib, format_size)}; of {format_size(told.asked_mib)}"
    moved = f"{format_bytes(told.read_bytes)} read, {format_bytes(told.written_bytes)} written"
    yield f"  together   {format_cpu(told.cpu_ms)} of CPU, {moved}"
    for cause in told.causes:
        yield f"  failed     {cause.words}; {', '.join(cause.labels)}"
    for one in told.outliers:
        yield f"  unlike     {outlier_words(one)}"


def why_lines(detail: JobDetail, zone: tzinfo = UTC, now_ms: int | None = None) -> Iterator[str]:
    """Lines about what a job waits for, its standing, who is ahead, and what would help; as of this instant, or of now."""
    view, told = detail.view, detail.explained
    yield f"{view.label} {view.name}: {detail.why}"
    now_ms = int(time.time() * 1000) if now_ms is None else now_ms
    if start := start_words(view, now_ms, zone):
        yield f"likely it starts {start}"
    if told is None:
        return
    for change, words in sooner_words(view, told.changes, now_ms, zone):
        settings = " ".join(f"--set {key}={shlex.quote(value)}" for key, value in change.set)
        yield f"{words}  (lazy-quarry change {view.label} {settings})"
    if told.place is None:
        return
    yield f"{ordinal(told.place)} in the queue; {standing_words(told.parts)}"
    for one in told.ahead:
        yield f"  {one.words}"
