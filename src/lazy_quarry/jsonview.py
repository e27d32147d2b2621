"""The JSON that ``--format json`` prints: one form for a job wherever it is listed."""

from typing import Any

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.units import HOUR_MS, format_instant
from lazy_quarry.views import JobDetail, JobView


def _instant(at_ms: int | None) -> str | None:
    return None if at_ms is None else format_instant(at_ms)


def job_json(view: JobView) -> dict[str, Any]:
    """A job; instants are RFC 3339 or null, ``cores``, ``memory_mib`` and ``gpus`` totals of the job."""
    return {
        "job": view.job,
        "task": None,
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
        "why": view.why or None,
        "nodes": list(view.nodes),
        "cores": view.cores,
        "gpus": view.gpus,
        "memory_mib": view.memory_mib,
        "walltime_s": view.walltime_s,
        "elapsed_s": view.elapsed_s,
        "cpu_s": round(view.use.cpu_ms / 1000, 3),
        "memory_peak_mib": view.use.memory_peak_mib,
        "read_bytes": view.use.read_bytes,
        "written_bytes": view.use.written_bytes,
        "exit": view.exit,
        "signal": view.signal,
        "reason": view.reason or None,
        "attempt": view.attempt,
        "charge_core_hours": round(view.charge_core_ms / HOUR_MS, 6),
        "output": view.output,
        "errors": view.errors,
        "cores_by_node": {node: list(cores) for node, cores in view.cores_by_node.items()},
    }


def detail_json(detail: JobDetail) -> dict[str, Any]:
    """A job with its record and its script."""
    return job_json(detail.view) | {
        "verdict": detail.verdict or None,
        "instead": detail.instead or None,
        "directory": detail.directory,
        "path": detail.script_path or None,
        "set": list(detail.overrides),
        "script": detail.script,
        "events": [{"at": format_instant(record.at_ms), "what": record.what} for record in detail.record],
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
