"""Why a job waits, read from the one plan: what it needs, who has it, until when, and what would help."""

from dataclasses import dataclass, replace
from datetime import UTC, tzinfo

import numpy as np

from lazy_quarry.core.job import Job, Phase
from lazy_quarry.core.plan.planner import Ask, Placement, Plan, Planner
from lazy_quarry.core.request import Need, Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import clock_time, fold_names, format_duration, format_size, plural

SHORTER_S = tuple(minutes * 60 for minutes in (15, 30, 45, 60, 90, 120, 180, 240, 360, 480, 720, 1440))
"""Walltimes that are tried for a sooner start."""


@dataclass(frozen=True, slots=True)
class Why:
    """``because``: a sentence on what the job waits for. ``instead``: what would start sooner, or empty."""

    because: str
    instead: str = ""


def need_words(need: Need) -> str:
    """``2 nodes with 16 free cores and 48 GiB each``."""
    part = need.parts[0]
    if need.whole:
        return f"{plural(need.node_count, 'whole node')} of {need.queue}"
    each = [plural(part.cores, "free core"), format_size(part.memory_mib)]
    if need.gpus:
        each.append(plural(need.gpus, "GPU"))
    words = " and ".join([", ".join(each[:-1]), each[-1]])
    return f"{plural(need.node_count, 'node')} of {need.queue} with {words}" + (" each" if need.node_count > 1 else "")


class Explainer:
    """Answers for one plan. Times are told in ``zone``."""

    def __init__(self, site: Site, planner: Planner, plan: Plan, running: dict[int, Job], zone: tzinfo = UTC) -> None:
        self.site, self.planner, self.plan, self.running, self.zone = site, planner, plan, running, zone
        self._free = plan.timeline.free_at(plan.now_ms)

    def why(self, job: Job, held_by: str = "") -> Why:
        """What a job that has not started waits for."""
        if job.phase is Phase.HELD:
            return Why(f"held by {held_by or job.user}; it waits until it is released")
        if job.phase is Phase.BLOCKED:
            told = [f"{number} {condition}" for number, condition in job.waits]
            return Why(f"waits until {' and '.join(told)}")
        now = self.plan.now_ms
        placement = self.plan.placements.get(job.number)
        if placement is None:
            reason = self.plan.unplaced.get(job.number)
            return Why(reason or "it stands behind the jobs that the plan gives places; no forecast yet")
        if placement.start_ms <= now:
            return Why("it starts now")
        starts = f"expected to start at {self._clock(placement.start_ms)}"
        not_before = job.request.not_before_ms or 0
        if not_before > now and placement.start_ms == not_before:
            return Why(f"asked not to start before {self._clock(not_before)}")
        needs = [need for need in self.planner.needs(job.request) if need.queue == placement.queue]
        if not needs:
            return Why(starts)
        able = self.able_now(needs[0])
        wanted = need_words(needs[0])
        if able < needs[0].node_count:
            have = "none has that now" if able == 0 else f"only {able} {'has' if able == 1 else 'have'} that now"
            return Why(f"waits for {wanted}; {have}. {self._turns(placement, starts)}")
        lasting = format_duration(job.request.walltime_s)
        return Why(f"waits for {wanted} for {lasting}; free now, but not for so long. {self._turns(placement, starts)}")

    def able_now(self, need: Need) -> int:
        """Nodes that could give the largest part of a need at this instant, for however short."""
        ground = self.planner.ground
        nodes = np.array([ground.index[name] for name in need.eligible])
        part = need.parts[0]
        wanted = ground.capacity[:, nodes].T
        if not need.whole:
            wanted = np.array([(part.cores, part.memory_mib, need.gpus, need.scratch_mib)])
        return int((wanted <= self._free[:, nodes].T).all(axis=1).sum())

    def _turns(self, placement: Placement, starts: str) -> str:
        """Which end, window or opening the expected start hangs on."""
        nodes = {placed.node for placed in placement.nodes}
        ends = [
            (job.number, sorted(share.node for share in job.shares if share.node in nodes))
            for job in self.running.values()
            if job.end_limit_ms == placement.start_ms and any(share.node in nodes for share in job.shares)
        ]
        if ends:
            number, freed = ends[0]
            where = f"{'Nodes' if len(freed) > 1 else 'Node'} {fold_names(freed)}"
            comes = "come" if len(freed) > 1 else "comes"
            return f"{where} {comes} free at {self._clock(placement.start_ms)} at the latest, when {number} reaches its limit."
        for window in self.site.windows:
            if window.ends_ms == placement.start_ms and nodes & set(window.nodes):
                return f"{window.reason} lasts until {self._clock(window.ends_ms)}; {starts}."
        ahead = next(
            (
                other.job
                for other in self.plan.placements.values()
                if other.end_ms == placement.start_ms and any(placed.node in nodes for placed in other.nodes)
            ),
            None,
        )
        behind = f", after {ahead}" if ahead else ""
        return f"{starts[:1].upper()}{starts[1:]}{behind}."

    def instead(self, job: Job) -> str:
        """A smaller request that would start now, tried on the plan; empty when none was found."""
        placement = self.plan.placements.get(job.number)
        if job.phase is not Phase.WAITING or placement is None or placement.start_ms <= self.plan.now_ms:
            return ""
        for walltime in sorted((one for one in SHORTER_S if one < job.request.walltime_s), reverse=True):
            shorter = replace(job.request, walltime_s=walltime)
            if self._starts_now(shorter):
                return f"It would start now if it asked for at most {format_duration(walltime)}."
        nodes = len(placement.nodes)
        for fewer in range(nodes - 1, 0, -1):
            ranks = job.request.ranks * fewer // nodes
            smaller = replace(job.request, nodes=fewer, ranks=max(fewer, ranks))
            if self._starts_now(smaller):
                cores = smaller.ranks * smaller.threads
                return f"It would start now with {plural(fewer, 'node')} and {plural(cores, 'core')}."
        return ""

    def _starts_now(self, request: Request) -> bool:
        placement = self.planner.place(self.plan.timeline, Ask(-1, request))
        return placement is not None and placement.start_ms <= self.plan.now_ms

    def _clock(self, at_ms: int) -> str:
        return clock_time(at_ms, self.plan.now_ms, self.zone)
