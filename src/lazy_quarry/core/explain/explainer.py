"""Answers about waiting jobs, read from the one plan: what they wait for, who is ahead, and what would help."""

from collections.abc import Iterator
from datetime import UTC, tzinfo

from lazy_quarry.core.engine.engine import Engine
from lazy_quarry.core.explain.answers import Ahead, Explained, Suggestion, Why
from lazy_quarry.core.explain.comparison import compared
from lazy_quarry.core.explain.reasons import WaitReasons
from lazy_quarry.core.explain.suggestions import Suggestions
from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.plan.plan import Plan
from lazy_quarry.core.plan.standing import standing_of

MOST_AHEAD = 3


class Explainer:
    """Answers at one instant. Times are told in ``zone``."""

    def __init__(self, engine: Engine, at_ms: int, zone: tzinfo = UTC) -> None:
        self.engine, self.now_ms = engine, at_ms
        self.plan: Plan = engine.plans.plan(at_ms)
        self.reasons = WaitReasons(engine, self.plan, zone)
        self.suggestions = Suggestions(engine, self.plan, zone)

    def why(self, job: Job, held_by: str = "") -> Why:
        """Say what a job that has not started waits for."""
        return self.reasons.why(job, held_by)

    def ladder(self, job: Job) -> Iterator[Suggestion]:
        """When a waiting job would start with other walltimes."""
        return self.suggestions.ladder(job)

    def explained(self, job: Job) -> Explained:
        """All that can be said of a job that has not started."""
        why = self.why(job, job.reason)
        usage = self.engine.plans.recent_use(self.now_ms)
        parts = standing_of(usage, job, self.now_ms)
        if job.phase is not Phase.WAITING:
            return Explained(why, None, parts)
        ahead = self.engine.plans.ahead_of(job, self.now_ms)
        rivals = [other for other in ahead if set(other.request.queues) & set(job.request.queues)] or ahead
        nearest = []
        for other in rivals[-MOST_AHEAD:][::-1]:
            theirs = standing_of(usage, other, self.now_ms)
            words = compared(other, theirs, job, parts)
            nearest.append(Ahead(other.number, other.request.name, other.user, theirs.total - parts.total, words))
        # A smaller request helps only where its size is in the way.
        changes = () if why.kind in ("hold", "not-before", "cores") else tuple(self.suggestions.sooner(job))
        return Explained(why, len(ahead) + 1, parts, tuple(nearest), changes)

    def compare(self, first: Job, second: Job) -> str:
        """Say which of two waiting jobs stands ahead, and why."""
        usage = self.engine.plans.recent_use(self.now_ms)
        wanted = (first.number, second.number)
        order = [one for one in self.engine.plans.in_order(self.now_ms) if one.number in wanted]
        if len(order) == 2:
            first, second = order
        return compared(first, standing_of(usage, first, self.now_ms), second, standing_of(usage, second, self.now_ms))
