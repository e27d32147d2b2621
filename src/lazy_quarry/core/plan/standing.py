"""A job's standing: its priority as one number, in hours of waiting.

Waiting counts in hours, and every other part adds or subtracts hours: the light recent use of its account and its user
(see :mod:`lazy_quarry.core.ledger.recent_use`), its tier, its size.

Jobs of a tier that gives way come behind all others. Otherwise they would take back the place that they were stopped
for. A user's own order moves nobody else's jobs: the user's jobs keep the same turns and only exchange them.
"""

from collections.abc import Mapping, Sequence

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.ledger.recent_use import RecentUse, lightness
from lazy_quarry.core.plan.standing_parts import StandingParts
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import HOUR_MS


def standing_of(usage: RecentUse, job: Job, at_ms: int, request: Request | None = None) -> StandingParts:
    """The standing of a job at an instant; with another ``request``, as it would be with that."""
    return parts_of(usage, job.user, request or job.request, max(0, at_ms - job.submitted_ms))


def parts_of(usage: RecentUse, user: str, request: Request, waited_ms: int = 0) -> StandingParts:
    """The standing of a user's request that has waited so long."""
    site = usage.site
    tier = site.tier.get(request.tier)
    cores = min(site.cores, cores_requested(request, site))
    return StandingParts(
        waited=waited_ms / HOUR_MS,
        account=site.standing.account_h * lightness(*usage.of_account(request.account)),
        user=site.standing.user_h * lightness(*usage.of_user(request.account, user)),
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


Turn = tuple[bool, float, int, int]
"""Jobs start in the order of these: by standing, the highest first, those that give way behind all others; between equals the one
submitted earlier, then the lower number."""


class Turns:
    """The turns of jobs as recent use was last computed."""

    def __init__(self, usage: RecentUse) -> None:
        self.usage = usage
        self._known: dict[tuple[str, str, str, int], tuple[bool, float]] = {}

    def standing(self, user: str, request: Request) -> tuple[bool, float]:
        """Work out whether a job gives way, and all of its standing but the waiting, which grows alike for all."""
        key = (user, request.account, request.tier, cores_requested(request, self.usage.site))
        known = self._known.get(key)
        if known is None:
            parts = parts_of(self.usage, user, request)
            known = self._known[key] = (parts.gives_way, parts.total)
        return known

    def of(self, job: Job) -> Turn:
        """The turn of a job."""
        gives_way, hours = self.standing(job.user, job.request)
        return gives_way, job.submitted_ms / HOUR_MS - hours, job.submitted_ms, job.number


def exchanged(found: list[Job], orders: Mapping[str, Sequence[int]]) -> list[Job]:
    """Jobs in the order of their turns, with users' own orders: a user's jobs keep the turns and exchange them."""
    for user, chosen in sorted(orders.items()):
        rank = {number: place for place, number in enumerate(chosen)}
        turns = [place for place, job in enumerate(found) if job.user == user]
        own = sorted((found[place] for place in turns), key=lambda job: rank.get(job.number, len(rank)))
        for place, job in zip(turns, own, strict=True):
            found[place] = job
    return found
