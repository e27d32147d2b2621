"""Acts of people on chains: each is submitted, held, cancelled and continued as one thing."""

from collections.abc import Callable, Iterable

from lazy_quarry.core.chain.chain_check import ChainChecked
from lazy_quarry.core.chain.graph import downstream, ordered
from lazy_quarry.core.engine.commands import CancelJob, ChangeChain, LinkChain, SubmitChain
from lazy_quarry.core.engine.events import Chained, Submitted
from lazy_quarry.core.header.diagnostic import Diagnostic, error
from lazy_quarry.core.job.chain_record import ChainRecord
from lazy_quarry.core.job.job import Phase
from lazy_quarry.core.job.ownership import refuse_others
from lazy_quarry.core.job.phase import FAILING
from lazy_quarry.core.values import replace
from lazy_quarry.errors import Refused
from lazy_quarry.site.caller import Caller
from lazy_quarry.site.chains import Chains
from lazy_quarry.site.operations import Operations
from lazy_quarry.site.session import Session
from lazy_quarry.views.chain_views import ChainReceipt, ChainSource
from lazy_quarry.views.outcomes import Outcome

_AGAIN = (*FAILING, Phase.CANCELLED)
"""States that run again when a chain is continued; what was skipped for their sake follows them."""
_Act = Callable[[list[int]], list[Outcome]]


class Unfit(Refused):
    """A job of a chain was refused, so nothing of it is taken in."""

    def __init__(self, problem: Diagnostic) -> None:
        super().__init__(problem.message)
        self.problem = problem


class ChainChanges:
    """Changes chains, through the operations on their jobs."""

    def __init__(self, session: Session, chains: Chains, operations: Operations) -> None:
        self.session, self.chains, self.operations = session, chains, operations

    def submit_chain(self, caller: Caller, source: ChainSource) -> ChainReceipt:
        """Take in a chain: all of its jobs, or none and what must change first."""
        session, checked = self.session, self.chains.checked(caller, source)
        if checked.chain is None or checked.refused:
            return ChainReceipt(None, (), checked.findings)
        with session.lock:
            if closed := session.runner.closed():
                raise Refused(f"not submitted: {closed}")
            chain = checked.chain
            parts = tuple((job.name, job.after) for job in chain.jobs)
            command = SubmitChain(
                session.now(), chain.name, caller.by(), parts, source.text, source.path, source.folder, source.settings
            )
            try:
                with session.together():
                    events = session.engine.decide(command)
                    session.commit(events)
                    number = next(one.chain for one in events if isinstance(one, Chained))
                    numbers = self._submit(caller, number, checked, [job.name for job in chain.jobs], {})
            except Unfit as fault:
                return ChainReceipt(None, (), (("", fault.problem), *checked.findings))
            self.operations.dispatcher.step()
            return ChainReceipt(number, tuple(numbers.items()), checked.findings)

    def _submit(
        self, caller: Caller, chain: int, checked: ChainChecked, names: Iterable[str], known: dict[str, int]
    ) -> dict[str, int]:
        """Submit some jobs of a chain in their order; their numbers. Raises :class:`Unfit` at the first that is refused."""
        session, numbers = self.session, dict[str, int]()
        assert checked.chain is not None
        jobs = {job.name: job for job in checked.chain.jobs}
        for name in names:
            job, request, submission = jobs[name], checked.requests[name], checked.submissions[name]
            waits = tuple(
                (str(numbers.get(other, known.get(other, other))), condition) for other, condition in job.after
            )
            request = replace(request, after=(*request.after, *waits))
            request, problem = self.operations.dependencies.resolved(caller.user, request)
            if problem:
                raise Unfit(error("after", f"{name}: {problem}", job.line))
            try:
                submitted = self.operations.taken(caller, submission, request)
                session.commit(submitted)
                number = next(one.job for one in submitted if isinstance(one, Submitted))
                link = LinkChain(session.now(), chain, name, number, caller.by())
                session.commit(session.engine.decide(link))
            except Refused as fault:
                raise Unfit(error("over-limit", f"{name}: {fault}", job.line)) from None
            numbers[name] = number
        return numbers

    def _own(self, caller: Caller, number: int) -> ChainRecord:
        record = self.chains.record(number)
        refuse_others(record.user, caller.user, f"chain {number}", "change only your own")
        return record

    def hold_chain(self, caller: Caller, number: int, why: str = "") -> list[Outcome]:
        """Hold all of its jobs that wait."""
        return self._all(
            caller, number, (Phase.WAITING, Phase.BLOCKED), lambda jobs: self.operations.hold(caller, jobs, why)
        )

    def release_chain(self, caller: Caller, number: int, why: str = "") -> list[Outcome]:
        """Release all that are held."""
        return self._all(caller, number, (Phase.HELD,), lambda jobs: self.operations.release(caller, jobs, why))

    def cancel_chain(self, caller: Caller, number: int, why: str = "") -> list[Outcome]:
        """Cancel all that have not ended."""
        every = (Phase.WAITING, Phase.BLOCKED, Phase.HELD, Phase.RUNNING)
        return self._all(
            caller, number, every, lambda jobs: self.operations.cancel(caller, list(reversed(jobs)), why=why)
        )

    def _all(self, caller: Caller, number: int, phases: tuple[Phase, ...], act: _Act) -> list[Outcome]:
        with self.session.lock:
            record, state = self._own(caller, number), self.session.engine.state
            jobs = [part.job for part in record.parts if part.job in state.jobs]
            chosen = [job for job in jobs if state.jobs[job].phase in phases]
            return (
                act(chosen) if chosen else [Outcome(number, False, f"chain {number} has no job to which that applies")]
            )

    def continue_chain(self, caller: Caller, number: int, source: ChainSource, first: str = "") -> ChainReceipt:
        """Run again what failed and all that follows it, or all from one job on, by the file as it is now; what is done stays."""
        session, checked = self.session, self.chains.checked(caller, source)
        with session.lock:
            if checked.chain is None or checked.refused:
                self._own(caller, number)
                return ChainReceipt(None, (), checked.findings)
            try:
                with session.together():
                    made = self.continued(caller, number, checked, source, first)
            except Unfit as fault:
                return ChainReceipt(None, (), (("", fault.problem), *checked.findings))
            self.operations.dispatcher.step()
            return ChainReceipt(number, tuple(made.items()), checked.findings)

    def continued(
        self, caller: Caller, number: int, checked: ChainChecked, source: ChainSource, first: str = ""
    ) -> dict[str, int]:
        """The same as a part of what is decided together: the new jobs. Raises :class:`Refused`, or :class:`Unfit` for one job."""
        session, record = self.session, self._own(caller, number)
        assert checked.chain is not None
        chain = checked.chain
        waits = {job.name: job.inside for job in chain.jobs}
        if first and first not in waits:
            raise Refused(f'chain {number} has no job "{first}"')
        numbers = {part.name: part.job for part in record.parts if part.job and part.name in waits}
        jobs = {name: session.find(job) for name, job in numbers.items()}
        wrong = {name for name, job in jobs.items() if job.phase in _AGAIN}
        begins = {first} if first else wrong | (set(waits) - set(numbers))
        if not begins:
            raise Refused(
                f"chain {number} has nothing to run again: none of its jobs failed (--from JOB runs it from there)"
            )
        again = [name for name in ordered(waits) if name in downstream(waits, begins)]
        running = [jobs[name].label for name in again if name in jobs and jobs[name].phase is Phase.RUNNING]
        if running:
            raise Refused(f"{', '.join(running)} still run; wait for them, or cancel them first")
        if closed := session.runner.closed():
            raise Refused(f"not submitted: {closed}")
        waiting = [numbers[name] for name in again if name in jobs and not jobs[name].phase.final]
        parts = tuple((job.name, job.after) for job in chain.jobs)
        change = ChangeChain(session.now(), number, caller.by(), parts, source.text, source.settings)
        known = {name: job for name, job in numbers.items() if name not in again}
        self._cancel(caller, waiting)
        session.commit(session.engine.decide(change))
        return self._submit(caller, number, checked, again, known)

    def _cancel(self, caller: Caller, waiting: Iterable[int]) -> None:
        """Cancel jobs that have not started; those that followed one of them have ended with it."""
        session = self.session
        for number in waiting:
            if number in session.engine.state.jobs:
                session.commit(session.engine.decide(CancelJob(session.now(), number, caller.by())))
