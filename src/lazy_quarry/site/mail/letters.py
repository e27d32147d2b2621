"""The text of mail about a job or a chain: RFC 5322 messages, marked as written by a program (RFC 3834)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, tzinfo
from typing import TYPE_CHECKING

from lazy_quarry.core.units import clock_time, format_bytes, format_core_hours, format_duration, format_size, plural
from lazy_quarry.views.chain_views import ChainView
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.wording.book_words import at_end_words, term_words
from lazy_quarry.wording.sentences import outcome_words, outlier_words, spread_words, state_words, verdict

if TYPE_CHECKING:
    from email.message import EmailMessage

    from lazy_quarry.core.engine.events import BudgetReached
    from lazy_quarry.core.ledger.accounts import AccountLine

_LINE = 78


def message(
    sender: str, to: str, subject: str, lines: Iterable[str], *, name: str, identity: str, at_ms: int
) -> EmailMessage:
    """A message of these lines; ``name`` tells it from every other of the journal ``identity``."""
    from email import policy  # only who writes mail pays for it
    from email.message import EmailMessage

    found = EmailMessage(policy=policy.SMTP)
    found["From"] = sender
    found["To"] = to
    found["Subject"] = "".join(sign if sign.isprintable() else " " for sign in subject)
    found["Date"] = datetime.fromtimestamp(at_ms // 1000, UTC)
    found["Message-ID"] = f"<{name}.{identity[:16]}@lazy-quarry.invalid>"
    found["Auto-Submitted"] = "auto-generated"
    found["X-Lazy-Quarry-Notice"] = name
    found.set_content("\n".join(lines) + "\n")
    return found


def subject_of(detail: JobDetail, word: str, site: str) -> str:
    """The subject of a message."""
    view = detail.view
    said = {"started": "started", "again": "ended, and runs again", "quiet": "its node does not answer"}.get(word, "")
    if word.endswith(("%", "left")):
        said = f"{word} of its walltime" if word.endswith("%") else word
    if not said:
        said = f"{view.phase}" if view.phase == "done" else f"{view.phase}, {outcome_words(view)}"
        said = said if said != f"{view.phase}, {view.phase}" else str(view.phase)
    return f"[{site}] {view.label} {view.name}: {said}"


def job_lines(detail: JobDetail, word: str, now_ms: int, zone: tzinfo) -> Iterable[str]:
    """The text about a job."""
    view, told = detail.view, detail.told
    if word == "started":
        yield f"{view.label} {view.name} started at {clock_time(view.started_ms or now_ms, now_ms, zone)}."
    elif word == "again":
        yield f"An attempt of {view.label} {view.name} has ended, and it waits to run again. {_last_end(detail)}"
    elif word == "quiet":
        since = f" since {clock_time(view.quiet_since_ms, now_ms, zone)}" if view.quiet_since_ms is not None else ""
        yield f"{view.label} {view.name} runs on {', '.join(view.nodes)}, which has not answered{since}."
        yield "It may go on there, and keeps its cores; how it ended is told when that answers again."
    elif view.phase.final:
        yield f"{view.label} {view.name}: {detail.verdict or verdict(view)}"
    else:
        yield f"{view.label} {view.name} runs: {state_words(view, now_ms, zone)}."
    yield ""
    yield f"  walltime   {format_duration(view.attempt_s)} of {format_duration(view.walltime_s)}"
    if told is not None:
        yield f"  each task  ran {spread_words(told.took_s, format_duration)}; of {told.ran:,} that ran"
        yield f"  memory     {spread_words(told.memory_mib, format_size)}; of {format_size(told.asked_mib)} each"
        yield from (f"  failed     {cause.words}" for cause in told.causes)
        yield from (f"  unlike     {outlier_words(one)}" for one in told.outliers)
    else:
        yield f"  cores      {view.cores}, {format_duration(view.use.cpu_ms / 1000)} of CPU time"
        yield f"  memory     {format_size(view.memory_peak_mib)} at most, of {format_size(view.memory_mib)}"
    yield f"  charge     {format_core_hours(view.charge_core_ms)} core-hours to {view.account}"
    yield f"  output     {view.output}"
    if view.errors != view.output:
        yield f"  errors     {view.errors}"
    for file in detail.evidence.files if detail.evidence else ():
        yield f"  promised   {file.path}: {file.problem or format_bytes(file.size)}"
    for line in detail.evidence.errors if detail.evidence else ():
        yield f"  printed    {line[:_LINE]}"
    yield ""
    yield f"All of it: lq show {view.label}" + ("" if view.rows else f"; its output: lq output {view.label}")


def _last_end(detail: JobDetail) -> str:
    ends = [one.what for one in detail.record if "runs again" in one.what or "run again" in one.what]
    return f"It was: {ends[-1]}." if ends else ""


def budget_lines(reached: BudgetReached, line: AccountLine) -> Iterable[str]:
    """The text about a budget of which a share is used."""
    used, whole = format_core_hours(reached.used_core_ms), format_core_hours(reached.core_ms)
    yield f"{reached.account} has used {used} of its {whole} core-hours, with all accounts under it."
    yield ""
    if term := term_words(line):
        yield f"  budget     {term}"
    if line.left_core_ms is not None:
        yield f"  left       {format_core_hours(line.left_core_ms)} core-hours; {at_end_words(line)}"
    yield f"  members    {', '.join(line.members) or 'everyone'}"
    yield ""
    yield f"All of it: lq account show {reached.account}; what used it: lq report --account {reached.account} --by name"


def chain_lines(view: ChainView, now_ms: int, zone: tzinfo) -> Iterable[str]:
    """The text about a chain that is over."""
    done = sum(part.phase == "done" for part in view.parts)
    yield f"Chain {view.number} {view.name} is over: {view.state}, {done} of {plural(len(view.parts), 'job')} done."
    yield ""
    for part in view.parts:
        told = f"{part.job}, {state_words(part.view, now_ms, zone)}" if part.view else part.reason or "it did not run"
        yield f"  {part.phase.sign if part.phase else '·'} {part.name}: {told}"
    yield ""
    yield f"All of it: lq chain {view.number}"
