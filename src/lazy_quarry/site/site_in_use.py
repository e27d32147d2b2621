"""One site in use, composed of the parts that read it, the parts that change it, and those that follow what happens."""

from collections.abc import Callable

from lazy_quarry.core.job.request import Request
from lazy_quarry.run.relay import Relay
from lazy_quarry.site.advised import Advice
from lazy_quarry.site.beforehand import Beforehand
from lazy_quarry.site.chain_changes import ChainChanges
from lazy_quarry.site.chains import Chains
from lazy_quarry.site.dispatcher import Dispatcher
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.foresight import Foresight
from lazy_quarry.site.ledger import Ledger
from lazy_quarry.site.mail.mailer import Mailer
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.queries import Queries
from lazy_quarry.site.session import Present
from lazy_quarry.site.site_changes import SiteChanges
from lazy_quarry.site.studies import Apart, Studies
from lazy_quarry.views.job_view import StartRange


class SiteRead:
    """A site as it is read: the parts that change nothing. A process that only follows a journal may have one too.

    ``foreseen`` gives the range of a request that nobody has submitted, where one is known.
    """

    def __init__(self, present: Present, foreseen: Callable[[str, Request], StartRange | None]) -> None:
        self.present = present
        self.drafts = Drafts(present, foreseen)
        self.queries = Queries(present)
        self.chains = Chains(present, self.drafts, self.queries)
        self.advice = Advice(present, self.drafts)
        self.ledger = Ledger(present)


class SiteInUse(SiteRead):
    """A site as its user uses it: the parts that share ``present``.

    The site of the demo lives in the application's process; that of this machine in an engine process of its own.
    """

    def __init__(self, present: Present, study_apart: Apart | None = None) -> None:
        """``study_apart`` makes studies in a process of their own."""
        self.dispatcher = Dispatcher(present)
        self.foresight = Foresight(present)
        super().__init__(present, self.foresight.of_request)
        self.operations = Operations(present, self.drafts, self.dispatcher)
        self.site_changes = SiteChanges(present, self.dispatcher)
        self.chain_changes = ChainChanges(present, self.chains, self.operations)
        self.beforehand = Beforehand(present, self.operations, self.chain_changes)
        self.studies = Studies(present, study_apart)
        way = present.site.mail
        relay = Relay(way.relay, way.port, way.tls, way.user, way.password_file) if way.relay else None
        sender = way.sender or f"lazy-quarry@{present.site.host or 'localhost'}"
        self.mailer = Mailer(present, relay, sender, self.queries.detail, self.chains.chain)
