"""A job's view as a run, for advice."""

from lazy_quarry.core.advice.next_request import Ran
from lazy_quarry.site.job_view import JobView


def ran(view: JobView, walltime_s: int) -> Ran:
    """What a job's view says of its run, for advice, with the walltime that was requested."""
    return Ran(
        view.phase, view.elapsed_s, walltime_s, view.cores, view.use.cpu_ms / 1000, view.memory_mib, view.memory_peak_mib
    )  # fmt: skip
