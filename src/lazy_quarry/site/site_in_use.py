"""One site in use, composed of the part that changes it, the part that reads it, and the part that reports on drafts."""

from lazy_quarry.run.relay import Relay
from lazy_quarry.site.advised import Advice
from lazy_quarry.site.beforehand import Beforehand
from lazy_quarry.site.chains import Chains
from lazy_quarry.site.dispatcher import Dispatcher
from lazy_quarry.site.drafts import Drafts
from lazy_quarry.site.foresight import Foresight
from lazy_quarry.site.ledger import Ledger
from lazy_quarry.site.mail import Mailer
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.present import Present
from lazy_quarry.site.queries import Queries
from lazy_quarry.site.site_changes import SiteChanges
from lazy_quarry.site.study import Studies


class SiteInUse:
    """A site as its user uses it: the parts that share ``present``.

    The site of the demo lives in the application's process; that of this machine in an engine process of its own.
    """

    def __init__(self, present: Present) -> None:
        self.present = present
        self.dispatcher = Dispatcher(present)
        self.foresight = Foresight(present)
        self.drafts = Drafts(present, self.foresight.of_request)
        self.queries = Queries(present)
        self.operations = Operations(present, self.drafts, self.dispatcher)
        self.site_changes = SiteChanges(present, self.dispatcher)
        self.chains = self.chain_changes = Chains(present, self.drafts, self.operations, self.queries)
        self.beforehand = Beforehand(present, self.operations, self.chains)
        self.advice = Advice(present, self.drafts)
        self.ledger = Ledger(present)
        self.studies = Studies(present)
        way = present.site.mail
        relay = Relay(way.relay, way.port, way.tls, way.user, way.password_file) if way.relay else None
        sender = way.sender or f"lazy-quarry@{present.site.host or 'localhost'}"
        self.mailer = Mailer(present, relay, sender, self.queries.detail, self.chains.chain)
