"""When jobs that wait for others should start: behind the forecast ends of these, as a rehearsed chain does."""

import time
from collections.abc import Sequence

from lazy_quarry.core.chain.rehearsal import RehearsedJob, Rehearsing, live_times
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.site.job_views import Expected
from lazy_quarry.site.session import Session

MOST_BEFORE = 200
"""Number of jobs before one that are followed; beyond that there is no forecast."""
ANEW_S = 1.0
"""Forecasts of those in sight are worked out no more often."""


def blocked_forecasts(session: Session, jobs: Sequence[Job]) -> dict[int, RehearsedJob]:
    """By job: start and end of those that wait for others, if these end well; none where that isn't known."""
    state, now = session.engine.state, session.now()
    before = dict[int, Job]()
    wanted = [job for job in jobs if _follow(session, job, before)]
    if not wanted:
        return {}
    live = live_times(session.engine, now, [number for number, one in before.items() if one.phase is not Phase.BLOCKED])
    known = {str(number): times for number, times in live.items()}
    lost = {str(number) for number, one in before.items() if one.phase is not Phase.BLOCKED} - known.keys()
    waits = {
        str(number): tuple((str(other), condition) for other, condition in one.unmet if other in state.jobs)
        if str(number) not in known
        else ()
        for number, one in before.items()
    }
    requests = {str(number): one.request for number, one in before.items() if str(number) not in known}
    found = Rehearsing(session.engine, now, jobs[0].user, waits, requests, known, lost=lost).rehearse()
    told = {int(one.name): one for one in found.jobs if one.starts_ms is not None}
    return {job.number: told[job.number] for job in wanted if job.number in told}


def _follow(session: Session, job: Job, before: dict[int, Job]) -> bool:
    """Add a job and all that it waits for; False, and nothing added, when that can't be forecast."""
    jobs, rest, own = session.engine.state.jobs, [job], dict[int, Job]()
    while rest:
        one = rest.pop()
        if one.number in own:
            continue
        own[one.number] = one
        if len(own) > MOST_BEFORE or one.skip_reason or one.phase is Phase.HELD:
            return False
        if one.phase is Phase.BLOCKED:
            rest += [jobs[other] for other, _ in one.unmet if other in jobs]
    before |= own
    return True


class BlockedInSight:
    """Keeps the forecasts of those that are looked at, until the plan changes."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._known: tuple[Plan, tuple[int, ...], float, dict[int, Expected]] | None = None

    def of(self, jobs: Sequence[Job]) -> dict[int, Expected]:
        """Expect the starts of these blocked jobs, where they are known."""
        plan, numbers, now = self.session.plan(), tuple(job.number for job in jobs), time.monotonic()
        known = self._known
        if known is None or known[1] != numbers or (known[0] is not plan and now - known[2] >= ANEW_S):
            found = blocked_forecasts(self.session, jobs) if jobs else {}
            told = {number: Expected(one.starts_ms, one.ends_ms, ()) for number, one in found.items()}
            known = self._known = plan, numbers, now, told
        return known[3]
