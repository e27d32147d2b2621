"""The demo's site on a virtual clock, fed by other people's arrivals."""

import heapq
import itertools
from collections.abc import Iterable, Iterator

from lazy_quarry.core.engine.commands import Command, Submit
from lazy_quarry.core.engine.events import BroughtForward
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.ledger.accounts import Tally
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.demo.happenings import happenings
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import SPARE, Arrival, arrivals
from lazy_quarry.demo.recent import FIRST_RECENT, RECENT_FROM_MS, recent_events
from lazy_quarry.demo.site import BEGINS_MS, YOU, oxbow
from lazy_quarry.errors import Refused
from lazy_quarry.run.rehearsal import RehearsalRunner
from lazy_quarry.site.present import Present
from lazy_quarry.site.site_in_use import SiteInUse
from lazy_quarry.store.journal import Journal

PAST_A_DAY, FUTURE_A_DAY, SPARE_A_DAY = 105, 150, 40


class Rehearsed:
    """The site in use; time passes only by :meth:`advance`."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.now_ms = BEGINS_MS
        journal = Journal(None)
        journal.append_past(list(recent_events(seed)))
        self.runner = RehearsalRunner(seed)
        self.site = SiteInUse(Present(oxbow(), journal, self.runner, user=YOU, clock=lambda: self.now_ms))
        self.present = self.site.present
        self._coming: Iterator[Command] = heapq.merge(
            map(_submission, arrivals(f"{seed}:coming", BEGINS_MS, FUTURE_A_DAY)),
            map(_submission, arrivals(f"{seed}:spare", BEGINS_MS, SPARE_A_DAY, SPARE)),
            happenings(seed, oxbow()),
            key=lambda one: one.at_ms,
        )
        self._next = next(self._coming)
        self.site.dispatcher.step()

    def advance(self, to_ms: int) -> None:
        """Let everything happen that happens by this instant, in its order."""
        with self.present.lock:
            while (at := self.next_instant()) <= to_ms:
                self.now_ms = max(self.now_ms, at)
                while self._next.at_ms <= at:
                    self._take_in(self._next)
                    self._next = next(self._coming)
                self.site.dispatcher.step(self.now_ms)
            self.now_ms = max(self.now_ms, to_ms)

    def next_instant(self) -> int:
        """When the next thing happens."""
        with self.present.lock:
            known = (self._next.at_ms, self.runner.next_report_ms(), self.site.dispatcher.next_instant_ms())
            return min(each for each in known if each is not None)

    def _take_in(self, command: Command) -> None:
        if isinstance(command, Submit) and self._spent(command.request.account):
            return  # people don't submit what can't be charged
        try:
            events = self.present.engine.decide(command)
        except Refused:
            return  # people ask for too much at times, and what fails may be closed already
        self.present.commit(events)
        self.site.dispatcher.pass_on(events)

    def add_past(self, days: int) -> None:
        """Make the days before the demo begins, and add them to the books."""
        begin = BEGINS_MS - days * DAY_MS
        stream = itertools.takewhile(
            lambda one: one.at_ms < RECENT_FROM_MS, arrivals(f"{self.seed}:past", begin, PAST_A_DAY)
        )
        jobs = [job for job in ran(self.present.site, stream, 1, frozenset()) if (job.ended_ms or 0) < RECENT_FROM_MS]
        with self.present.lock:
            self.present.journal.import_past(jobs[: FIRST_RECENT - 1])
            self.present.commit(list(_brought_forward(jobs, self.present.now())))
            self.present.past_was_added()

    def _spent(self, account: str) -> bool:
        lines = {} if self.present.adding_past else {one.account: one for one in self.present.account_lines()}
        left = lines[account].left_core_ms if account in lines else None
        return left is not None and left <= 0


def _submission(arrival: Arrival) -> Submit:
    return Submit(arrival.at_ms, arrival.user, arrival.request, arrival.origin)


def _brought_forward(jobs: Iterable[Job], at_ms: int) -> Iterator[BroughtForward]:
    """What these jobs add to the books of their accounts."""
    tallies: dict[str, Tally] = {}
    by_user: dict[str, dict[tuple[str, int], int]] = {}
    for job in jobs:
        account = job.request.account
        days = by_user.setdefault(account, {})
        for day, core_ms in by_day(job.started_ms or 0, job.ended_ms or 0, job.allocated_core_ms):
            days[job.user, day] = days.get((job.user, day), 0) + core_ms
        known = tallies.get(account, Tally())
        tallies[account] = Tally(
            known.charged_core_ms + job.charge_core_ms,
            known.allocated_core_ms + job.allocated_core_ms,
            known.jobs + 1,
            known.failed + (job.phase not in ("done", "cancelled")),
        )
    for account, sums in sorted(tallies.items()):
        yield BroughtForward(
            at_ms=at_ms,
            account=account,
            charge_core_ms=sums.charged_core_ms,
            allocated_core_ms=sums.allocated_core_ms,
            jobs=sums.jobs,
            failed=sums.failed,
            recent=tuple((user, day, amount) for (user, day), amount in sorted(by_user[account].items())),
        )
