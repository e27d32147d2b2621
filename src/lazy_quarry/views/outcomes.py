"""Answers of calls to a site, beside jobs, the board and drafts: frozen values, the same from every kind of site."""

from dataclasses import dataclass

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.views.job_view import JobView


@dataclass(frozen=True, slots=True)
class RoomView:
    """The largest job of one kind that could start now: its size, and the header keys that request it."""

    queue: str
    walltime_s: int
    kind: str
    cores: int
    nodes: int
    gpus: int
    header: tuple[tuple[str, str | int | bool], ...]


@dataclass(frozen=True, slots=True)
class Receipt:
    """The outcome of a submission: its number and forecast, or the diagnostics that refused it."""

    job: int | None
    forecast_ms: int | None
    now_ms: int
    diagnostics: tuple[Diagnostic, ...]
    tasks: int | None = None


@dataclass(frozen=True, slots=True)
class Outcome:
    """The outcome of one command for one job: done, or the reason why not. ``known``: there is such a job."""

    job: int
    done: bool
    message: str
    known: bool = True


@dataclass(frozen=True, slots=True)
class Found:
    """The findings of a search: some jobs of it, whether there are more, and how many ended jobs were not looked at yet."""

    jobs: tuple[JobView, ...]
    more: bool
    behind: bool
