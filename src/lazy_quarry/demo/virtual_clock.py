"""A rehearsal site whose time passes only as it is told to, fed by what people do at known instants."""

from collections.abc import Iterator

from lazy_quarry.core.engine.commands import Command, Submit
from lazy_quarry.core.site import Site
from lazy_quarry.errors import Refused
from lazy_quarry.link.in_process import InProcessClient
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.session import Session
from lazy_quarry.site.site_file.roles import caller_of
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.journal import Journal

NEVER_MS = 2**61


class OnVirtualClock:
    """The site in use; time passes only by :meth:`advance`. ``coming`` are commands by their instants."""

    def __init__(
        self, site: Site, journal: Journal, user: str, begins_ms: int, seed: int, coming: Iterator[Command]
    ) -> None:
        self.now_ms = begins_ms
        self.runner = RehearsalRunner(seed)
        self.site = SiteInUse(Session(site, journal, self.runner, clock=lambda: self.now_ms))
        self.person = caller_of(site, user)
        """Whoever rehearses."""
        self.session = self.site.session
        self._coming = coming
        self._next = next(coming, None)
        self.site.dispatcher.step()

    def client(self) -> InProcessClient:
        """A client of whoever rehearses."""
        return InProcessClient(self.site, self.person)

    def add_past(self, days: int) -> None:
        """Add what had happened before, and make the books of it; nothing, if there is none."""

    def advance(self, to_ms: int) -> None:
        """Let everything happen that happens by this instant, in its order."""
        with self.session.lock:
            while (at := self.next_instant()) <= to_ms:
                self.now_ms = max(self.now_ms, at)
                while self._next is not None and self._next.at_ms <= at:
                    self._take_in(self._next)
                    self._next = next(self._coming, None)
                self.site.dispatcher.step(self.now_ms)
            self.now_ms = max(self.now_ms, to_ms)

    def next_instant(self) -> int:
        """When the next thing happens."""
        with self.session.lock:
            coming = self._next.at_ms if self._next is not None else NEVER_MS
            known = (coming, self.runner.next_report_ms(), self.site.dispatcher.next_instant_ms())
            return min(each for each in known if each is not None)

    def _take_in(self, command: Command) -> None:
        if isinstance(command, Submit) and self._spent(command.request.account):
            return  # people don't submit what can't be charged
        try:
            events = self.session.engine.decide(command)
        except Refused:
            return  # people ask for too much at times, and what fails may be closed already
        self.session.commit(events)
        self.site.dispatcher.pass_on(events)

    def _spent(self, account: str) -> bool:
        lines = {} if self.session.adding_past else {one.account: one for one in self.session.account_lines()}
        left = lines[account].left_core_ms if account in lines else None
        return left is not None and left <= 0
