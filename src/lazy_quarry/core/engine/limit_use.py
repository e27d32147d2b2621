"""The use of each limit, and whether one more request may wait."""

from collections.abc import Iterable

from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.plan.limits import MEASURES, Kind, limits_of, too_many_waiting
from lazy_quarry.core.plan.placement import Owner, PlanRequest
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Limits, Site
from lazy_quarry.errors import Refused


class LimitUse:
    """Counts running and waiting jobs by whose limits they are under."""

    def __init__(self, site: Site, state: State, planner: Planner) -> None:
        self.site, self.state, self.planner = site, state, planner

    def accept(self, user: str, request: Request, except_job: int = 0) -> None:
        """Raise :class:`Refused` for what could never run here, or would be over a limit; see :meth:`problem`."""
        if problem := self.problem(user, request, except_job):
            raise Refused(problem)

    def problem(self, user: str, request: Request, except_job: int = 0) -> str:
        """Why no queue may ever run a request, or the limit that one more waiting job would exceed; empty for none.

        ``except_job`` isn't counted, since this request would replace its own.
        """
        needs = self.planner.needs_of(PlanRequest(-1, request, owner=Owner(user, request.account, request.tier)))
        if not needs:
            return self.planner.misfit_words(request, user)
        queues = dict.fromkeys(need.queue for need in needs)
        return too_many_waiting(self.site, user, request, queues, lambda: self._waiting(except_job))

    def in_use(self, owners: Iterable[tuple[Kind, str]]) -> Iterable[tuple[Kind, str, str, int, int]]:
        """For each limit of these owners (kind, name): what it limits, how much is in use, and the most allowed."""
        limited = {owner: limits for owner in owners if (limits := limits_of(self.site, *owner)) != Limits()}
        waiting = self._waiting(0) if any(one.waiting_jobs is not None for one in limited.values()) else {}
        running: dict[tuple[Kind, str], list[int]] = {owner: [0, 0, 0] for owner in limited}
        for job in self.state.jobs.running.values() if limited else ():
            request, claim = job.request, job.claim
            for owner in (
                ("user", job.user),
                *(("account", name) for name in self.site.lineage(request.account)),
                ("tier", request.tier),
                ("queue", job.queue),
            ):
                if owner in running:
                    running[owner] = [held + amount for held, amount in zip(running[owner], claim, strict=True)]
        for owner, limits in limited.items():
            in_use = running[owner]
            for words, used, most in zip(MEASURES, in_use, limits.of_running, strict=True):
                if most is not None:
                    yield *owner, words, used, most
            if limits.waiting_jobs is not None:
                yield *owner, "waiting jobs", waiting.get(owner, 0), limits.waiting_jobs

    def _owners(self, user: str, request: Request) -> Iterable[tuple[Kind, str]]:
        """Whose limits of waiting jobs it counts for."""
        yield from (("user", user), ("tier", request.tier))
        yield from (("account", name) for name in self.site.lineage(request.account))
        if any(queue.limits.waiting_jobs is not None for queue in self.site.queues):
            owner = Owner(user, request.account, request.tier)
            yield from (("queue", name) for name in self.planner.queues(PlanRequest(-1, request, owner=owner)))

    def _waiting(self, except_job: int) -> dict[tuple[Kind, str], int]:
        """Count the waiting jobs of each owner; one that several queues may run waits in each of them."""
        counts: dict[tuple[Kind, str], int] = {}
        for line in self.state.jobs.lines.values():
            if line.unstarted:
                for owner in self._owners(line.user, line.request):
                    counts[owner] = counts.get(owner, 0) + line.unstarted
        besides = self.state.jobs.get(except_job)
        if besides is not None and besides.phase is not Phase.RUNNING:
            for owner in self._owners(besides.user, besides.request):
                counts[owner] -= 1
        return counts
