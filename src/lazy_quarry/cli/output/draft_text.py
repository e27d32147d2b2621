"""Reports on scripts and drafts, as text for people."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import tzinfo
from typing import TYPE_CHECKING

from lazy_quarry.core.units import clock_time, fold_names, format_duration, plural
from lazy_quarry.wording.book_words import amounts_of, cost_words
from lazy_quarry.wording.sentences import range_words

if TYPE_CHECKING:
    from lazy_quarry.core.advice.from_trials import Asked
    from lazy_quarry.core.header.diagnostic import Diagnostic
    from lazy_quarry.views.draft_view import DraftReport
    from lazy_quarry.views.job_view import JobView


def check_lines(file: str, diagnostics: Iterable[Diagnostic]) -> Iterator[str]:
    """Findings about a file, a line each."""
    found = list(diagnostics)
    yield f"{file}:" if found else f"{file}: nothing to say"
    for one in found:
        sign = {"error": "✕", "warning": "·", "hint": " "}[one.severity.value]
        fix = f" (fix: {one.fix.label})" if one.fix else ""
        yield f"  {sign} {one.line:4d}  {one.message}{fix}  [{one.code}]"


def _start_words(start_ms: int | None, now_ms: int, zone: tzinfo, refused: str = "") -> str:
    if start_ms is None:
        return refused or "no forecast"
    if start_ms <= now_ms:
        return "now"
    return f"{clock_time(start_ms, now_ms, zone)}, in {format_duration((start_ms - now_ms) / 1000)}"


def forecast_lines(report: DraftReport, zone: tzinfo) -> Iterator[str]:
    """Place, start and cost of a draft, for people."""
    if not report.shape.cores:
        yield "the request cannot be read; see the checks"
        return
    if report.instead:
        yield f"as it stands it can never run; this is of the nearest that can: {', '.join(report.instead)}"
    nodes = fold_names([one.node for one in report.place.nodes]) or "no node"
    beyond = report.place.node_count - len(report.place.nodes)
    yield f"placed   {plural(report.shape.ranks, 'rank')} of {plural(report.shape.threads, 'thread')} on {nodes}" + (
        f" and {beyond} more" if beyond > 0 else ""
    )
    ranged = range_words(report.range, report.place.start_ms, report.now_ms, zone)
    yield f"starts   {ranged or _start_words(report.place.start_ms, report.now_ms, zone, report.place.obstacle)}"
    for rung in report.starts.ladder:
        mark = "*" if rung.asked else " "
        start = _start_words(rung.start_ms, report.now_ms, zone, rung.refused)
        yield f"       {mark} {format_duration(rung.walltime_s):<12} {start}"
    for rung in report.starts.fewer:
        what = f"{plural(rung.nodes, 'node')}, {plural(rung.ranks, 'rank')}"
        yield f"         {what:<20} {_start_words(rung.start_ms, report.now_ms, zone)}"
    for each in report.starts.finish:
        what = "as many as fit" if each.at_once is None else f"{each.at_once} at once"
        yield f"       {'*' if each.asked else ' '} {what:<20} all done {_start_words(each.last_ms, report.now_ms, zone)}"
    _, left = amounts_of(report)
    yield f"costs    {cost_words(report)}{f' of {left} left' if left else ''}, charged to {report.cost.account}"


def trial_lines(views: Sequence[JobView], asked: Asked) -> Iterator[str]:
    """Lines about trials: use against request, and what to request next."""
    from lazy_quarry.core.advice.from_trials import advise
    from lazy_quarry.site.trial_values import tried
    from lazy_quarry.wording.sentences import verdict

    for view in views:
        size = f" ({asked.parameter}={dict(view.parameters).get(asked.parameter, '')})" if asked.parameter else ""
        yield f"{view.label} {view.name}{size}: {verdict(view)}"
    for one in advise([tried(view, asked.parameter) for view in views], asked):
        advice = (
            f'; ask for {one.key} = "{one.value}"' if one.value is not None else f"; {one.reason}" if one.reason else ""
        )
        if one.value is not None and len(views) > 1:
            advice = f"; {one.reason}{advice}"
        yield f"  {one.key:<10}{one.used} of {one.asked}{advice}"
