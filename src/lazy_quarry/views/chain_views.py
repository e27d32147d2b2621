"""Chains as people see them: what a file came to, what a rehearsal says, how one that was submitted stands."""

from msgspec import Struct

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.core.job.phase import FAILING, Phase
from lazy_quarry.core.values import replace
from lazy_quarry.views.job_view import JobView, StartRange


class ChainSource(Struct, frozen=True, kw_only=True):
    """A chain file on its way in, with the scripts that it names by the paths that stand there; None where one can't be read."""

    text: str
    path: str = ""
    folder: str = ""
    """Where it is submitted; the chain's own paths are taken from there."""
    scripts: dict[str, str | None]
    settings: tuple[str, ...] = ()
    environment: tuple[tuple[str, str], ...] = ()
    name: str = ""
    """Its name, where the file gives none."""


class PartView(Struct, frozen=True, kw_only=True):
    """A job of a chain: by its name, what it waits for, when it starts and ends, and what it is about."""

    name: str
    after: tuple[tuple[str, str], ...]
    job: int = 0
    """Its number, 0 before it is submitted."""
    phase: Phase | None = None
    starts_ms: int | None = None
    ends_ms: int | None = None
    slack_ms: int | None = None
    critical: bool = False
    reason: str = ""
    """Why it doesn't run, or how it ended."""
    cores: int = 0
    tasks: int = 0
    done_tasks: int = 0
    walltime_s: int = 0
    view: JobView | None = None
    range: StartRange | None = None
    """When it starts 8 times in 10; None where that isn't known."""


class ChainView(Struct, frozen=True, kw_only=True):
    """A chain: its parts in their order, when all is done, what it costs at most. Number 0 is one that isn't submitted."""

    number: int
    name: str
    user: str
    now_ms: int
    parts: tuple[PartView, ...]
    submitted_ms: int = 0
    ends_ms: int | None = None
    """When all is done at the latest."""
    likely_end_ms: int | None = None
    """The middle of when all is done; None where that isn't known."""
    most_core_ms: int = 0
    likely_core_ms: int | None = None
    """Core-ms that it probably costs, by earlier runs of its names; None where some name has none."""

    @property
    def state(self) -> str:
        """In a word: ``draft``, ``running``, ``waiting``, ``done``, ``failed``, ``cancelled``."""
        phases = [one.phase for one in self.parts]
        if all(phase is None for phase in phases):
            return "draft"
        if any(phase is None or not phase.final for phase in phases):
            begun = any(one.done_tasks or one.phase in (Phase.RUNNING, Phase.DONE) for one in self.parts)
            return "running" if begun else "waiting"
        ended = [one for one in self.parts if one.phase is Phase.DONE]
        handled = {other for one in ended for other, how in one.after if how in ("fails", "finishes")}
        if any(one.phase in FAILING and one.name not in handled for one in self.parts):
            return "failed"
        if any(one.phase in FAILING for one in self.parts):
            return "failed, and handled"
        return "cancelled" if any(phase is Phase.CANCELLED for phase in phases) else "done"

    @property
    def left(self) -> int:
        """Number of its jobs that have not ended."""
        return sum(one.phase is None or not one.phase.final for one in self.parts)


def played(view: ChainView, at_ms: int) -> ChainView:
    """A rehearsed chain as it would stand at an instant, by its forecast."""
    parts = []
    for one in view.parts:
        if one.starts_ms is None or one.ends_ms is None:
            parts.append(one)
            continue
        phase = Phase.WAITING if at_ms < one.starts_ms else Phase.RUNNING if at_ms < one.ends_ms else Phase.DONE
        share = (at_ms - one.starts_ms) / max(1, one.ends_ms - one.starts_ms)
        parts.append(replace(one, phase=phase, done_tasks=int(one.tasks * min(1.0, max(0.0, share)))))
    return replace(view, parts=tuple(parts), now_ms=at_ms)


class ChainReport(Struct, frozen=True):
    """The report on a chain file: findings as (file, finding), and the chain rehearsed where nothing must change.

    ``sketch``: where something must change, its jobs with what they wait for, as far as they could be read.
    """

    findings: tuple[tuple[str, Diagnostic], ...]
    chain: ChainView | None
    sketch: ChainView | None = None


class ChainReceipt(Struct, frozen=True):
    """A chain that was submitted or continued: its number and its jobs', or what must change first."""

    chain: int | None
    jobs: tuple[tuple[str, int], ...]
    findings: tuple[tuple[str, Diagnostic], ...] = ()
