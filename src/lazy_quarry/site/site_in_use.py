"""One site in use, composed of the part that changes it, the part that reads it, and the part that reports on drafts."""

from collections.abc import Callable
from datetime import UTC, tzinfo

from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.site import Site
from lazy_quarry.run.runner import Runner
from lazy_quarry.site.dispatcher import Dispatcher
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.present import Present
from lazy_quarry.site.queries import Queries
from lazy_quarry.store.journal import Journal


class SiteInUse:
    """A site with its journal and its runner, as ``user`` uses it. See :class:`Present` for the arguments.

    The site of the demo lives in the application's process; that of this machine in an engine process of its own.
    """

    def __init__(
        self,
        site: Site,
        journal: Journal,
        runner: Runner,
        *,
        user: str,
        clock: Callable[[], int],
        zone: tzinfo = UTC,
        look_up: Callable[[Submission], Submission] = lambda submission: submission,
    ) -> None:
        self.present = Present(site, journal, runner, user=user, clock=clock, zone=zone, look_up=look_up)
        self.dispatcher = Dispatcher(self.present)
        self.drafts = Drafts(self.present)
        self.queries = Queries(self.present)
        self.operations = Operations(self.present, self.drafts, self.dispatcher)
