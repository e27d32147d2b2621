"""A job with its record, its script and its verdict."""

from dataclasses import dataclass

from lazy_quarry.core.explain.answers import Explained
from lazy_quarry.site.job_view import JobView


@dataclass(frozen=True, slots=True)
class Record:
    """One line of a job's history."""

    at_ms: int
    what: str


@dataclass(frozen=True, slots=True, kw_only=True)
class JobDetail:
    """A job with its record, its script, and a verdict in words when it has ended."""

    view: JobView
    record: tuple[Record, ...]
    script: str
    script_path: str
    directory: str
    overrides: tuple[str, ...]
    verdict: str
    tasks: tuple[JobView, ...] = ()
    """The tasks of an array that have started or ended."""
    explained: Explained | None = None
    """For a job that has not started: what it waits for, who is ahead, what would help."""

    @property
    def instead(self) -> str:
        """What would start sooner, in a sentence or two; empty for nothing."""
        return self.explained.instead if self.explained else ""
