"""When jobs that wait for others should start: behind the forecast ends of these, as a rehearsed chain does."""

from lazy_quarry.core.chain.rehearsal import Rehearsed, Rehearsing, live_times
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.site.present import Present

MOST_BEFORE = 200
"""So many jobs before one are followed; beyond that there is no forecast."""


def blocked_forecast(present: Present, job: Job) -> Rehearsed | None:
    """Start and end of a job that waits for others, if these end well; None where that isn't known."""
    state, now = present.engine.state, present.now()
    before, rest = dict[int, Job](), [job]
    while rest:
        one = rest.pop()
        if one.number in before:
            continue
        before[one.number] = one
        if len(before) > MOST_BEFORE or one.skip_reason or one.phase is Phase.HELD:
            return None
        if one.phase is Phase.BLOCKED:
            rest += [state.jobs[other] for other, _ in one.unmet if other in state.jobs]
    live = live_times(present.engine, now, [number for number, one in before.items() if one.phase is not Phase.BLOCKED])
    known = {str(number): times for number, times in live.items()}
    waits = {
        str(number): tuple((str(other), condition) for other, condition in one.unmet)
        if str(number) not in known
        else ()
        for number, one in before.items()
    }
    if any(one.phase is not Phase.BLOCKED and str(number) not in known for number, one in before.items()):
        return None
    requests = {str(number): one.request for number, one in before.items() if str(number) not in known}
    found = Rehearsing(present.engine, now, job.user, waits, requests, known).rehearse()
    told = next(one for one in found.jobs if one.name == str(job.number))
    return told if told.starts_ms is not None else None
