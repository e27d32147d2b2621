"""One site in use, composed of the parts that read it, the parts that change it, and those that follow what happens."""

from collections.abc import Callable

from lazy_quarry.core.advice.forward_draws import SupposedJob
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
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_changes import SiteChanges
from lazy_quarry.site.studies import Apart, Studies
from lazy_quarry.site.supposed_jobs import Foreseen


class SiteRead:
    """A site as it is read: the parts that change nothing. A process that only follows a journal may have one too.

    ``foreseen`` says what is expected of jobs that nobody has submitted, where that is known.
    """

    def __init__(self, session: Session, foreseen: Callable[[str, tuple[SupposedJob, ...]], Foreseen | None]) -> None:
        self.session = session
        self.drafts = Drafts(session, foreseen)
        self.queries = Queries(session)
        self.chains = Chains(session, self.drafts, self.queries)
        self.advice = Advice(session, self.drafts)
        self.ledger = Ledger(session)


class SiteInUse(SiteRead):
    """A site as its user uses it: the parts that share ``session``.

    The site of the demo lives in the application's process; that of this machine in an engine process of its own.
    """

    def __init__(self, session: Session, study_apart: Apart | None = None) -> None:
        """``study_apart`` makes studies in a process of their own."""
        self.dispatcher = Dispatcher(session)
        self.foresight = Foresight(session)
        super().__init__(session, self.foresight.supposed.of)
        self.operations = Operations(session, self.drafts, self.dispatcher)
        self.site_changes = SiteChanges(session, self.dispatcher)
        self.chain_changes = ChainChanges(session, self.chains, self.operations)
        self.beforehand = Beforehand(session, self.operations, self.chain_changes)
        self.studies = Studies(session, study_apart)
        way = session.site.mail
        relay = Relay(way.relay, way.port, way.tls, way.user, way.password_file) if way.relay else None
        sender = way.sender or f"lazy-quarry@{session.site.host or 'localhost'}"
        self.mailer = Mailer(session, relay, sender, self.queries.detail, self.chains.chain)
