"""Holds and ends where events were lost, or where a folder was copied: nothing may run that may have run already."""

from collections.abc import Mapping

from lazy_quarry.core.engine.events import Ended, Event, Held
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.by import By
from lazy_quarry.core.job.job import Phase

BY_COPY = "the copying of this folder"
BY_RESCUE = "the rescue of this journal, for it may have run already"


def in_doubt(state: State, at_ms: int, copied: bool, ran: Mapping[int, int]) -> list[Event]:
    """The events that hold what has not started. ``copied``: what runs belongs to the original, so here it is lost.

    ``ran``: by job, the newest attempt that is known to have been begun by other means than the journal.
    """
    events = list[Event]()
    for job in state.jobs.values():
        unmade = job.request.array is not None and bool(job.unmade_tasks)
        if job.phase is Phase.RUNNING and copied:
            reason = "it ran from the folder that this one is a copy of"
            events.append(Ended(at_ms, job.number, job.attempt, Phase.LOST, reason=reason))
        elif job.phase in (Phase.WAITING, Phase.BLOCKED) or (job.phase is Phase.RUNNING and unmade):
            known = ran.get(job.number, 0)
            by = f"{BY_RESCUE}: its attempt {known} was begun" if known > job.attempt else BY_RESCUE
            events.append(Held(at_ms, job.number, By(why=BY_COPY if copied else by)))
    return events
