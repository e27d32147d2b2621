"""Questions of Watch to the site about the job under the cursor."""

from msgspec import Struct

from lazy_quarry.app.watch.job_context import Samples
from lazy_quarry.core.job.phase import Phase
from lazy_quarry.errors import QuarryError
from lazy_quarry.link.site_client import SiteClient
from lazy_quarry.run.runner import OutputChunk
from lazy_quarry.views.job_detail import JobDetail
from lazy_quarry.views.job_view import JobView

TAIL_BYTES = 32 * 1024


class Learnt(Struct, frozen=True):
    """The answers about a job: only what the pane in sight needs."""

    job: int
    detail: JobDetail | None = None
    samples: Samples | None = None
    printed: OutputChunk | None = None


def learnt_of(client: SiteClient | None, view: JobView, pane: str) -> Learnt | None:
    """Ask for what a pane shows of a job; None when nobody answers. To be called from a worker."""
    if client is None:
        return None
    try:
        running = view.phase is Phase.RUNNING and not view.rows
        return Learnt(
            job=view.job,
            detail=client.detail(view.job) if pane == "why" or view.phase is Phase.WAITING else None,
            samples=client.samples(view.job) if running else None,
            printed=client.output(view.job, "output", -TAIL_BYTES) if pane == "output" and not view.rows else None,
        )
    except QuarryError:
        return None
