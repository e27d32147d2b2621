"""A job's standing: its priority as one number, in hours of waiting.

A job has the hours it has waited, and every other part is worth so many hours more or less. Recent use
counts by *lightness*: with ``t`` the part of the cluster that an account should get among all, and ``u`` its part of
what was lately used, its lightness is t / (t + u). Who has used nothing has 1, who has used just
what is theirs has one half, and who has used ever more comes near 0 without end; so the part is bounded,
falls smoothly, and needs no figure but the target. Within an account the same goes for its users, with
equal targets. Use loses half of its weight in each half-life: a day's use counts 2^(−age / half-life), with its
age from that day's noon.

Jobs of a tier that gives way stand behind all others: else they would take back the place that they were stopped for.
A user's own order among their jobs moves nobody else's: the jobs go on taking the turns that they have
together, only in another order.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.job.request import Request
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import DAY_MS, HOUR_MS

USE_UPDATE_MS = 10 * 60_000
"""Recent use is reckoned anew so often, on the clock: so it doesn't matter when somebody looks."""
KEPT_DAYS = 90
"""Older use counts for nothing."""

Recent = Mapping[str, Mapping[str, Mapping[int, int]]]
"""Core-ms held, by account, user and day (the day's first instant)."""


@dataclass(frozen=True, slots=True)
class StandingParts:
    """The parts of a standing, in hours; they add up to it."""

    waited: float = 0.0
    account: float = 0.0
    user: float = 0.0
    tier: float = 0.0
    size: float = 0.0
    gives_way: bool = False
    """Of a tier that gives way, and so behind all that don't, whatever their standings."""

    @property
    def total(self) -> float:
        """The standing."""
        return self.waited + self.account + self.user + self.tier + self.size

    def named(self) -> tuple[tuple[str, float], ...]:
        """Each part by its name."""
        return (
            ("waited", self.waited),
            ("account", self.account),
            ("user", self.user),
            ("tier", self.tier),
            ("size", self.size),
        )


def lightness(target: float, used: float) -> float:
    """t / (t + u), both as parts of a whole; 1 for no use at all."""
    return target / (target + used) if target + used > 0 else 1.0


def use_updated_at(at_ms: int) -> int:
    """The last instant at which recent use was reckoned."""
    return at_ms - at_ms % USE_UPDATE_MS


class RecentUse:
    """Who has used how much lately: each account's part of all, each user's part of their account's."""

    def __init__(self, site: Site, recent: Recent, running: Iterable[Job], at_ms: int) -> None:
        self.site = site
        at = use_updated_at(at_ms)
        half_life = site.standing.half_life_h * HOUR_MS
        used: dict[str, dict[str, float]] = {}
        for account, users in recent.items():
            mine = used.setdefault(account, {})
            for user, days in users.items():
                mine[user] = sum(
                    core_ms * 0.5 ** (max(0, at - day - DAY_MS // 2) / half_life)
                    for day, core_ms in sorted(days.items())
                )
        for job in running:
            mine = used.setdefault(job.request.account, {})
            held = job.cores_allocated * max(0, at - (job.started_ms or at))
            mine[job.user] = mine.get(job.user, 0.0) + held
        self.used = used
        self.by_account = {account: sum(users.values()) for account, users in used.items()}
        self.all = sum(self.by_account.values())
        self.targets = sum(max(0, account.target) for account in site.accounts)

    def of_account(self, name: str) -> tuple[float, float]:
        """Its target and its recent use, as parts of all accounts'."""
        known = self.site.account.get(name)
        target = max(0, known.target) / self.targets if known and self.targets else 0.0
        return target, self.by_account.get(name, 0.0) / self.all if self.all else 0.0

    def of_user(self, account: str, user: str) -> tuple[float, float]:
        """A user's target and recent use, as parts of the account's."""
        known = self.site.account.get(account)
        users = {*(known.users if known else ()), *self.used.get(account, ()), user}
        total = self.by_account.get(account, 0.0)
        return 1 / len(users), self.used.get(account, {}).get(user, 0.0) / total if total else 0.0

    def parts(self, job: Job, at_ms: int, request: Request | None = None) -> StandingParts:
        """The standing of a job at an instant; with another ``request``, as it would be with that."""
        site, asked = self.site, request or job.request
        tier = site.tier.get(asked.tier)
        cores = min(site.cores, cores_asked(asked, site))
        return StandingParts(
            max(0, at_ms - job.submitted_ms) / HOUR_MS,
            site.standing.account_h * lightness(*self.of_account(asked.account)),
            site.standing.user_h * lightness(*self.of_user(asked.account, job.user)),
            tier.standing_h if tier else 0.0,
            site.standing.size_h * cores / site.cores if site.cores else 0.0,
            bool(tier and tier.gives_way),
        )


def cores_asked(request: Request, site: Site) -> int:
    """Cores that a request comes to, whole nodes counted whole."""
    nodes = max(1, request.nodes or 1)
    cores = (nodes * request.ranks_per_node if request.ranks_per_node else request.ranks) * request.threads
    if request.whole_nodes and request.queues and (queue := site.queue.get(request.queues[0])):
        each = max((site.node[name].cores for name in queue.nodes if name in site.node), default=1)
        cores = max(cores, each * max(nodes, -(-cores // each)))
    return cores


def in_order(jobs: Iterable[Job], usage: RecentUse, orders: Mapping[str, Sequence[int]]) -> list[Job]:
    """Jobs by standing, the highest first, those that give way behind all others.

    Of equals the one submitted earlier comes first, then the lower number.
    """
    found = list(jobs)
    standing: dict[tuple, tuple[bool, float]] = {}  # all but the waiting, which grows alike for all

    def turn(job: Job) -> tuple[bool, float, int, int]:
        request = job.request
        key = (job.user, request.account, request.tier, cores_asked(request, usage.site))
        known = standing.get(key)
        if known is None:
            parts = usage.parts(job, job.submitted_ms)
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
