"""Trying one from Draft: the job is followed to its end, and its verdict is shown with advice."""

from dataclasses import dataclass

from lazy_quarry.app.cells import Piece
from lazy_quarry.app.header_dials import HeaderEdit
from lazy_quarry.core.advice.next_request import Advice, advise
from lazy_quarry.core.units import format_duration
from lazy_quarry.errors import BadValue
from lazy_quarry.site.board import Board
from lazy_quarry.site.past_run import ran
from lazy_quarry.site.sentences import state_words, verdict

BAR = 12


@dataclass
class Trial:
    """A job that was started to try a draft. ``walltime_s`` is what the draft itself asks for."""

    job: int
    walltime_s: int


def task_words(text: str) -> tuple[int | None, dict[str, str] | None]:
    """``3``, or ``level=0.5 grid=north``; nothing means the first task. Raises :class:`BadValue`."""
    text = text.strip()
    if not text:
        return None, None
    if text.isdecimal():
        return int(text), None
    values = {}
    for word in text.split():
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise BadValue(f'"{word}" is neither a task\'s number nor name=value')
        values[name] = value
    return None, values


def lines(trial: Trial, board: Board, zone) -> tuple[list[tuple[Piece, ...]], list[HeaderEdit]]:  # type: ignore[no-untyped-def]
    """The lines to show of it now, and what each would change in the header."""
    view = next((job for job in board.jobs if job.job == trial.job), None)
    if view is None:
        return [((" TRYING ONE", "ink", True), (f"   {trial.job} is not listed any more", "dim"))], [()]
    if not view.phase.final:
        words = state_words(view, board.now_ms, zone)
        told = f"   job {trial.job} {words}; its verdict comes here"
        return [((" TRYING ONE", "ink", True), (told, "ochre"))], [()]
    colour = "moss" if view.phase == "done" else "rust"
    head: tuple[Piece, ...] = (
        (" TRIED ONE", "ink", True),
        (f"   {trial.job}: {view.phase.sign} {verdict(view)}", colour),
    )
    report_lines: list[tuple[Piece, ...]] = [head]
    changes: list[HeaderEdit] = [()]
    for one in advise(ran(view, trial.walltime_s)):
        report_lines.append(_line(one))
        changes.append(((one.key, one.value),) if one.value is not None else ())
    return report_lines, changes


def _line(one: Advice) -> tuple[Piece, ...]:
    full = round(BAR * one.share)
    key = f"   {one.key:<10}"
    pieces: list[tuple[str, str] | tuple[str, str, bool]] = [
        (key, "dim"),
        ("▰" * full, "ochre"),
        ("▱" * (BAR - full), "faint"),
        (f"  {one.used} of {one.asked}", "ink"),
    ]
    if one.reason:
        pieces.append((f"   {'enter: ' if one.value is not None else ''}{one.reason}", "ochre" if one.value else "dim"))
    return tuple(pieces)


def receipt_words(job: int, walltime_s: int) -> str:
    """What is said when it was sent."""
    return f"Trying one as {job}, at most {format_duration(walltime_s)}; its verdict comes back here."
