"""The grounds of every decision: state, plan and instant."""

from msgspec import Struct

from lazy_quarry.core.engine.limit_use import LimitUse
from lazy_quarry.core.engine.plans import Plans
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.engine.task_numbers import has_task, label_of, unstarted
from lazy_quarry.core.header.nearest import nearest
from lazy_quarry.core.job.job import TASK_SPAN, Job
from lazy_quarry.core.job.ownership import refuse_others
from lazy_quarry.core.site import Account, Site
from lazy_quarry.errors import NoSuchJob, Refused


class Situation(Struct, frozen=True):
    """A site's state and plan at an instant of journal time. Decisions read it and change nothing."""

    site: Site
    state: State
    plans: Plans
    limit_use: LimitUse
    at_ms: int

    def own_job(self, number: int, by: str, verb: str) -> Job:
        """A live job of the user who wants to do something with it. Raises :class:`Refused` for any other."""
        job = self.state.jobs.get(number)
        label = label_of(self.state, number)
        if job is None:
            if unstarted(self.state, number) is not None:
                array = number // TASK_SPAN
                raise Refused(
                    f"{label} has not started, and has no place of its own; {verb} {array}, or cancel single tasks"
                )
            if 0 < number < self.state.next_number or has_task(self.state, number):
                raise Refused(f"{label} has ended already; there is nothing to {verb}")
            raise NoSuchJob.of(label)
        refuse_others(job.user, by, label, f"{verb} only your own jobs")
        return job

    def known_node(self, name: str) -> str:
        """The name of a node of the site. Raises :class:`Refused` for an unknown one."""
        if name not in self.site.node:
            raise Refused(f"there is no node {name}{nearest(name, self.site.node)}")
        return name

    def known_account(self, name: str) -> Account:
        """An account of the site. Raises :class:`Refused` for an unknown one."""
        account = self.site.account.get(name)
        if account is None:
            raise Refused(f'there is no account "{name}"{nearest(name, self.site.account)}')
        return account
