"""Rehearsals of costly acts: which jobs there would be, what they are charged at most, when they start.

Nothing is guessed: the act itself is done, on a copy of the state, and the copy is thrown away.
"""

from collections.abc import Callable, Iterable
from contextlib import suppress

from lazy_quarry.core.explain.suggestions import Suggestions
from lazy_quarry.core.header.submission import Submission
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.job.rates import greatest_charge
from lazy_quarry.errors import NoSuchJob, Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.chain_changes import ChainChanges
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.session import Session
from lazy_quarry.views.chain_views import ChainSource
from lazy_quarry.views.foretold import Foretold, ForetoldJob
from lazy_quarry.views.outcomes import Outcome, Receipt

MOST_TOLD = 8
"""Jobs of which the start is worked out; a sentence names no more."""


class _Looked(Exception):
    """Ends a transaction of which nothing is to be kept."""


class Beforehand:
    """Says what acts would do. Every call leaves the site as it was."""

    def __init__(self, session: Session, operations: Operations, chains: ChainChanges) -> None:
        self.session, self.operations, self.chains = session, operations, chains

    def would_run_again(self, caller: Caller, jobs: list[int], settings: list[str], failed: bool = False) -> Foretold:
        """Rehearse :meth:`Operations.again`."""
        return self._foretold(lambda: _refused(self.operations.run_again(caller, jobs, settings, failed)))

    def would_change(self, caller: Caller, jobs: list[int], settings: list[str]) -> Foretold:
        """Rehearse a change of jobs that have not started."""
        return self._foretold(lambda: _refused(self.operations.changed(caller, jobs, settings)), jobs)

    def would_try(
        self, caller: Caller, submission: Submission, task: int | None = None, values: dict[str, str] | None = None
    ) -> Foretold:
        """Rehearse a trial of a draft."""
        return self._foretold(lambda: _not_taken(self.operations.try_one(caller, submission, task, values)))

    def would_continue(self, caller: Caller, number: int, source: ChainSource, first: str = "") -> Foretold:
        """Rehearse the continuation of a chain."""
        checked = self.chains.chains.checked(caller, source)
        worst = next((one for _, one in checked.findings if one.severity == "error"), None)
        if worst is not None:
            return Foretold(now_ms=self.session.now(), refused=f"line {worst.line}, {worst.message}")

        def act() -> str:
            self.chains.continued(caller, number, checked, source, first)
            return ""

        return self._foretold(act)

    def _foretold(self, act: Callable[[], str], changed: Iterable[int] = ()) -> Foretold:
        session = self.session
        with session.lock:
            found, why, before = list[Job](), "", session.engine.state.next_number
            try:
                with suppress(_Looked), session.together():
                    why = act()
                    state = session.engine.state
                    numbers = [*changed] or [one for one in range(before, state.next_number) if one in state.jobs]
                    found = [state.jobs[one] for one in numbers if one in state.jobs]
                    raise _Looked
            except (Refused, NoSuchJob) as fault:
                why = str(fault)
            if why:
                return Foretold(now_ms=session.now(), refused=why)
            jobs = tuple(self._job(job, place < MOST_TOLD) for place, job in enumerate(found))
            return Foretold(now_ms=session.now(), jobs=jobs, left_core_ms=self._left(jobs[0].account) if jobs else None)

    def _job(self, job: Job, timed: bool) -> ForetoldJob:
        session, request = self.session, job.request
        needs = session.engine.plans.planner.needs(request, job.user)
        tasks = request.array.count if request.array is not None else 0
        start = None
        if timed and job.phase is Phase.WAITING:
            start = Suggestions(session.engine, session.plan(), session.zone).start_with(job, request)
        return ForetoldJob(
            name=request.name,
            tasks=tasks,
            cores=needs[0].cores if needs else 0,
            walltime_s=request.walltime_s,
            queue=needs[0].queue if needs else "",
            account=request.account,
            most_core_ms=greatest_charge(session.site, request, needs[0], tasks or 1) if needs else 0,
            start_ms=start,
        )

    def _left(self, account: str) -> int | None:
        above = self.session.site.lineage(account)
        left = (one.left_core_ms for one in self.session.account_lines() if one.account in above)
        return min((amount for amount in left if amount is not None), default=None)


def _refused(outcomes: list[Outcome]) -> str:
    return next((one.message for one in outcomes if not one.done), "")


def _not_taken(receipt: Receipt) -> str:
    worst = next((one for one in receipt.diagnostics if one.severity == "error"), None)
    return f"line {worst.line}, {worst.message}" if receipt.job is None and worst is not None else ""
