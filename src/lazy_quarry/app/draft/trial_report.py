"""Trying one from Draft: the job is followed to its end, and its verdict is shown with advice."""

from collections.abc import Sequence

from msgspec import Struct

from lazy_quarry.app.draft.header_dials import HeaderEdit
from lazy_quarry.app.shared.cells import Piece
from lazy_quarry.core.advice.from_trials import Advice, Asked, advise
from lazy_quarry.core.units import format_duration, plural
from lazy_quarry.site.trial_values import sizes_in, tried
from lazy_quarry.views.board import Board
from lazy_quarry.wording.sentences import state_words, verdict

BAR = 12


class Trial(Struct):
    """Jobs that were started to try a draft, the smallest size first. ``asked`` is what the draft itself asks for."""

    jobs: tuple[int, ...]
    asked: Asked


def task_words(text: str) -> tuple[int | None, str, list[dict[str, str]]]:
    """``3``, ``level=0.5 grid=north``, or ``cells=2,4,8`` for several sizes; nothing means the first task.

    Returns the task, the parameter that is tried in several sizes, and the values of each trial. Raises :class:`BadValue`.
    """
    text = text.strip()
    if text.isdecimal():
        return int(text), "", [{}]
    parameter, trials = sizes_in(text.split())
    return None, parameter, trials or [{}]


def lines(trial: Trial, board: Board, zone) -> tuple[list[tuple[Piece, ...]], list[HeaderEdit]]:  # type: ignore[no-untyped-def]
    """The lines to show of it now, and what each would change in the header."""
    known = {job.job: job for job in board.jobs}
    views = [known[job] for job in trial.jobs if job in known]
    one = "ONE" if len(trial.jobs) == 1 else "SIZES"
    if len(views) < len(trial.jobs):
        gone = ", ".join(str(job) for job in trial.jobs if job not in known)
        return [((f" TRYING {one}", "ink", True), (f"   {gone} is not listed any more", "dim"))], [()]
    done = all(view.phase.final for view in views)
    told: list[tuple[Piece, ...]] = []
    for place, view in enumerate(views):
        size = dict(view.parameters).get(trial.asked.parameter, "") if trial.asked.parameter else ""
        name = f"{view.job}{f' {trial.asked.parameter}={size}' if size else ''}"
        head = f" {'TRIED' if done else 'TRYING'} {one}" if not place else " " * 12
        if view.phase.final:
            words = f"   {name}: {view.phase.sign} {verdict(view)}"
            told.append(((head, "ink", True), (words, "moss" if view.phase == "done" else "rust")))
        else:
            words = f"   job {name} {state_words(view, board.now_ms, zone)}; its verdict comes here"
            told.append(((head, "ink", True), (words, "ochre")))
    changes: list[HeaderEdit] = [() for _ in told]
    for advice in advise([tried(view, trial.asked.parameter) for view in views], trial.asked) if done else ():
        told.append(_line(advice))
        changes.append(((advice.key, advice.value),) if advice.value is not None else ())
    return told, changes


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


def receipt_words(jobs: Sequence[int], walltime_s: int) -> str:
    """The words for a trial that was sent."""
    if len(jobs) == 1:
        return f"Trying one as {jobs[0]}, at most {format_duration(walltime_s)}; its verdict comes back here."
    numbers = ", ".join(map(str, jobs))
    each = f"at most {format_duration(walltime_s)} each"
    return f"Trying {plural(len(jobs), 'size')} as {numbers}, {each}; what the whole needs comes back here."
