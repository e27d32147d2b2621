"""Moves a site on: records what has ended, starts what the plan places now, stops what must stop."""

from collections.abc import Iterable

from lazy_quarry.core.engine.commands import CloseNode, Finish, HearNode, HoldDoubtful, LoseJob, Schedule
from lazy_quarry.core.engine.events import Event, Started, Stopping
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.by import MOST_REASON, By
from lazy_quarry.core.job.job import TASK_SPAN, Phase
from lazy_quarry.core.ledger.budgets import next_turn_ms
from lazy_quarry.core.ledger.recent_use import USE_UPDATE_MS, use_updated_at
from lazy_quarry.errors import StateFolderError
from lazy_quarry.run.runner import Attempt
from lazy_quarry.site.fast_search import FastSearch
from lazy_quarry.site.session import Session


class Dispatcher:
    """Stands between the engine, which decides, and the runner, which runs."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.fast_search = FastSearch(session.engine.plans.planner)
        site, journal = session.site, session.journal
        for closure in site.closures:
            if closure.node not in self._state.closures and not journal.number:
                session.commit(
                    session.engine.decide(CloseNode(session.now(), closure.node, By(why=closure.reason[:MOST_REASON])))
                )
        session.halves = [number for number, record in self._state.chains.items() if record.missing]
        session.read_meters()
        if journal.adopted:
            self._disown()
        session.runner.start(list(self._state.running()))
        for job in list(self._state.running()):
            if job.stopping:
                session.runner.stop(job, job.stopping)

    @property
    def _state(self) -> State:
        return self.session.engine.state

    def _disown(self) -> None:
        """Disown what ran in a copied state folder: it belongs to the original. There, and where events were lost, hold what waits:
        it may have run already.
        """
        copied = self.session.journal.adopted == "yes"
        self.session.commit(self.session.engine.decide(HoldDoubtful(self.session.now(), copied)))
        self.session.journal.settle_adoption()

    def step(self, at_ms: int | None = None) -> bool:
        """Record what has ended and start what the plan places at this instant; True when anything changed.

        If the journal cannot be written, a notice says so, and the next step tries again.
        """
        session, runner = self.session, self.session.runner
        with session.lock:
            now = max(session.now(), at_ms or 0)
            self.fast_search.consider(len(self._state.jobs))
            before = session.version
            try:
                self._record(runner.reports(now))
                self._hear_nodes()
                events = session.engine.decide(Schedule(at_ms or session.clock()))
                if any(isinstance(event, Started) for event in events) and runner.closed():
                    return session.version != before
                if later := self._prepare(events):
                    events = session.engine.decide(Schedule(at_ms or session.clock(), later))
                started = [event.job for event in events if isinstance(event, Started)]
                session.commit(events)
                self.pass_on(events)
                if started:
                    runner.start([self._state.jobs[number] for number in started])
            except StateFolderError:
                return session.version != before
            return session.version != before

    def _hear_nodes(self) -> None:
        """Record which nodes don't answer any more, or answer again; one that has less than the site says is closed."""
        session, runner = self.session, self.session.runner
        for node, since in runner.answering().items():
            if (node in self._state.quiet) != (since is not None):
                session.commit(session.engine.decide(HearNode(session.now(), node, since)))
        for job in self._state.running() if self._state.quiet else ():
            if node := runner.lapsed(job):
                events = session.engine.decide(LoseJob(session.now(), job.number, node))
                session.commit(events)
                self.pass_on(events)
        for node, words in runner.unlike().items():
            if node not in self._state.closures:
                session.commit(session.engine.decide(CloseNode(session.now(), node, By(why=words))))

    def _prepare(self, events: Iterable[Event]) -> frozenset[int]:
        """Let the runner make ready for what is about to start; returns the jobs that it isn't ready for yet."""
        jobs, attempts = self._state.jobs, list[Attempt]()
        for event in events:
            if isinstance(event, Started):
                known = jobs.get(event.job) or jobs[event.job // TASK_SPAN]  # a task may be made by the same events
                nodes = tuple(one.node for one in event.allocations)
                attempts.append(Attempt(event.job, event.attempt, known.mark, nodes))
        try:
            return self.session.runner.prepare(attempts)
        except StateFolderError as fault:
            self.session.say_unwritable(str(fault))
            raise

    def _record(self, reports: Iterable[Finish]) -> None:
        """Record ends in the journal, then let the runner forget them. An end that is reported twice is recorded once."""
        once = {(report.job, report.attempt, report.mark): report for report in reports}
        self.session.commit([event for report in once.values() for event in self.session.engine.decide(report)])
        for report in once.values():
            self.session.runner.settled(report)

    def pass_on(self, events: Iterable[Event]) -> None:
        """Have the runner stop the jobs that must stop."""
        for event in events:
            if isinstance(event, Stopping):
                self.session.runner.stop(self._state.jobs[event.job], event.cause)

    def next_instant_ms(self) -> int | None:
        """When something could start although nothing ends: a window is over, a not-before has come."""
        now, windows = self.session.now(), self.session.engine.plans.windows
        jobs = self._state.jobs
        dated = (jobs[number] for number in jobs.dated)
        instants = [job.request.not_before_ms or 0 for job in dated if job.phase is Phase.WAITING]
        instants += [window.ends_ms for window in windows]
        instants += [next_turn_ms(self.session.site, now)]
        instants += [window.begins_ms for window in windows if window.reserved]
        if any(line.places for line in jobs.lines.values()):
            instants.append(use_updated_at(now) + USE_UPDATE_MS)
        return min((at for at in instants if at > now), default=None)
