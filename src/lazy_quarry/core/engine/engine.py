"""The only place where a job changes state: commands → events → state.

:meth:`Engine.decide` says which events a command makes and changes nothing; :meth:`Engine.apply` folds them in.
Between the two, the caller puts the events on disk. Replaying the events gives the state again.
"""

from collections.abc import Callable, Iterable
from typing import Any

from lazy_quarry.core.engine import chain_decisions, job_decisions, schedule_decisions, site_decisions
from lazy_quarry.core.engine.commands import (
    CancelJob,
    CancelTask,
    ChangeChain,
    ChangeJob,
    ChangeMember,
    CloseNode,
    Command,
    Finish,
    GrantHours,
    HearNode,
    HoldDoubtful,
    HoldJob,
    LinkChain,
    LoseJob,
    LoseNode,
    OpenNode,
    OrderJobs,
    ReadMeters,
    ReleaseJob,
    Reserve,
    Schedule,
    StepClock,
    Submit,
    SubmitChain,
    Unreserve,
)
from lazy_quarry.core.engine.events import ClockHeld, ClockStepped, Event
from lazy_quarry.core.engine.finish_decision import finish
from lazy_quarry.core.engine.in_doubt import in_doubt
from lazy_quarry.core.engine.limit_use import LimitUse
from lazy_quarry.core.engine.meters import turned
from lazy_quarry.core.engine.plans import Plans
from lazy_quarry.core.engine.situation import Situation
from lazy_quarry.core.engine.state import State
from lazy_quarry.core.job.by import MOST_REASON, By
from lazy_quarry.core.job.job import Job
from lazy_quarry.core.ledger.budgets import next_turn_ms
from lazy_quarry.core.plan.planner import Planner
from lazy_quarry.core.site import Site
from lazy_quarry.errors import Refused

CLOCK_SLACK_MS = 2_000
"""A clock set back by less than this is held without a word."""

_DECISIONS: dict[type, Callable[[Situation, Any], list[Event]]] = {
    Submit: job_decisions.submit,
    HoldJob: job_decisions.hold,
    ReleaseJob: job_decisions.release,
    CancelJob: job_decisions.cancel,
    CancelTask: job_decisions.cancel_task,
    ChangeJob: job_decisions.change,
    OrderJobs: job_decisions.order,
    CloseNode: site_decisions.close_node,
    OpenNode: site_decisions.open_node,
    LoseNode: site_decisions.lose_node,
    LoseJob: site_decisions.lose_job,
    HearNode: site_decisions.hear_node,
    Reserve: site_decisions.reserve,
    Unreserve: site_decisions.unreserve,
    GrantHours: site_decisions.grant_hours,
    ReadMeters: site_decisions.read_meters,
    ChangeMember: site_decisions.change_member,
    SubmitChain: chain_decisions.submit_chain,
    LinkChain: chain_decisions.link_chain,
    ChangeChain: chain_decisions.change_chain,
    StepClock: lambda now, command: [ClockStepped(now.at_ms, command.by_ms)] if now.state.jobs.running else [],
    HoldDoubtful: lambda now, command: in_doubt(now.state, command.at_ms, command.copied, {}),
    Schedule: schedule_decisions.schedule,
    Finish: finish,
}


class Engine:
    """A site's state with the plans made of it. Engines of one site may share a planner, if they take turns."""

    def __init__(self, site: Site, state: State | None = None, planner: Planner | None = None) -> None:
        self.site = site
        self.state = state or State()
        self.plans = Plans(site, self.state, planner)
        self._no_turn_before_ms = 0
        self.limit_use = LimitUse(site, self.state, self.plans.planner)

    def decide(self, command: Command) -> list[Event]:
        """The events that a command makes. Raises :class:`Refused` when it is not carried out."""
        if isinstance(by := getattr(command, "by", None), By) and len(by.why) > MOST_REASON:
            raise Refused(f"a reason has at most {MOST_REASON:,} characters")
        at = max(command.at_ms, self.state.at_ms)
        situation = Situation(self.site, self.state, self.plans, self.limit_use, at)
        return [*self._clock(command, at), *self._turned(command, at), *_DECISIONS[type(command)](situation, command)]

    def _turned(self, command: Command, at: int) -> Iterable[Event]:
        """Terms of budgets have begun: the meters are read before anything else happens in them."""
        if at < self._no_turn_before_ms or isinstance(command, ReadMeters):
            return
        # Read after the first charge of the new term, the meters would count that charge to the old one.
        events = list(turned(self.site, self.state, at))
        if not events:
            self._no_turn_before_ms = next_turn_ms(self.site, at)
        yield from events

    def _clock(self, command: Command, at: int) -> list[Event]:
        """The clock was set back. One event is recorded for each instant at which journal time stands still."""
        behind = at - command.at_ms
        told = self.state.clock_held_ms == at
        if isinstance(command, Schedule) and behind > CLOCK_SLACK_MS and not told:
            return [ClockHeld(at, behind)]
        return []

    def apply(self, events: Iterable[Event]) -> list[Job]:
        """Fold events that are on disk into the state; returns the jobs they brought to their end."""
        ended = []
        for event in events:
            followed = getattr(event, "job", 0) in self.state.followers
            if job := self.state.apply(event):
                ended.append(job)
            self.plans.take_in(event, followed)
        return ended
