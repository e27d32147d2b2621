"""What every decision needs: state, plan and instant."""

from dataclasses import dataclass

from lazy_quarry.core.engine.limit_use import LimitUse
from lazy_quarry.core.engine.plans import Plans
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.site import Site
from lazy_quarry.errors import NoSuchJob, Refused


@dataclass(frozen=True, slots=True)
class Situation:
    """A site's state and plan at an instant of journal time. Decisions read it and change nothing."""

    site: Site
    state: State
    plans: Plans
    limit_use: LimitUse
    at_ms: int

    def own_job(self, number: int, by: str, verb: str) -> Job:
        """A live job of the user who wants to do something with it. Raises :class:`Refused` for any other."""
        job = self.state.jobs.get(number)
        if job is None:
            if 0 < number < self.state.next_number:
                raise Refused(f"{number} has ended already; there is nothing to {verb}")
            raise NoSuchJob(f"there is no job {number}")
        if job.user != by:
            raise Refused(f"{number} belongs to {job.user}; you may {verb} only your own jobs")
        return job

    def known_node(self, name: str) -> str:
        """The name of a node of the site. Raises :class:`Refused` for an unknown one."""
        if name not in self.site.node:
            raise Refused(f"there is no node {name}")
        return name
