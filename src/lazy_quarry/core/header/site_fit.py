"""Checks of the request against the site: limits, what could never run, what its account can pay."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from lazy_quarry.core.header.diagnostic import hint, warning
from lazy_quarry.core.header.notes import HeaderNotes
from lazy_quarry.core.job.needs import Need
from lazy_quarry.core.job.queue_fit import Misfit, queue_fit
from lazy_quarry.core.job.rates import greatest_charge
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.traits import parse_traits
from lazy_quarry.core.units import core_hours_apart, fold_names, format_duration

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


class SiteFit:
    """Compares a request with the queues that it names. ``read`` has the header's values, by key."""

    def __init__(
        self,
        request: Request,
        site: Site,
        notes: HeaderNotes,
        read: Mapping[str, Any],
        left_core_ms: Mapping[str, int | None],
        user: str,
    ) -> None:
        self.request, self.site, self.notes, self.read = request, site, notes, read
        self.left_core_ms, self.user = left_core_ms, user

    def needs(self) -> tuple[Need, ...]:
        """Note what is over a limit or can never run. Returns the needs in the queues that could serve it."""
        fits = {
            name: queue_fit(self.request, self.site.queue[name], self.site, self.user) for name in self.request.queues
        }
        fitting = [need for fit in fits.values() for need in fit.needs[:1]]
        misfits = list(dict.fromkeys(misfit for fit in fits.values() for misfit in fit.misfits))
        if not fitting:
            if len(misfits) > 1 and all(one.key == "traits" for one in misfits):
                self.notes.note("impossible", "traits", self._never_together())
                return ()
            too_long = [one for one in misfits if one.walltime_limit_s is not None]
            nearest = max(too_long, key=lambda one: one.walltime_limit_s or 0, default=None)
            for one in misfits:
                if one is nearest or one not in too_long:
                    self._refuse(one)
            return ()
        for name, fit in fits.items():
            if not fit.needs:
                words = f"queue {name} would never run this, so it waits only in the others: {fit.misfits[0].words}"
                self.notes.note("queue-unfit", "queue", words, severity=hint)
        self._budget(fitting[0])
        return tuple(fitting)

    def _refuse(self, misfit: Misfit) -> None:
        key, words, fix = misfit.key, misfit.words, None
        if misfit.code == "impossible":
            key, words = self._disagreement(misfit)
        elif misfit.key == "ranks":
            key = self._given("ranks", "nodes", "threads")
        if misfit.walltime_limit_s is not None:
            limit = format_duration(misfit.walltime_limit_s)
            fix = self.notes.replaced_text("walltime", limit, f"ask for {limit}")
        self.notes.note(misfit.code, key, words, fix=fix)

    def _given(self, *keys: str) -> str:
        """The first of these keys that the header has; a problem is shown in its line."""
        return next((key for key in keys if key in self.read), keys[0])

    def _disagreement(self, fault: Misfit) -> tuple[str, str]:
        """The key in whose line an impossible request is shown, and the words with the line it disagrees with."""
        key = self._given(fault.key, "ranks", "nodes", "ranks-per-node", "threads", "queue")
        others = (one for one in _DISAGREES_WITH.get(key, ()) if one in self.read)
        other = next((one for one in others if self.notes.line_of(one)), None)
        if other is None or not self.notes.line_of(key):
            return key, fault.words
        return key, f"{fault.words} ({key} here and {other} in line {self.notes.line_of(other)} disagree)"

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
        bounds = [
            (left, name)
            for name in self.site.lineage(request.account)
            if (left := self.left_core_ms.get(name)) is not None
            and not (self.site.gives_way(request.tier) and self.site.account[name].at_end == "give-way")
        ]
        if not bounds:
            return
        left, account = min(bounds)
        tasks = request.array.count if request.array else 1
        most = greatest_charge(self.site, request, need, tasks)
        if left <= 0:
            others = [one.name for one in self.site.tiers if one.gives_way]
            may = f"only tier {' or '.join(others)} may still charge it" if others else ""
            if self.site.account[account].at_end != "give-way" or not may:
                may = "charge another account"
            self.notes.note("budget", "account", f"the budget of {account} is spent; {may}")
        elif most > left:
            asked, has = core_hours_apart(most, left)
            words = f"it may charge {asked} core-hours, and {account} has {has} left; it would not start as it is"
            self.notes.note("budget", self._given("account", "walltime"), words, severity=warning)
