"""The record of a run, as a paragraph and a table for a paper."""

import hashlib
import shlex
from collections.abc import Iterator
from datetime import UTC, datetime, tzinfo

from lazy_quarry.core.units import fold_names, format_bytes, format_duration, format_size, plural
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.sentences import spread_words


def methods(detail: JobDetail, site: str, version: str, zone: tzinfo = UTC) -> Iterator[str]:
    """Lines in Markdown: a paragraph, an empty line, and a table."""
    view, told = detail.view, detail.told
    cores = told.cores if told else view.cores
    memory = format_size(told.asked_mib if told else view.memory_mib)
    shape = "for each task" if view.rows else f"({_shape(detail)})"
    what = f"The computation *{view.name}*"
    if view.rows:
        what += f", {plural(sum(count for _, count in view.counts), 'task')},"
    told_where = f"{what} ran {_when(detail, zone)} {_where(detail, site)}, with {plural(cores, 'core')} {shape}"
    yield f"{told_where} and {memory} of memory. {_used(detail)} {_script_words(detail, version)}"
    yield ""
    rows = list(_rows(detail, site, version, zone))
    wide = max(len(name) for name, _ in rows)
    yield f"| {'what'.ljust(wide)} | value |"
    yield f"| {'-' * wide} | ----- |"
    for name, value in rows:
        yield f"| {name.ljust(wide)} | {value.replace('|', chr(92) + '|')} |"


def _at(at_ms: int, zone: tzinfo) -> datetime:
    return datetime.fromtimestamp(at_ms / 1000, zone)


def _when(detail: JobDetail, zone: tzinfo) -> str:
    view = detail.view
    if view.started_ms is None:
        return "at no time yet"
    begun = _at(view.started_ms, zone)
    words = f"on {begun.day} {begun:%B %Y} from {begun:%H:%M}"
    if view.ended_ms is None:
        return f"{words} {begun.tzname()} on"
    ended = _at(view.ended_ms, zone)
    day = "" if ended.date() == begun.date() else f"{ended.day} {ended:%B} "
    return f"{words} to {day}{ended:%H:%M} {ended.tzname()}"


def _where(detail: JobDetail, site: str) -> str:
    host, nodes = detail.host, detail.told.nodes if detail.told else detail.view.nodes
    where = f"on {fold_names(nodes)} of {site}" if nodes else f"at {site}"
    if host is not None:
        where += f" (host {host.name}, {host.kernel}{f', {host.processor}' if host.processor else ''})"
    return where


def _shape(detail: JobDetail) -> str:
    return f"{plural(detail.view.ranks, 'rank')} of {plural(detail.view.threads, 'thread')}"


def _used(detail: JobDetail) -> str:
    view, told = detail.view, detail.told
    if told is not None:
        took, memory = spread_words(told.took_s, format_duration), spread_words(told.memory_mib, format_size)
        cpu = format_duration(told.cpu_ms / 1000)
        return f"A task ran {took} and used {memory} of memory; together they used {cpu} of CPU time."
    took = format_duration(view.attempt_s) if view.attempt_s else "under 1s"
    cpu, memory = format_duration(view.use.cpu_ms / 1000), format_size(view.memory_peak_mib)
    return f"It ran {took}, and used {cpu} of CPU time and at most {memory} of memory."


def _script_words(detail: JobDetail, version: str) -> str:
    modules = f"Modules loaded: {', '.join(detail.modules)}. " if detail.modules else ""
    given = f"with the arguments {shlex.join(detail.view.arguments)} " if detail.view.arguments else ""
    which = f"Its script (SHA-256 {_digest(detail)[:16]}…) ran {given}as job {detail.view.label}"
    return f"{modules}{which} under Lazy Quarry {version}."


def _digest(detail: JobDetail) -> str:
    return hashlib.sha256(detail.script.encode("utf-8", "surrogateescape")).hexdigest()


def _rows(detail: JobDetail, site: str, version: str, zone: tzinfo) -> Iterator[tuple[str, str]]:
    view, told, host = detail.view, detail.told, detail.host
    yield "job", f"{view.label} {view.name}"
    yield "outcome", f"{view.phase}" + (f", exit {view.exit}" if view.exit is not None else "")
    yield "site", site
    if host is not None:
        yield "host", host.name
        yield "kernel", host.kernel
        yield "processor", host.processor or "unknown"
    yield "nodes", fold_names(told.nodes if told else view.nodes) or "none"
    yield "cores", str(told.cores if told else view.cores)
    yield "ranks and threads", f"{view.ranks} × {view.threads}"
    if view.gpus:
        yield "GPUs", str(view.gpus)
    yield "memory asked", format_size(told.asked_mib if told else view.memory_mib)
    yield "memory used at most", format_size(told.memory_mib[2] if told else view.memory_peak_mib)
    yield "walltime asked", format_duration(view.walltime_s)
    yield "time it ran", format_duration(told.took_s[1] if told else view.attempt_s)
    yield "CPU time", format_duration((told.cpu_ms if told else view.use.cpu_ms) / 1000)
    read, written = (told.read_bytes, told.written_bytes) if told else (view.use.read_bytes, view.use.written_bytes)
    yield "read, written", f"{format_bytes(read)}, {format_bytes(written)}"
    for name, at in (("submitted", view.submitted_ms), ("started", view.started_ms), ("ended", view.ended_ms)):
        if at is not None:
            yield name, _at(at, zone).isoformat(timespec="seconds")
    if view.arguments:
        yield "arguments", shlex.join(view.arguments)
    for name, value in view.parameters:
        yield f"parameter {name}", value
    yield "modules", ", ".join(detail.modules) or "none"
    for path, size, _ in detail.inputs:
        yield f"input {path}", format_bytes(size)
    yield "settings at submission", ", ".join(detail.overrides) or "none"
    yield "script", detail.script_path or "given without a file"
    yield "script, sha256", _digest(detail)
    yield "batch system", f"Lazy Quarry {version}"
