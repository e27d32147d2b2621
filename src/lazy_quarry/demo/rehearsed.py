"""The demo's site on a virtual clock, fed by other people's arrivals."""

import heapq
import itertools
from collections.abc import Iterable, Iterator

from lazy_quarry.core.engine.commands import Command, Submit
from lazy_quarry.core.engine.events import BroughtForward
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.phase import left_undone
from lazy_quarry.core.ledger.accounts import Tally
from lazy_quarry.core.ledger.charges import by_day
from lazy_quarry.core.units import DAY_MS
from lazy_quarry.demo.happenings import happenings
from lazy_quarry.demo.past import ran
from lazy_quarry.demo.people import SPARE, Arrival, arrivals
from lazy_quarry.demo.recent import FIRST_RECENT, RECENT_FROM_MS, recent_events
from lazy_quarry.demo.site import BEGINS_MS, YOU, oxbow
from lazy_quarry.demo.virtual_clock import OnVirtualClock
from lazy_quarry.store.journal import Journal

PAST_A_DAY, FUTURE_A_DAY, SPARE_A_DAY = 105, 150, 40


class Rehearsed(OnVirtualClock):
    """The demo's site, fed by other people's arrivals."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        journal = Journal(None)
        journal.append_past(recent_events(seed))
        coming: Iterator[Command] = heapq.merge(
            map(_submission, arrivals(f"{seed}:coming", BEGINS_MS, FUTURE_A_DAY)),
            map(_submission, arrivals(f"{seed}:spare", BEGINS_MS, SPARE_A_DAY, SPARE)),
            happenings(seed, oxbow()),
            key=lambda one: one.at_ms,
        )
        super().__init__(oxbow(), journal, YOU, BEGINS_MS, seed, coming)

    def add_past(self, days: int) -> None:
        """Make the days before the demo begins, and add them to the books."""
        begin = BEGINS_MS - days * DAY_MS
        stream = itertools.takewhile(
            lambda one: one.at_ms < RECENT_FROM_MS, arrivals(f"{self.seed}:past", begin, PAST_A_DAY)
        )
        jobs = [job for job in ran(self.session.site, stream, 1, frozenset()) if (job.ended_ms or 0) < RECENT_FROM_MS]
        with self.session.lock:
            self.session.journal.import_past(jobs[: FIRST_RECENT - 1])
            self.session.commit(list(brought_forward(jobs, self.session.now())))
            self.session.past_was_added()


def _submission(arrival: Arrival) -> Submit:
    return Submit(arrival.at_ms, By(arrival.user), arrival.request, arrival.origin)


def brought_forward(jobs: Iterable[Job], at_ms: int) -> Iterator[BroughtForward]:
    """Amounts that these jobs add to the books of their accounts."""
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
            known.failed + left_undone(job.phase, job.planned),
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
