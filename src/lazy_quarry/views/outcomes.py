"""Answers of calls to a site, beside jobs, the board and drafts: frozen values, the same from every kind of site."""

from msgspec import Struct

from lazy_quarry.core.header.diagnostic import Diagnostic
from lazy_quarry.views.job_view import JobView


class RoomView(Struct, frozen=True):
    """The largest job of one kind that could start now: its size, and the header keys that request it."""

    queue: str
    walltime_s: int
    kind: str
    cores: int
    nodes: int
    gpus: int
    header: tuple[tuple[str, str | int | bool], ...]


class Receipt(Struct, frozen=True):
    """The outcome of a submission: its number and forecast, or the diagnostics that refused it."""

    job: int | None
    forecast_ms: int | None
    now_ms: int
    diagnostics: tuple[Diagnostic, ...]
    tasks: int | None = None


class Outcome(Struct, frozen=True):
    """The outcome of one command for one job: done, or the reason why not. ``known``: there is such a job."""

    job: int
    done: bool
    message: str
    known: bool = True


class Found(Struct, frozen=True):
    """The findings of a search: some jobs of it, whether there are more, and how many ended jobs were not looked at yet."""

    jobs: tuple[JobView, ...]
    more: bool
    behind: bool
