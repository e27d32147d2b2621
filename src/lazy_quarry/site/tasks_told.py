"""The use of an array's tasks, summed up."""

from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType

from lazy_quarry.core.advice.task_groups import TaskFacts, causes, distribution, outliers
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.plain_text import values_words
from lazy_quarry.views.job_detail import TasksTold
from lazy_quarry.views.job_view import JobView
from lazy_quarry.wording.sentences import Figure, how_words

MOST_FAILED = 5


def tasks_told(tasks: Sequence[JobView], printed: Mapping[int, str] = MappingProxyType({})) -> TasksTold | None:
    """Sum up the use of these tasks; None when none of them has run. ``printed`` is the last error line of some that failed."""
    ran = [view for view in tasks if view.started_ms is not None]
    if not ran:
        return None
    failed = [view for view in ran if view.phase in FAILING]
    facts = [_facts(view, printed.get(view.job, "")) for view in ran]
    over = [one for one, view in zip(facts, ran, strict=True) if view.phase.final]
    return TasksTold(
        ran=len(ran),
        took_s=_spread(ran, lambda view: view.attempt_s),
        memory_mib=_spread(ran, lambda view: view.memory_peak_mib),
        busy=_spread(ran, lambda view: view.use.cpu_ms / 1000 / max(1, view.attempt_s)),
        walltime_s=max(view.walltime_s for view in ran),
        asked_mib=max(view.memory_mib for view in ran),
        cores=max(view.cores for view in ran),
        cpu_ms=sum(view.use.cpu_ms for view in ran),
        read_bytes=sum(view.use.read_bytes for view in ran),
        written_bytes=sum(view.use.written_bytes for view in ran),
        nodes=tuple(dict.fromkeys(name for view in ran for name in view.nodes)),
        failed=tuple(_failure(view) for view in failed[:MOST_FAILED]),
        causes=causes(facts),
        outliers=outliers(over),
        took_bars=distribution([one.took_s for one in over]),
        memory_bars=distribution([one.memory_mib for one in over]),
    )


def _facts(view: JobView, printed: str) -> TaskFacts:
    how = how_words(view) if view.phase in FAILING else ""
    return TaskFacts(view.label, view.parameters, view.attempt_s, view.memory_peak_mib, how, printed)


def _failure(view: JobView) -> str:
    values = values_words(view.parameters)
    return f"{view.label}{f' ({values})' if values else ''}: {how_words(view)}"


def _spread(views: Sequence[JobView], of: Callable[[JobView], Figure]) -> tuple[Figure, Figure, Figure]:
    figures = sorted(map(of, views))
    return figures[0], figures[len(figures) // 2], figures[-1]
