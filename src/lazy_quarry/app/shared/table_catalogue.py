"""The tables that each place offers for taking along: as they are seen, in plain values, as CSV (RFC 4180) or JSON (RFC 8259)."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from lazy_quarry.core.formats.csv_rows import csv_pieces
from lazy_quarry.core.units import HOUR_MS, format_instant
from lazy_quarry.run.writable import write_pieces

if TYPE_CHECKING:
    from lazy_quarry.core.ledger.accounts import AccountLine
    from lazy_quarry.core.ledger.report import Report, Sums, Waste
    from lazy_quarry.run.node.made_files import MadeFiles
    from lazy_quarry.site.mail.mail_folder import Letter
    from lazy_quarry.site.run_comparison import Difference, ResultRow
    from lazy_quarry.views.board import NodeView
    from lazy_quarry.views.chain_views import ChainView
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.job_view import JobView
    from lazy_quarry.views.outcomes import RoomView

Record = dict[str, Any]


class Table(Struct, frozen=True):
    """A table by a name that a file can have; its rows are made when it is saved."""

    name: str
    rows: Callable[[], Iterable[Record]]


def save(table: Table, folder: Path, form: str) -> tuple[Path, int]:
    """Write a table as ``csv`` or ``json`` under a name that is free; gives the file and how many rows it has.

    Raises :class:`QuarryError` where it can't be written.
    """
    rows = list(table.rows())
    path = free_path(folder, table.name, form)
    write_pieces(str(path), csv_pieces(_flat(rows)) if form == "csv" else [json.dumps(rows, indent=1), "\n"])
    return path, len(rows)


def free_path(folder: Path, name: str, form: str) -> Path:
    """A file of this name that is not there yet."""
    plain = "".join(sign if sign.isalnum() or sign in "-_." else "-" for sign in name)
    return next(
        path
        for more in ("", *(f"-{number}" for number in range(2, 100_000)))
        if not (path := folder / f"{plain}{more}.{form}").exists()
    )


def _flat(rows: Sequence[Record]) -> Iterator[list[object]]:
    """A heading, then the cells of each row; what is not one value is written as JSON."""
    names = list(dict.fromkeys(name for row in rows for name in row))
    yield list(names)
    for row in rows:
        cells = (row.get(name) for name in names)
        yield [json.dumps(cell) if isinstance(cell, list | dict) else cell for cell in cells]


def _hours(core_ms: int | None) -> float | None:
    return None if core_ms is None else round(core_ms / HOUR_MS, 6)


def _at(at_ms: int | None) -> str | None:
    return None if at_ms is None else format_instant(at_ms)


def jobs_table(name: str, views: Sequence[JobView]) -> Table:
    """Jobs, with all that ``lq jobs --format json`` says of each."""
    from lazy_quarry.wording.json_form import job_json

    return Table(name, lambda: [job_json(view) for view in views])


def nodes_table(nodes: Sequence[NodeView]) -> Table:
    """Nodes with what is in use of each."""
    return Table(
        "nodes",
        lambda: [
            {
                "node": one.name,
                "queues": " ".join(one.queues),
                "cores": one.cores,
                "cores_used": one.cores_used,
                "memory_mib": one.memory_mib,
                "memory_used_mib": one.memory_used_mib,
                "gpus": one.gpus,
                "gpus_used": one.gpus_used,
                "traits": " ".join(one.traits),
                "closed": one.closed or None,
                "closed_since": _at(one.closed_since_ms),
                "jobs": " ".join(occupant.label for occupant in one.occupants),
            }
            for one in nodes
        ],
    )


def room_table(rooms: Sequence[RoomView]) -> Table:
    """The room now, by queue, walltime and kind."""
    return Table(
        "room-now",
        lambda: [
            {
                "queue": one.queue,
                "kind": one.kind,
                "walltime_s": one.walltime_s,
                "cores": one.cores,
                "nodes": one.nodes,
                "gpus": one.gpus,
            }
            for one in rooms
        ],
    )


def chain_table(view: ChainView) -> Table:
    """The jobs of a chain with their times."""
    return Table(
        f"chain-{view.number or view.name}",
        lambda: [
            {
                "name": one.name,
                "job": one.job or None,
                "state": one.phase.value if one.phase else None,
                "after": " ".join(f"{other}:{condition}" for other, condition in one.after),
                "tasks": one.tasks or None,
                "cores": one.cores,
                "walltime_s": one.walltime_s,
                "starts": _at(one.starts_ms),
                "ends": _at(one.ends_ms),
                "slack_s": None if one.slack_ms is None else one.slack_ms // 1000,
                "critical": one.critical,
            }
            for one in view.parts
        ],
    )


def draft_table(report: DraftReport) -> Table:
    """When a draft would start with other walltimes."""
    return Table(
        f"starts-{report.name or 'draft'}",
        lambda: [
            {
                "walltime_s": one.walltime_s,
                "nodes": one.nodes or None,
                "starts": _at(one.start_ms),
                "asked": one.asked,
                "refused": one.refused or None,
            }
            for one in (*report.starts.ladder, *report.starts.fewer)
        ],
    )


def results_table(name: str, rows: Sequence[ResultRow]) -> Table:
    """A value that was found in the output of each run, with its parameters."""
    return Table(
        f"results-{name}",
        lambda: [
            {
                "job": one.view.label,
                **dict(one.view.parameters),
                "state": one.view.phase.value,
                "seconds": one.view.elapsed_s,
                "value": one.number if one.number is not None else one.value,
                "error": one.wrong or None,
            }
            for one in rows
        ],
    )


def differences_table(labels: Sequence[str], found: Sequence[Difference]) -> Table:
    """The differences between runs."""
    return Table(
        "differences", lambda: [{"what": one.what, **dict(zip(labels, one.values, strict=False))} for one in found]
    )


def files_table(job: int, made: MadeFiles) -> Table:
    """The files that a job made."""
    return Table(
        f"files-{job}",
        lambda: [
            {
                "path": one.path,
                "bytes": one.size,
                "written": _at(one.written_ms),
                "kind": one.kind,
                "problem": one.problem or None,
            }
            for one in made.files
        ],
    )


def letters_table(letters: Sequence[Letter]) -> Table:
    """The mail of a site."""
    return Table(
        "mail",
        lambda: [{"at": _at(one.at_ms), "to": one.to, "state": one.state, "subject": one.subject} for one in letters],
    )


def accounts_table(lines: Sequence[AccountLine]) -> Table:
    """Accounts with what they were charged and have left."""
    return Table(
        "accounts",
        lambda: [
            {
                "account": one.account,
                "jobs": one.jobs,
                "charged_core_hours": _hours(one.charged_core_ms),
                "budget_core_hours": _hours(one.budget_core_ms),
                "left_core_hours": _hours(one.left_core_ms),
            }
            for one in lines
        ],
    )


def _sums(sums: Sums) -> Record:
    return {
        "jobs": sums.jobs,
        "not_done": sums.failed,
        "charged_core_hours": _hours(sums.charged_core_ms),
        "held_core_hours": _hours(sums.held_core_ms),
        "used_core_hours": _hours(sums.used_core_ms),
        "idle_core_hours": _hours(sums.idle_core_ms),
        "lost_core_hours": _hours(sums.lost_core_ms),
    }


def ranking_table(found: Report) -> Table:
    """Who and what was charged in a period."""
    return Table(
        f"use-by-{'-'.join(found.by)}",
        lambda: [{**dict(zip(found.by, row.key, strict=True)), **_sums(row.sums)} for row in found.rows],
    )


def waste_table(found: Waste) -> Table:
    """The requests that were not used."""
    return Table(
        "not-used",
        lambda: [
            {
                "name": row.name,
                "user": row.user,
                "asked_core_hours": _hours(row.sums.asked_core_ms),
                **_sums(row.sums),
                "advised_less_core_hours": _hours(row.advised_core_ms),
            }
            for row in found.rows
        ],
    )
