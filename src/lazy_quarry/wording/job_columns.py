"""The columns that jobs may have, each one entry: in Watch and Review, in ``lq jobs``, and the field by which it is sorted."""

import shlex
from collections.abc import Callable
from dataclasses import KW_ONLY, dataclass
from datetime import tzinfo

from lazy_quarry.core.plain_text import values_words
from lazy_quarry.core.units import (
    clock_time,
    core_hours_cell,
    fold_names,
    format_core_hours,
    format_duration,
    format_size,
)
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import state_words, verdict

Says = Callable[[JobView, int, tzinfo], str]
"""The words of a column for a job, at an instant (ms) in a zone."""


@dataclass(frozen=True, slots=True)
class JobColumn:
    """A column, with its name in ``lq jobs`` (empty where it isn't there) and its place in Watch and Review."""

    name: str
    says: Says
    _: KW_ONLY
    heading: str = ""
    """Its name in Watch and Review, where that is another."""
    cells: int = 0
    """Its width there; 0: it isn't there."""
    right: bool = False
    """True when it stands right-aligned there."""
    sorts: str = ""
    """The field of a search by which it can be sorted."""
    figure: bool = False
    """True when it stands right-aligned in ``lq jobs``."""
    lists: Says | None = None
    """Its words in ``lq jobs``, where these are others."""

    @property
    def title(self) -> str:
        """The heading above it in Watch and Review."""
        return self.heading or self.name


def _time(at_ms: int | None, now_ms: int, zone: tzinfo) -> str:
    return "" if at_ms is None else clock_time(at_ms, now_ms, zone)


def _waited(view: JobView, now_ms: int) -> str:
    return format_duration(view.waited_ms(now_ms) / 1000)


def _peak(view: JobView) -> str:
    return format_size(view.memory_peak_mib) if view.memory_peak_mib else ""


JOB_COLUMNS = (
    JobColumn("job", lambda view, now, zone: view.label, figure=True),
    JobColumn("name", lambda view, now, zone: view.name, cells=18, sorts="name"),
    JobColumn("state", lambda view, now, zone: f"{view.phase.sign} {view.phase}"),
    JobColumn("words", state_words),
    JobColumn("user", lambda view, now, zone: view.user, cells=7, sorts="user"),
    JobColumn("account", lambda view, now, zone: view.account, cells=11, sorts="account"),
    JobColumn("queue", lambda view, now, zone: view.queue, cells=8, sorts="queue"),
    JobColumn("tier", lambda view, now, zone: view.tier, cells=7, sorts="tier"),
    JobColumn(
        "cores",
        lambda view, now, zone: f"{view.cores:,}",
        cells=6,
        right=True,
        sorts="cores",
        figure=True,
        lists=lambda view, now, zone: str(view.cores),
    ),
    JobColumn(
        "memory", lambda view, now, zone: format_size(view.memory_mib), cells=9, right=True, sorts="requested-memory"
    ),
    JobColumn(
        "walltime", lambda view, now, zone: format_duration(view.walltime_s), cells=8, right=True, sorts="walltime"
    ),
    JobColumn(
        "nodes",
        lambda view, now, zone: fold_names(view.nodes or view.forecast_nodes),
        cells=12,
        lists=lambda view, now, zone: fold_names(view.nodes),
    ),
    JobColumn("submitted", lambda view, now, zone: _time(view.submitted_ms, now, zone), cells=12, sorts="submitted"),
    JobColumn("started", lambda view, now, zone: _time(view.started_ms, now, zone), cells=12, sorts="started"),
    JobColumn("ended", lambda view, now, zone: _time(view.ended_ms, now, zone), cells=12, sorts="ended"),
    JobColumn("waited", lambda view, now, zone: _waited(view, now), cells=8, right=True, sorts="waited"),
    JobColumn(
        "elapsed",
        lambda view, now, zone: format_duration(view.elapsed_s),
        heading="took",
        cells=9,
        right=True,
        sorts="took",
    ),
    JobColumn(
        "peak",
        lambda view, now, zone: _peak(view),
        cells=9,
        right=True,
        sorts="memory",
        lists=lambda view, now, zone: format_size(view.memory_peak_mib),
    ),
    JobColumn(
        "cpu",
        lambda view, now, zone: format_duration(view.use.cpu_ms / 1000),
        heading="CPU",
        cells=9,
        right=True,
        sorts="cpu",
        lists=lambda view, now, zone: format_duration(view.cpu_ms / 1000),
    ),
    JobColumn(
        "exit",
        lambda view, now, zone: "" if view.exit is None else str(view.exit),
        cells=5,
        right=True,
        sorts="exit",
        figure=True,
    ),
    JobColumn("parameters", lambda view, now, zone: values_words(view.parameters), cells=20),
    JobColumn("arguments", lambda view, now, zone: shlex.join(view.arguments), cells=20),
    JobColumn(
        "charge",
        lambda view, now, zone: core_hours_cell(view.charge_core_ms),
        heading="charged",
        cells=9,
        right=True,
        sorts="charge",
        figure=True,
        lists=lambda view, now, zone: format_core_hours(view.charge_core_ms),
    ),
    JobColumn("why", lambda view, now, zone: view.why),
    JobColumn("verdict", lambda view, now, zone: verdict(view) if view.phase.final else ""),
    JobColumn("output", lambda view, now, zone: view.output),
)
