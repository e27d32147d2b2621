"""The JSON that ``--format json`` prints: one form for a job wherever it is listed."""

import time
from typing import Any

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.job.by import NOBODY
from lazy_quarry.core.job.copying import Copying
from lazy_quarry.core.job.node_use import NodeUse
from lazy_quarry.core.units import HOUR_MS, format_instant
from lazy_quarry.views.board import Board
from lazy_quarry.views.draft_view import DraftReport
from lazy_quarry.views.foretold import Foretold
from lazy_quarry.views.job_detail import JobDetail, Record
from lazy_quarry.views.job_view import JobView, StartRange
from lazy_quarry.views.outcomes import RoomView
from lazy_quarry.wording.sentences import outcome_reason, verdict


def _instant(at_ms: int | None) -> str | None:
    return None if at_ms is None else format_instant(at_ms)


def _number(label: str) -> int | str:
    """A job's number; a task as ``4127/5``."""
    return int(label) if label.isdecimal() else label


def foretold_json(found: Foretold) -> dict[str, Any]:
    """The outcome of an act before it is done; core-hours, instants as RFC 3339 or null."""
    return {
        "refused": found.refused or None,
        "most_core_hours": round(found.most_core_ms / HOUR_MS, 6),
        "left_core_hours": None if found.left_core_ms is None else round(found.left_core_ms / HOUR_MS, 6),
        "jobs": [
            {
                "name": one.name,
                "tasks": one.tasks or None,
                "cores": one.cores,
                "walltime_s": one.walltime_s,
                "queue": one.queue,
                "account": one.account,
                "most_core_hours": round(one.most_core_ms / HOUR_MS, 6),
                "starts": _instant(one.start_ms),
            }
            for one in found.jobs
        ],
    }


def range_json(known: StartRange | None) -> dict[str, Any]:
    """When it starts 8 times in 10, and most likely; null while that isn't known."""
    early, late, likely = (known.early_ms, known.late_ms, known.likely_ms) if known else (None, None, None)
    return {
        "forecast_early": _instant(early),
        "forecast_late": _instant(late),
        "forecast_likely": _instant(likely),
    }


def job_json(view: JobView) -> dict[str, Any]:
    """A job; instants are RFC 3339 or null, ``cores``, ``memory_mib`` and ``gpus`` totals of the job."""
    return {
        "job": view.parent or view.job,
        "task": view.task,
        "name": view.name,
        "state": view.phase.value,
        "user": view.user,
        "account": view.account,
        "queue": view.queue,
        "tier": view.tier,
        "submitted": _instant(view.submitted_ms),
        "started": _instant(view.started_ms),
        "ended": _instant(view.ended_ms),
        "forecast": _instant(view.forecast_ms),
        **range_json(view.range),
        "why": view.why or None,
        "nodes": list(view.nodes),
        "cores": view.cores,
        "gpus": view.gpus,
        "memory_mib": view.memory_mib,
        "walltime_s": view.walltime_s,
        "elapsed_s": view.elapsed_s,
        "attempt_s": view.attempt_s,
        "waited_s": view.waited_ms(int(time.time() * 1000)) // 1000,
        "cpu_s": round(view.cpu_ms / 1000, 3),
        "memory_peak_mib": view.use.memory_peak_mib,
        **({"memory_peak_at": _instant(view.curve.peak_ms)} if view.curve else {}),
        "scratch_mib": view.scratch_mib,
        "scratch_used_mib": view.use.scratch_mib,
        "read_bytes": view.use.read_bytes,
        "written_bytes": view.use.written_bytes,
        **({"copying": _copying(view.copying)} if view.copying is not None else {}),
        **({"quiet_since": _instant(view.quiet_since_ms)} if view.phase == "running" else {}),
        **({"warning": view.warning or None} if view.phase == "running" else {}),
        "exit": view.exit,
        "signal": view.signal,
        "reason": view.reason or None,
        **({"planned": view.planned} if view.phase == "skipped" else {}),
        **({"replaced_by": view.replaced_by.label} if view.replaced_by else {}),
        **({"replaces": view.replaces.label} if view.replaces else {}),
        "outcome_reason": outcome_reason(view) or None,
        "verdict": verdict(view) or None if view.phase.final else None,
        "attempt": view.attempt,
        "charge_core_hours": round(view.charge_core_ms / HOUR_MS, 6),
        "output": view.output,
        "errors": view.errors,
        "cores_by_node": {node: list(cores) for node, cores in view.cores_by_node.items()},
        "by_node": [_by_node(one) for one in view.by_node],
        **({"parameters": dict(view.parameters)} if view.parameters else {}),
        "arguments": list(view.arguments),
        **({"counts": dict(view.counts)} if view.rows else {}),
        **inside_json(view),
    }


def _copying(copy: Copying) -> dict[str, Any]:
    return {"way": copy.way, "done": copy.done, "total": copy.total, "left_s": copy.left_s}


_HOST = ("name", "kernel", "processor", "limits", "version", "python")


def _by_node(one: NodeUse) -> dict[str, Any]:
    return {
        "node": one.node,
        "cpu_s": round(one.use.cpu_ms / 1000, 3),
        "memory_peak_mib": one.use.memory_peak_mib,
        "read_bytes": one.use.read_bytes,
        "written_bytes": one.use.written_bytes,
        "exit": one.exit,
        "signal": one.signal,
    }


def _evidence(detail: JobDetail) -> dict[str, Any]:
    """The last lines that tell of errors, and the promised files as they are."""
    found = detail.evidence
    if found is None:
        return {}
    files = [
        {
            "path": one.path,
            "size": one.size,
            "written": _instant(one.written_ms or None),
            "kind": one.kind or None,
            "problem": one.problem or None,
        }
        for one in found.files
    ]
    return {"error_lines": list(found.errors), "files": files}


def _groups(detail: JobDetail) -> dict[str, Any]:
    """Groups of an array's tasks: those that failed alike, with why, and those that are unlike the rest."""
    if detail.told is None:
        return {}
    return {
        "causes": [
            {
                "how": cause.how,
                "count": cause.count,
                "of": cause.of,
                "shared": {name: list(values) for name, values in cause.shared},
                "every": cause.every,
                "tasks": list(cause.labels),
            }
            for cause in detail.told.causes
        ],
        "outliers": [
            {
                "task": one.label,
                "parameters": dict(one.parameters),
                "measure": {"took_s": "elapsed_s", "memory_mib": "memory_peak_mib"}[one.measure],
                "value": one.value,
                "median": one.usual,
            }
            for one in detail.told.outliers
        ],
    }


def _inputs(detail: JobDetail) -> list[dict[str, Any]]:
    return [{"path": path, "size": size, "written": _instant(at)} for path, size, at in detail.inputs]


def _samples(view: JobView) -> list[dict[str, Any]]:
    """Its use over its time: each point is the mean of the cores and the most memory of the time around it."""
    samples = view.curve.samples if view.curve else []
    return [{"at": _instant(at), "cores": cores, "memory_mib": memory} for at, cores, memory in samples]


def inside_json(view: JobView) -> dict[str, Any]:
    """Its parts and the tasks that it spread, where it told of any; ``above`` is the place of the part around one, or null."""
    if view.inside is None:
        return {}
    parts, spread = view.inside.parts, view.inside.spread
    told: dict[str, Any] = {
        kind: [
            {
                "name": part.name,
                "began": format_instant(part.began_ms),
                "seconds": round(part.took_ms / 1000, 3),
                "cpu_s": round(part.cpu_ms / 1000, 3),
                "memory_peak_mib": part.memory_peak_mib,
                "read_bytes": part.read_bytes,
                "written_bytes": part.written_bytes,
                "exit": part.exit,
                "signal": part.signal,
                "above": None if part.above < 0 else parts[part.above].name,
                "over": part.over,
            }
            for part in parts
            if part.kind == one
        ]
        for kind, one in (("phases", "phase"), ("ranks", "rank"))
    }
    if spread is not None:
        counts = {"done": spread.done, "failed": spread.failed, "stopped": spread.stopped}
        told["spread"] = {"tasks": spread.tasks, **counts, "under_way": spread.running, "waiting": spread.waiting}
    return {key: value for key, value in told.items() if value}


def detail_json(detail: JobDetail) -> dict[str, Any]:
    """A job with its record and its script."""
    return job_json(detail.view) | {
        "verdict": detail.verdict or None,
        "outcome_reason": outcome_reason(detail.view, detail.silent) or None,
        **_evidence(detail),
        "instead": detail.instead or None,
        "directory": detail.directory,
        **({"host": {key: getattr(detail.host, key) or None for key in _HOST}} if detail.host else {}),
        "path": detail.script_path or None,
        "set": list(detail.overrides),
        "script": detail.script,
        **({"tasks": [job_json(task) for task in detail.tasks]} if detail.view.rows else {}),
        **({"counts_now": dict(detail.counts_now)} if detail.again else {}),
        **_groups(detail),
        **({"inputs": _inputs(detail)} if detail.inputs else {}),
        **({"samples": _samples(detail.view)} if detail.view.curve else {}),
        "events": [_event(record) for record in detail.record],
    }


def _event(record: Record) -> dict[str, Any]:
    """A line of a job's record; ``by`` is null for what happened by itself."""
    by = record.by
    told = {"user": by.user or None, "where": by.where or None, "why": by.why or None}
    return {"at": format_instant(record.at_ms), "what": record.what, "by": told if by != NOBODY else None}


def why_json(detail: JobDetail) -> dict[str, Any]:
    """The reason why a job waits, its start and the ends before it, its standing in hours, who is ahead, what would help."""
    view, told = detail.view, detail.explained
    plain: dict[str, Any] = {"job": view.parent or view.job, "task": view.task, "why": detail.why or None}
    plain |= {"forecast": _instant(view.forecast_ms), **range_json(view.range), "instead": detail.instead or None}
    if told is None:
        return plain | {"waits_for": None, "after": [], "place": None, "standing": None, "ahead": [], "changes": []}
    hours = {name: round(value, 4) for name, value in told.parts.named()}
    return plain | {
        "waits_for": told.why.kind,
        "after": [_number(label) for label in told.why.ends],
        "place": told.place,
        "standing": {"hours": round(told.parts.total, 4), **hours},
        "ahead": [
            {"job": one.job, "name": one.name, "user": one.user, "hours": round(one.hours, 4), "words": one.words}
            for one in told.ahead
        ],
        "changes": [
            {"set": dict(one.set), "forecast": _instant(one.start_ms), "words": one.words} for one in told.changes
        ],
    }


def diagnostic_json(file: str, one: Diagnostic) -> dict[str, Any]:
    """A finding; ``fix`` says in words what the fix does, or is null."""
    return {
        "file": file,
        "line": one.line,
        "column": one.column,
        "severity": one.severity.value,
        "code": one.code,
        "message": one.message,
        "fix": one.fix.label if one.fix else None,
    }


def report_json(file: str, report: DraftReport) -> dict[str, Any]:
    """The report on a draft; instants RFC 3339 or null, ``placement`` its first 64 nodes."""
    return {
        "checks": [diagnostic_json(file, one) for one in report.diagnostics],
        "queue": report.place.queue,
        "account": report.cost.account,
        "nodes": report.place.node_count or report.shape.nodes,
        "ranks": report.shape.ranks,
        "threads": report.shape.threads,
        "cores": report.shape.cores,
        "memory_mib": report.shape.memory_mib,
        "walltime_s": report.shape.walltime_s,
        "tasks": report.shape.tasks or None,
        "forecast": _instant(report.place.start_ms),
        "obstacle": report.place.obstacle or None,
        **range_json(report.range),
        "placement": [{"node": one.node, "ranks": one.ranks, "cores": list(one.own)} for one in report.place.nodes],
        "ladder": [
            {
                "walltime_s": rung.walltime_s,
                "nodes": rung.nodes or None,
                "asked": rung.asked,
                "forecast": _instant(rung.start_ms),
                "refused": rung.refused or None,
            }
            for rung in (*report.starts.ladder, *report.starts.fewer)
        ],
        "through": [
            {"at_once": one.at_once, "asked": one.asked, "last": _instant(one.last_ms), "reckoned": one.estimated}
            for one in report.starts.finish
        ],
        "cost_core_hours": round(report.cost.most_core_ms / HOUR_MS, 6),
        "left_core_hours": None if report.cost.left_core_ms is None else round(report.cost.left_core_ms / HOUR_MS, 6),
    }


def survey_json(board: Board, rooms: list[RoomView]) -> dict[str, Any]:
    """The parts of a site."""
    share_of = {
        one.account: {"part_due": round(one.due, 4), "part_used": round(one.used, 4)} for one in board.person.shares
    }
    return {
        "site": board.site.name,
        "others_busy": board.others_busy,
        "limits": [
            {"of": bound.kind, "name": bound.name, "what": bound.measure, "in_use": bound.in_use, "most": bound.most}
            for bound in board.person.limits
        ],
        "head": board.site.head or None,
        "contact": board.site.contact or None,
        "queues": [
            {
                "name": queue.name,
                "open": queue.open,
                "nodes": list(queue.nodes),
                "walltime_limit_s": queue.walltime_limit_s,
                "walltime_default_s": queue.walltime_default_s,
                "memory_default_mib": queue.memory_default_mib,
                "max_cores": queue.max_cores,
                "users": list(queue.users),
                "tier": queue.tier,
                "note": queue.note or None,
            }
            for queue in board.site.queues
        ],
        "nodes": [
            {
                "name": node.name,
                "cores": node.cores,
                "cores_used": node.cores_used,
                "memory_mib": node.memory_mib,
                "memory_used_mib": node.memory_used_mib,
                "gpus": node.gpus,
                "gpus_used": node.gpus_used,
                "scratch_mib": node.scratch_mib,
                "traits": list(node.traits),
                "closed": node.closed or None,
                "closed_since": _instant(node.closed_since_ms),
                "host": node.host or None,
                "quiet_since": _instant(node.quiet_since_ms),
                "jobs": [_number(label) for label in dict.fromkeys(allocation.label for allocation in node.occupants)],
            }
            for node in board.nodes
        ],
        "room": [
            {
                "queue": room.queue,
                "walltime_s": room.walltime_s,
                "kind": room.kind,
                "cores": room.cores,
                "nodes": room.nodes,
                "gpus": room.gpus,
                "header": dict(room.header),
            }
            for room in rooms
        ],
        "windows": [
            {
                "nodes": list(window.nodes),
                "begins": format_instant(window.begins_ms),
                "ends": format_instant(window.ends_ms),
                "reason": window.reason,
            }
            for window in board.site.windows
        ],
        "accounts": [
            {
                "name": line.account,
                "left_core_hours": None if line.left_core_ms is None else round(line.left_core_ms / HOUR_MS, 6),
                **share_of.get(line.account, {}),
            }
            for line in board.accounts
            if line.account in board.person.accounts
        ],
        "tiers": [
            {"name": tier.name, "charge": tier.charge_permille / 1000, "note": tier.note or None}
            for tier in board.site.tiers
            if not tier.users or board.person.user in tier.users
        ],
        "storage": [
            {
                "path": area.path,
                "shared": area.shared,
                "kept": area.kept,
                "heavy": area.heavy,
                "note": area.note or None,
            }
            for area in board.site.storage
        ],
        "modules": [
            {"name": module.name, "programs": list(module.programs), "note": module.note or None}
            for module in board.site.software
        ],
    }
