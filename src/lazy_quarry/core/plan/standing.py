"""A job's standing: its priority as one number, in hours of waiting.

Waiting counts in hours, and every other part adds or subtracts hours: the light recent use of its account and its user
(see :mod:`lazy_quarry.core.ledger.recent_use`), its tier, its size.

Jobs of a tier that gives way come behind all others. Otherwise they would take back the place that they were stopped
for. A user's own order moves nobody else's jobs: the user's jobs keep the same turns and only exchange them.
"""

from collections.abc import Iterable, Mapping, Sequence

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.ledger.recent_use import RecentUse, lightness
from lazy_quarry.core.plan.standing_parts import StandingParts
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import HOUR_MS


def standing_of(usage: RecentUse, job: Job, at_ms: int, request: Request | None = None) -> StandingParts:
    """The standing of a job at an instant; with another ``request``, as it would be with that."""
    site, requested = usage.site, request or job.request
    tier = site.tier.get(requested.tier)
    cores = min(site.cores, cores_requested(requested, site))
    return StandingParts(
        waited=max(0, at_ms - job.submitted_ms) / HOUR_MS,
        account=site.standing.account_h * lightness(*usage.of_account(requested.account)),
        user=site.standing.user_h * lightness(*usage.of_user(requested.account, job.user)),
        tier=tier.standing_h if tier else 0.0,
        size=site.standing.size_h * cores / site.cores if site.cores else 0.0,
        gives_way=bool(tier and tier.gives_way),
    )


def cores_requested(request: Request, site: Site) -> int:
    """The cores of a request; nodes requested whole count with all their cores."""
    nodes = max(1, request.nodes or 1)
    cores = (nodes * request.ranks_per_node if request.ranks_per_node else request.ranks) * request.threads
    if request.whole_nodes and request.queues and (queue := site.queue.get(request.queues[0])):
        each = max((site.node[name].cores for name in queue.nodes if name in site.node), default=1)
        cores = max(cores, each * max(nodes, -(-cores // each)))
    return cores


def in_order(jobs: Iterable[Job], usage: RecentUse, orders: Mapping[str, Sequence[int]]) -> list[Job]:
    """Jobs by standing, the highest first; jobs that give way come behind all others.

    Between equals, the one submitted earlier comes first, then the lower number.
    """
    found = list(jobs)
    standing: dict[tuple, tuple[bool, float]] = {}  # all but the waiting, which grows alike for all

    def turn(job: Job) -> tuple[bool, float, int, int]:
        request = job.request
        key = (job.user, request.account, request.tier, cores_requested(request, usage.site))
        known = standing.get(key)
        if known is None:
            parts = standing_of(usage, job, job.submitted_ms)
            known = standing[key] = (parts.gives_way, parts.total)
        return known[0], job.submitted_ms / HOUR_MS - known[1], job.submitted_ms, job.number

    found.sort(key=turn)
    for user, chosen in sorted(orders.items()):
        rank = {number: place for place, number in enumerate(chosen)}
        turns = [place for place, job in enumerate(found) if job.user == user]
        own = sorted((found[place] for place in turns), key=lambda job: rank.get(job.number, len(rank)))
        for place, job in zip(turns, own, strict=True):
            found[place] = job
    return found
