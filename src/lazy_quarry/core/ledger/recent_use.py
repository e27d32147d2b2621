"""Who has used how much lately, and how light that use is.

With ``t`` the part of the cluster that an account should get, and ``u`` its part of all recent use, its lightness is
t / (t + u): 1 for no use at all, one half for a use equal to the target, near 0 for ever more. So it is bounded, falls
smoothly, and needs no figure but the target. The users of one account have equal targets. Use loses half of its weight in each
half-life: a day's use counts 2^(−age / half-life), with its age from that day's noon.
"""

from collections.abc import Iterable, Mapping

from lazy_quarry.core.job.job import Job
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import DAY_MS, HOUR_MS

USE_UPDATE_MS = 10 * 60_000
"""Recent use is computed anew so often, by the clock; so it doesn't matter when somebody looks."""
KEPT_DAYS = 90
"""Older use counts for nothing."""

UseByDay = Mapping[str, Mapping[str, Mapping[int, int]]]
"""Core-ms allocated, by account, user and day (the day's first instant)."""


def lightness(target: float, used: float) -> float:
    """t / (t + u), both as parts of a whole; 1 for no use at all."""
    return target / (target + used) if target + used > 0 else 1.0


def weight_at(at_ms: int, day_ms: int, half_life_ms: float) -> float:
    """Weight that the use of a day still has."""
    return float(0.5 ** (max(0, at_ms - day_ms - DAY_MS // 2) / half_life_ms))


def use_updated_at(at_ms: int) -> int:
    """The last instant at which recent use was computed."""
    return at_ms - at_ms % USE_UPDATE_MS


class RecentUse:
    """Who has used how much lately: each account's part of all, each user's part of their account's."""

    def __init__(self, site: Site, recent: UseByDay, running: Iterable[Job], at_ms: int) -> None:
        self.site = site
        at = use_updated_at(at_ms)
        half_life = site.standing.half_life_h * HOUR_MS
        used: dict[str, dict[str, float]] = {}
        known = {day for users in recent.values() for days in users.values() for day in days}
        weights = {day: weight_at(at, day, half_life) for day in known}  # there are many users, and few days
        for account, users in sorted(recent.items()):  # floating sums are the same only in the same order
            mine = used.setdefault(account, {})
            for user, days in sorted(users.items()):
                mine[user] = sum(core_ms * weights[day] for day, core_ms in sorted(days.items()))
        for job in running:
            held = job.cores_allocated * max(0, at - (job.started_ms or at))
            if held:  # a job that has started since changes nothing before the next update
                mine = used.setdefault(job.request.account, {})
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
