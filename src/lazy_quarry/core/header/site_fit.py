"""Checks of the request against the site: limits, what could never run, what its account can pay."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from lazy_quarry.core.header.diagnostic import Fix, warning
from lazy_quarry.core.header.notes import HeaderNotes
from lazy_quarry.core.job.needs import Need, needs
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.ledger.charges import greatest_charge
from lazy_quarry.core.site import Queue, Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import fold_names, format_core_hours, format_duration, plural
from lazy_quarry.errors import Impossible

_DISAGREES_WITH = {
    "traits": ("queue", "on-nodes"),
    "on-nodes": ("queue", "traits"),
    "gpus": ("queue",),
    "gpu-memory": ("queue",),
    "scratch": ("queue",),
    "memory": ("ranks-per-node", "ranks", "nodes", "threads", "queue"),
    "nodes": ("queue", "traits"),
    "ranks": ("nodes", "threads", "queue"),
    "ranks-per-node": ("threads", "nodes", "queue"),
    "threads": ("queue",),
}
"""By the key that asks for too much: the keys that may be why, the likeliest first."""


@dataclass(frozen=True, slots=True)
class _Refusal:
    """Why a queue would not serve a request, and the key in whose line that is shown."""

    code: str
    key: str
    words: str
    fix: Fix | None = None
    walltime: bool = False
    """The walltime is over the queue's limit."""


class SiteFit:
    """Compares a request with the queues that it names. ``read`` has the header's values, by key."""

    def __init__(
        self,
        request: Request,
        site: Site,
        notes: HeaderNotes,
        read: Mapping[str, Any],
        left_core_ms: Mapping[str, int | None],
    ) -> None:
        self.request, self.site, self.notes, self.read, self.left_core_ms = request, site, notes, read, left_core_ms

    def needs(self) -> tuple[Need, ...]:
        """Note what is over a limit or can never run. Returns the needs in the queues that could serve it."""
        fitting: list[Need] = []
        refusals: list[_Refusal] = []
        for name in self.request.queues:
            fits, refused = self._put_to(self.site.queue[name])
            fitting += fits
            refusals += refused
        if not fitting:
            if len(refusals) > 1 and all(one.key == "traits" for one in refusals):
                refusals = [_Refusal("impossible", "traits", self._never_together())]
            for one in refusals:
                self.notes.note(one.code, one.key, one.words, fix=one.fix)
        told = not fitting and any(one.walltime for one in refusals)
        tier = self.site.tier[self.request.tier]
        if tier.walltime_limit_s and self.request.walltime_s > tier.walltime_limit_s and not told:
            over = self._over_walltime(f"tier {tier.name}", tier.walltime_limit_s)
            self.notes.note(over.code, over.key, over.words, fix=over.fix)
        if fitting:
            self._budget(fitting[0])
        return tuple(fitting)

    def _put_to(self, queue: Queue) -> tuple[list[Need], list[_Refusal]]:
        refusals = []
        if queue.walltime_limit_s and self.request.walltime_s > queue.walltime_limit_s:
            refusals.append(self._over_walltime(f"queue {queue.name}", queue.walltime_limit_s))
        try:
            need = needs(self.request, queue, self.site)
        except Impossible as fault:
            return [], [*refusals, _Refusal("impossible", *self._disagreement(fault))]
        if queue.max_cores and need.cores > queue.max_cores:
            limit = f"the limit of queue {queue.name}, {plural(queue.max_cores, 'core')} a job"
            key = self._given("ranks", "nodes", "threads")
            refusals.append(_Refusal("over-limit", key, f"{plural(need.cores, 'core')} are over {limit}"))
        return ([] if refusals else [need]), refusals

    def _over_walltime(self, whose: str, limit_s: int) -> _Refusal:
        limit = format_duration(limit_s)
        words = f"walltime {format_duration(self.request.walltime_s)} is over the limit of {whose}, {limit}"
        fix = self.notes.replaced_text("walltime", limit, f"ask for {limit}")
        return _Refusal("over-limit", "walltime", words, fix, walltime=True)

    def _given(self, *keys: str) -> str:
        """The first of these keys that the header has; a problem is shown in its line."""
        return next((key for key in keys if key in self.read), keys[0])

    def _disagreement(self, fault: Impossible) -> tuple[str, str]:
        """The key in whose line an impossible request is shown, and the words with the line it disagrees with."""
        key = self._given(fault.key, "ranks", "nodes", "ranks-per-node", "threads", "queue")
        others = (one for one in _DISAGREES_WITH.get(key, ()) if one in self.read)
        other = next((one for one in others if self.notes.line_of(one)), None)
        if other is None or not self.notes.line_of(key):
            return key, str(fault)
        return key, f"{fault} ({key} here and {other} in line {self.notes.line_of(other)} disagree)"

    def _never_together(self) -> str:
        """Where each of the traits is available, when no node of the queues has what is requested."""
        return (
            f'no node of {", ".join(self.request.queues)} meets traits "{self.request.traits}": '
            f"{'; '.join(self._where_traits_are(parse_traits(self.request.traits).names))}"
        )

    def _where_traits_are(self, traits: Iterable[str]) -> Iterator[str]:
        for trait in sorted(traits):
            names = [node.name for node in self.site.nodes if trait in node.traits and node.runs_jobs]
            yield f"{trait} {'is on ' + fold_names(names) if names else 'is on no node'}"

    def _budget(self, need: Need) -> None:
        request = self.request
        left = self.left_core_ms.get(request.account)
        if left is None:
            return
        tasks = request.array.count if request.array else 1
        most = greatest_charge(self.site, request.tier, need.cores, request.walltime_s, tasks)
        if left <= 0:
            self.notes.note("budget", "account", f"the budget of {request.account} is spent; charge another account")
        elif most > left:
            words = (
                f"it may charge {format_core_hours(most)} core-hours, and {request.account} "
                f"has {format_core_hours(left)} left"
            )
            self.notes.note("budget", self._given("account", "walltime"), words, severity=warning)
