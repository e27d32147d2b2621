"""Charges and budgets.

A charge is what was held × how long it was held × the tier's factor: cores × milliseconds × thousandths,
rounded down to a core-millisecond once for each attempt. So sums over any grouping agree to the second.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from lazy_quarry.core.job.job import Job, Phase
from lazy_quarry.core.site import Site
from lazy_quarry.core.units import DAY_MS, HOUR_MS, SECOND_MS


@dataclass(frozen=True, slots=True)
class AccountLine:
    """An account's books: core-ms charged to jobs that have ended, to those running, and what is left."""

    account: str
    charged_core_ms: int
    running_core_ms: int
    budget_core_ms: int | None
    jobs: int
    failed: int

    @property
    def left_core_ms(self) -> int | None:
        """What may still be charged; None without a budget."""
        if self.budget_core_ms is None:
            return None
        return self.budget_core_ms - self.charged_core_ms - self.running_core_ms


@dataclass(frozen=True, slots=True)
class Tally:
    """Running sums of one account."""

    charged_core_ms: int = 0
    allocated_core_ms: int = 0
    jobs: int = 0
    failed: int = 0


def allocated_core_ms(job: Job, until_ms: int) -> int:
    """Core-milliseconds that the present attempt has held by this instant."""
    if job.started_ms is None:
        return 0
    return job.cores_allocated * max(0, until_ms - job.started_ms)


def charge(site: Site, tier: str, held: int) -> int:
    """Core-ms charged for so many held, at the tier's factor."""
    known = site.tier.get(tier)
    return held * (known.charge_permille if known else 1000) // 1000


def greatest_charge(site: Site, tier: str, cores: int, walltime_s: int, tasks: int = 1) -> int:
    """Core-ms charged at most: all of the walltime, for all tasks."""
    return tasks * charge(site, tier, cores * walltime_s * SECOND_MS)


def account_lines(site: Site, tallies: dict[str, Tally], jobs: Iterable[Job], now_ms: int) -> tuple[AccountLine, ...]:
    """One line for each account of the site, and for any other that was ever charged."""
    running: dict[str, int] = {}
    for job in jobs:
        if job.phase is Phase.RUNNING:
            spent = charge(site, job.request.tier, allocated_core_ms(job, now_ms))
            running[job.request.account] = running.get(job.request.account, 0) + spent
    names = dict.fromkeys([account.name for account in site.accounts])
    names |= dict.fromkeys(tallies) | dict.fromkeys(running)
    lines = []
    for name in names:
        tally = tallies.get(name, Tally())
        account = site.account.get(name)
        budget = account.budget_core_hours if account else None
        lines.append(
            AccountLine(
                name,
                tally.charged_core_ms,
                running.get(name, 0),
                None if budget is None else budget * HOUR_MS,
                tally.jobs,
                tally.failed,
            )
        )
    return tuple(lines)


def by_day(begin_ms: int, end_ms: int, core_ms: int) -> list[tuple[int, int]]:
    """Core-ms of an attempt dealt to the UTC days it ran in, as (day's first instant, core-ms).

    The parts add up to the whole: what rounding leaves goes to the last day.
    """
    length = end_ms - begin_ms
    if length <= 0:
        return [(end_ms - end_ms % DAY_MS, core_ms)]
    parts, given, day = [], 0, begin_ms - begin_ms % DAY_MS
    while day < end_ms:
        inside = min(day + DAY_MS, end_ms) - max(day, begin_ms)
        part = core_ms * inside // length
        parts.append((day, part))
        given += part
        day += DAY_MS
    parts[-1] = (parts[-1][0], parts[-1][1] + core_ms - given)
    return parts
