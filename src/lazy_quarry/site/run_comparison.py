"""Runs side by side: what each came to, the value that a pattern finds in its output, and what differed between them."""

import difflib
import shlex
from collections.abc import Callable, Iterator, Sequence
from typing import Literal

from msgspec import Struct

from lazy_quarry.core.advice.curves import Point
from lazy_quarry.core.advice.error_lines import error_lines
from lazy_quarry.core.advice.found_value import ValuePattern, number_in
from lazy_quarry.core.advice.scaling import Scaling, scaling
from lazy_quarry.core.units import clock_time, fold_names, format_bytes, format_duration, format_size, plural
from lazy_quarry.site.run_reader import RunReader
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import outcome_words

PIECE, MOST_BYTES = 192 * 1024, 16 * 2**20
"""Output is read in such pieces from its end, so much of it at most."""
MOST_LINES = 40
"""Lines of a difference between scripts that are kept."""


class ResultRow(Struct, frozen=True):
    """A run or a task: its view, the value that was found in its output, the last line there that tells of an error."""

    view: JobView
    value: str | None = None
    wrong: str = ""

    @property
    def number(self) -> float | None:
        """The value as a number; None where it is none."""
        return number_in(self.value)


class Difference(Struct, frozen=True):
    """Something that was not the same in all runs: what, and how it was in each, in their order."""

    what: str
    values: tuple[str, ...]
    lines: tuple[str, ...] = ()
    """Lines of scripts that differ, as a unified diff."""


def runs_of(client: RunReader, numbers: Sequence[int]) -> list[JobView]:
    """The runs that are meant: a job is itself, an array its tasks, each as its newest run. Raises :class:`NoSuchJob`."""
    found = list[JobView]()
    for number in numbers:
        detail = client.detail(number)
        found += detail.tasks_now if detail.view.rows else (detail.view,)
    return found


def result_rows(
    client: RunReader,
    views: Sequence[JobView],
    pattern: ValuePattern | None,
    which: Literal["output", "errors"] = "output",
    stopped: Callable[[], bool] = lambda: False,
) -> Iterator[ResultRow]:
    """A row for each run, as its output has been read. Raises :class:`BadValue` for a pattern that takes too long."""
    for view in views:
        if stopped():
            return
        if view.started_ms is None:
            yield ResultRow(view)
            continue
        value, wrong = _read(client, view.job, pattern, which)
        yield ResultRow(view, value, wrong)


def _read(
    client: RunReader, job: int, pattern: ValuePattern | None, which: Literal["output", "errors"]
) -> tuple[str | None, str]:
    """The value, looked for from the end backwards, and the last error line of the end."""
    chunk = client.output(job, which, -PIECE)
    begin, lines = max(0, chunk.size - PIECE), chunk.text.split("\n")
    wrong = [chunk.problem] if chunk.changed else [line for _, line in error_lines(lines, 1)]
    value = pattern.last_value(lines) if pattern else None
    while pattern and value is None and begin > 0 and chunk.size - begin < MOST_BYTES:
        begin = max(0, begin - PIECE)
        # It reaches into what was looked through already, so that no line is missed where two pieces meet.
        value = pattern.last_value(client.output(job, which, begin).text.split("\n"))
    return value, wrong[-1].strip()[:200] if wrong else ""


def points_of(rows: Sequence[ResultRow]) -> list[Point]:
    """The rows whose value is a number, for curves; runs that aren't tasks differ by what they held."""
    tasks = any(row.view.parameters for row in rows)
    found = []
    for row in rows:
        view, number = row.view, row.number
        if number is not None:
            held = (("cores", str(view.cores)),) if not tasks else ()
            found.append(Point(view.label, view.parameters or held, number))
    return found


def differences(details: Sequence[JobDetail], now_ms: int) -> list[Difference]:
    """Differences between these runs, first in what went in, then in what came of it."""
    first, found = details[0], list[Difference]()
    scripts = [_script_words(first, detail) for detail in details]
    if len(set(scripts)) > 1:
        other = next(detail for detail in details if detail.script != first.script)
        lines = difflib.unified_diff(
            first.script.splitlines(), other.script.splitlines(), first.view.label, other.view.label, lineterm="", n=1
        )
        found.append(Difference("script", tuple(scripts), tuple(lines)[:MOST_LINES]))
    for what, words in _WENT_IN.items():
        _add(found, what, [words(detail) for detail in details])
    _each(found, "environment", [dict(detail.environment) for detail in details])
    inputs = [
        {path: f"{format_bytes(size)}, {clock_time(at, now_ms)}" for path, size, at in detail.inputs}
        for detail in details
    ]
    _each(found, "input", inputs)
    for what, words in _CAME_OF_IT.items():
        _add(found, what, [words(detail) for detail in details])
    return [*found, *_scaled(details)]


def scaling_of(details: Sequence[JobDetail]) -> Scaling | None:
    """Scaling of runs that were done, where they had different numbers of cores."""
    views = [detail.view for detail in details]
    if len({view.cores for view in views}) < 2 or any(view.phase != "done" or not view.attempt_s for view in views):
        return None
    return scaling([(view.cores, float(view.attempt_s)) for view in views])


def _scaled(details: Sequence[JobDetail]) -> list[Difference]:
    found = scaling_of(details)
    if found is None:
        return []
    by_cores = {point.cores: point for point in found.points}
    points = [by_cores[detail.view.cores] for detail in details]
    return [
        Difference("speed-up", tuple(f"{point.speedup:.2f}" for point in points)),
        Difference("efficiency", tuple(f"{point.efficiency:.0%}" for point in points)),
    ]


def _add(found: list[Difference], what: str, values: list[str]) -> None:
    if len(set(values)) > 1:
        found.append(Difference(what, tuple(value or "–" for value in values)))


def _each(found: list[Difference], what: str, tables: list[dict[str, str]]) -> None:
    for name in dict.fromkeys(name for table in tables for name in table):
        _add(found, f"{what} {name}", [table.get(name, "") for table in tables])


def _script_words(first: JobDetail, detail: JobDetail) -> str:
    if detail.script == first.script:
        return "as the first"
    matcher = difflib.SequenceMatcher(None, first.script.splitlines(), detail.script.splitlines(), autojunk=False)
    changed = sum(max(a2 - a1, b2 - b1) for tag, a1, a2, b1, b2 in matcher.get_opcodes() if tag != "equal")
    return f"{plural(changed, 'line')} differ" if changed != 1 else "1 line differs"


_WENT_IN: dict[str, Callable[[JobDetail], str]] = {
    "path": lambda detail: detail.script_path,
    "set": lambda detail: ", ".join(detail.overrides),
    "arguments": lambda detail: shlex.join(detail.view.arguments),
    "parameters": lambda detail: ", ".join(f"{name}={value}" for name, value in detail.view.parameters),
    "queue": lambda detail: detail.view.queue,
    "tier": lambda detail: detail.view.tier,
    "account": lambda detail: detail.view.account,
    "walltime asked": lambda detail: format_duration(detail.view.walltime_s),
    "cores": lambda detail: str(detail.view.cores),
    "ranks": lambda detail: f"{detail.view.ranks} of {plural(detail.view.threads, 'thread')}",
    "memory asked": lambda detail: format_size(detail.view.memory_mib),
    "modules": lambda detail: ", ".join(detail.modules),
    "folder": lambda detail: detail.directory,
    "nodes": lambda detail: fold_names(detail.view.nodes),
}
_CAME_OF_IT: dict[str, Callable[[JobDetail], str]] = {
    "outcome": lambda detail: (
        f"{detail.view.phase.sign} {outcome_words(detail.view) if detail.view.phase != 'done' else 'done'}"
    ),
    "ran": lambda detail: format_duration(detail.view.attempt_s) if detail.view.attempt_s else "under 1s",
    "CPU time": lambda detail: format_duration(detail.view.use.cpu_ms / 1000),
    "memory used": lambda detail: format_size(detail.view.memory_peak_mib),
    "read": lambda detail: format_bytes(detail.view.use.read_bytes),
    "written": lambda detail: format_bytes(detail.view.use.written_bytes),
}
